"""Did a plain file arrive as the server announced it, and as the user expects it?"""

from collections.abc import Mapping
from pathlib import Path

import msgspec

from mudlark.verify.account import Account
from mudlark.verify.fixity import digest

_LABELS = {"sha256": "SHA-256", "sha512": "SHA-512", "md5": "MD5"}


class Promise(msgspec.Struct, frozen=True):
    """What a file should be. length: bytes announced. stated: digests of the server, by algorithm, in hexadecimal.

    expected: SHA-256 that the user gave. Whatever is None or empty was not promised.
    """

    length: int | None = None
    stated: Mapping[str, str] = msgspec.field(default_factory=dict)
    expected: str | None = None

    def check(self, path: Path, size: int, sha256: str, account: Account) -> None:
        """Compare the finished file; `size` and `sha256` are its own."""
        if self.length is None:
            account.skipped("length", f"{size:,} bytes; the server did not say how many there are")
        elif self.length != size:
            account.failed("length", "length", f"{size:,} bytes came, {self.length:,} were announced", grave=True)
        else:
            account.passed("length", f"{size:,} bytes, as the server announced")
        for algorithm, stated in self.stated.items():
            actual = sha256 if algorithm == "sha256" else digest(path, algorithm)[1]
            _compare(account, "stated-digest", algorithm, actual, stated, "the server states")
        if self.expected:
            _compare(account, "expected-digest", "sha256", sha256, self.expected, "you expect")


def _compare(account: Account, name: str, algorithm: str, actual: str, stated: str, who: str) -> None:
    label = _LABELS[algorithm]
    if actual == stated:
        account.passed(name, f"the {label} is the one that {who}")
    else:
        account.failed(name, "digest", f"The {label} is {actual[:16]}…, not {stated[:16]}… as {who}", grave=True)

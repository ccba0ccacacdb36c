"""ID3 tags, as they stand before sound and among the packets of a stream (informal standard ID3 2.4.0, §3 and §4)."""

from collections.abc import Iterator

_LONGEST = 2_000  # characters of a frame in words
_HEADER = 10
_ENCODINGS = ("latin-1", "utf-16", "utf-16-be", "utf-8")


def tagged(tag: bytes) -> Iterator[tuple[str, str]]:
    """The frames of a tag: name, and what it says in words."""
    end, at = _HEADER + sized(tag[6:_HEADER]), _HEADER
    while at + _HEADER <= min(end, len(tag)) and tag[at : at + 4].isalnum():
        size = sized(tag[at + 4 : at + 8])
        name, content = tag[at : at + 4].decode("ascii"), tag[at + _HEADER : at + _HEADER + size]
        yield name, _words(name, content)[:_LONGEST]
        at += _HEADER + size


def sized(data: bytes | memoryview) -> int:
    """A number of seven bits a byte (§6.2)."""
    return sum((byte & 127) << shift for byte, shift in zip(data, (21, 14, 7, 0), strict=False))


def _words(name: str, content: bytes) -> str:
    """A frame in words: texts as they are, PRIV as its owner with what follows; anything else in hexadecimal."""
    if name == "PRIV":
        owner, _, rest = content.partition(b"\0")
        return f"{owner.decode('latin-1')} {rest.hex()}".strip()
    if name.startswith(("T", "W")) and content:
        encoding = _ENCODINGS[content[0]] if name[0] == "T" and content[0] < 4 else "latin-1"
        text = content[1:] if name[0] == "T" else content
        return " ".join(part for part in text.decode(encoding, "replace").split("\0") if part)
    return content.hex()

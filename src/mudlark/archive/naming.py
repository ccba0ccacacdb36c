"""Names for people: from a title to a folder, from what a server or an address calls a file to a file name."""

import re
import sys
import unicodedata
from urllib.parse import urlsplit

from pathvalidate import sanitize_filename

from mudlark.text import printable
from mudlark.web.address import file_part

_LONGEST = 120  # bytes of UTF-8 of a title: leaves room for an extension, a number and a deep folder everywhere
_LONGEST_FILE = 200  # bytes of UTF-8 of a file name, which most file systems allow 255
_LONGEST_EXTENSION = 16
_SCRIPTS = re.compile(  # what an address ends with that is no file's name
    r"(?:index|master|playlist|manifest|default|video|audio|media|file|files|watch|stream|get|fetch|download|view|show|play"
    r"|asset|item|content|api|embed|player)(?:\.(?:php|aspx?|jsp|cgi|do|html?))?$",
    re.I,
)
_RANDOM = re.compile(r"^(?:[0-9a-f-]{8,}|[0-9_-]+)$", re.I)


def safe_name(title: str) -> str:
    """A title as a name: no reserved characters or names, not hidden, not too long; empty if nothing is left."""
    text = unicodedata.normalize("NFC", printable(title))
    text = re.sub(r"(?<!\s)\s*[/\\|]\s*", " - ", text)
    text = re.sub(r"(?<!\s)\s*:\s+", " - ", text)
    text = " ".join(_sanitized(text).split())
    while len(text.encode()) > _LONGEST:
        shorter = text.rpartition(" ")[0]
        text = shorter if len(shorter.encode()) > _LONGEST // 2 else text[:-1]
    return _sanitized(text.strip(" .-"))


def file_name(name: str) -> str:
    """The name that a file was given, as it is; only what some file system cannot take is replaced. Empty if nothing
    is left."""
    text = unicodedata.normalize("NFC", printable(name.rpartition("/")[2]))
    stem, extension = split_name(text)
    while len((stem + extension).encode()) > _LONGEST_FILE and stem:
        stem = stem[:-1]
    text = _sanitized(stem + extension, "_")
    return text if text.strip("_. ") else ""


def _sanitized(name: str, instead: str = "") -> str:
    """As every file system takes it, in letters that names of files can have here: all of them but in an old locale."""
    text = sanitize_filename(name, instead, platform="universal", fs_encoding="utf-8")
    return text if text == _encodable(text) else "".join(map(_nearest, text))


def _nearest(char: str) -> str:
    return _encodable(char) or _encodable(unicodedata.normalize("NFKD", char)) or "_"


def _encodable(text: str) -> str:
    encoding = sys.getfilesystemencoding()
    return text.encode(encoding, "ignore").decode(encoding)


def split_name(name: str) -> tuple[str, str]:
    """Stem and extension with its dot; what is too long or odd for an extension belongs to the stem."""
    stem, dot, extension = name.rpartition(".")
    if not dot or not stem or len(extension) > _LONGEST_EXTENSION or not re.fullmatch(r"[A-Za-z0-9_-]+", extension):
        return name, ""
    return stem, dot + extension


def own_name(*addresses: str) -> str:
    """The name that an address gives to a file: of the first that has one with an extension, else of the first at all;
    empty if none has. What only a script on a server is called is none."""
    names = [name for name in map(file_part, addresses) if name and not _SCRIPTS.match(name)]
    return next((name for name in names if split_name(name)[1]), names[0] if names else "")


def title_for(*addresses: str) -> str:
    """A title out of addresses: a telling part of one, else the host. Never a random number."""
    for address in addresses:
        for part in [file_part(address), *reversed(urlsplit(address).path.split("/")[:-1])]:
            stem = split_name(part)[0]
            if stem and not _RANDOM.match(stem) and not _SCRIPTS.match(stem) and safe_name(stem):
                return stem
    return f"From {urlsplit(addresses[0]).hostname or 'the web'}"


def numbered(name: str, number: int) -> str:
    """A name for the case that the ones before are taken."""
    return name if number == 1 else f"{name} ({number})"

"""What bytes are, by how they begin. Servers lie and names lack extensions; the first bytes seldom deceive."""

import re

from mudlark.media.forms import FORMS
from mudlark.media.ts_packets import looks_like_transport

_SIGNS = {sign: name for name, form in FORMS.items() for sign in form.signs}
_CHUNKED = {b"WAVE": "wav", b"WEBP": "webp", b"AVI ": "avi", b"AIFF": "aiff", b"AIFC": "aiff"}
_DESCRIPTORS = 0x8001  # where the volume descriptors of a disk image begin (ECMA-119 §6.7.1, ECMA-167 §2/9)
_BOXES = frozenset(b"ftyp styp moov moof mdat free wide skip sidx emsg prft ssix pnot uuid udta".split())
_HEIF = frozenset([b"heic", b"heix", b"heim", b"heis", b"hevc", b"hevx", b"mif1", b"msf1"])  # brands of pictures
_WORDS = frozenset([b"free", b"wide", b"skip", b"uuid"])  # boxes that a text may seem to begin with ("The wide…")
_MPD = re.compile(rb"<(?:[\w.-]{1,100}:)?MPD[\s>/]")  # the root of a DASH manifest, behind comments and a document type
_TTML = re.compile(rb"<(?:[\w.-]{1,100}:)?tt[\s>]")
_SVG = re.compile(
    rb"^(?:<\?xml[^>]{0,200}\?>\s*)?(?:<!--(?:(?!-->).){0,2000}+-->\s*+)*+(?:<!DOCTYPE svg[^>]{0,500}>\s*)?<svg[\s>]",
    re.S,
)
_SRT = re.compile(rb"^\d{1,6}[ \t]*+\r?\n\s*+\d{1,3}:\d\d:\d\d[,.]\d{1,3}\s*-->")
_DEEP_ZOOM = re.compile(rb"<(?:[\w.-]{1,100}:)?Image\s[^>]{0,1000}\bTileSize\s*=")
_CONTEXTS = {
    b"iiif.io/api/presentation/": "iiif",
    b"iiif.io/api/image/": "iiif-image",
    b"/image-api/": "iiif-image",
    b'"TileSize"': "dzi",
}
_HTML = re.compile(rb"<(?:!doctype\s+html|html|head|body|title|meta|script|div|p|a|h1|table|!--)[\s>]", re.I)


def sniff(head: bytes) -> str:
    """One word for what `head` begins: mp4, ts, hls, html, json, iiif, text, unknown, or another format's name."""
    for sign, name in _SIGNS.items():
        if head.startswith(sign):
            return name
    if head[4:8] == b"ftyp" and (picture := _picture_brand(head)):
        return picture
    if head[4:8] in _BOXES and not (head[4:8] in _WORDS and head[:4].isascii() and head[:4].decode().isprintable()):
        return "mp4"
    if looks_like_transport(head):
        return "ts"
    if head[:4] in (b"RIFF", b"RIFX", b"RF64", b"BW64", b"FORM") and len(head) >= 12:
        return _CHUNKED.get(head[8:12], "unknown")
    if len(head) > 2 and head[0] == 0xFF:
        if head[1] & 0xF6 == 0xF0:
            return "adts"
        if head[1] & 0xE0 == 0xE0 and head[1] & 0x06 in (0x02, 0x04) and head[1] & 0x18 != 0x08:
            return "mp3"
    if head[:2] == b"\x0b\x77":
        return "ac3"
    if head[:4] == b"MAC " and head[5:6] in (b"\x0c", b"\x0d", b"\x0e", b"\x0f"):  # of its version, 3.07 to 3.99
        return "ape"
    if head[:2] == b"BM" and head[6:10] == head[15:18] + b"\0" == bytes(
        4
    ):  # what is reserved; a small header behind it
        return "bmp"
    if head[_DESCRIPTORS : _DESCRIPTORS + 5] == b"CD001":
        return "iso"
    if head[_DESCRIPTORS : _DESCRIPTORS + 5] in (b"BEA01", b"NSR02", b"NSR03"):
        return "udf"
    if head[257:262] == b"ustar" or _is_old_tar(head):
        return "tar"
    if head[:2] == b"MZ" and b"\0" in head[:64]:
        return "exe"
    return _sniff_text(head)


def _is_old_tar(head: bytes) -> bool:
    """True for a tar from before it had a sign: the check sum of its first header, which counts as blanks where it
    stands itself, is there in octal digits."""
    stated = head[148:156].strip(b" \0")
    if len(head) < 512 or not stated.isdigit() or stated.strip(b"01234567") or not head[0]:
        return False
    return int(stated, 8) == sum(head[:148]) + 8 * ord(" ") + sum(head[156:512])


def _picture_brand(head: bytes) -> str | None:
    """What a file of boxes holds by its brands (ISO/IEC 14496-12 §4.3, 23008-12 §10), if that is a picture."""
    brands = {head[at : at + 4] for at in (8, *range(16, min(len(head), int.from_bytes(head[:4], "big"), 256), 4))}
    if head[8:12] in (b"avif", b"avis") or (head[8:12] == b"mif1" and b"avif" in brands):
        return "avif"
    return "heif" if head[8:12] in _HEIF else None


def _sniff_text(head: bytes) -> str:
    text = _narrow(head).removeprefix(b"\xef\xbb\xbf").lstrip()[:4096]
    if text.startswith(b"#EXTM3U"):
        return "hls"
    if text.startswith(b"<") and _MPD.search(text):
        return "dash"
    if text.startswith(b"<") and _TTML.search(text):
        return "ttml"
    if text.startswith(b"<") and _DEEP_ZOOM.search(text):
        return "dzi"
    if text.startswith(b"<") and _SVG.search(text):
        return "svg"
    if text.startswith(b"<?xml"):
        return "html" if b"<html" in text.lower() else "xml"
    if _HTML.search(text[:1024]) and b"\0" not in text[:1024]:
        return "html"
    if _SRT.match(text):
        return "srt"
    if text[:1] in (b"{", b"[") and b"\0" not in text:
        return next((name for mark, name in _CONTEXTS.items() if mark in text), "json")
    if text and not any(byte < 9 or 13 < byte < 27 for byte in text):
        return "text"
    return "unknown"


def _narrow(head: bytes) -> bytes:
    """Text in UTF-16 as one byte a character, as far as that goes; anything else as it is."""
    for mark, name in ((b"\xff\xfe", "utf-16"), (b"\xfe\xff", "utf-16"), (b"<\0", "utf-16-le"), (b"\0<", "utf-16-be")):
        if head.startswith(mark):
            return head[: len(head) // 2 * 2].decode(name, "replace").encode("ascii", "replace")
    return head


_OWN = frozenset(form.extension for form in FORMS.values() if form.extension and not form.only_if_none)


def right_extension(form: str, given: str) -> str:
    """The extension for a file of a sniffed format: the given one (with its dot) unless it is missing or lies."""
    known = FORMS.get(form)
    if known is None or not known.extension:
        return given
    if not given:
        return known.extension
    if known.only_if_none:  # behind that of another form, which it is not itself
        return given + known.extension if given.lower() in _OWN else given
    same = given.lower() == known.extension or given.lower().lstrip(".") in known.also.split()
    return given if same else known.extension

"""What names and labels say of size: the height of a film, the cut of a picture, and what is left without them."""

import re
from urllib.parse import parse_qsl, urlsplit

from mudlark.web.address import file_part

_WORDS = {
    "8k": 4320,
    "uhd": 2160,
    "4k": 2160,
    "2k": 1440,
    "fhd": 1080,
    "fullhd": 1080,
    "hd": 720,
    "hq": 720,
    "high": 720,
    "large": 720,
    "sd": 480,
    "medium": 480,
    "standard": 480,
    "mobile": 360,
    "lq": 240,
    "ld": 240,
    "low": 240,
    "small": 240,
}
_SMALLEST, _LARGEST = 100, 4320  # pixels that are a height at all
_LINES = re.compile(r"(?<![\d.])(\d{3,4})\s?[pi](?![a-z])|\b\d{3,4}\s?[x×]\s?(\d{3,4})\b", re.I)
_BARE = re.compile(r"\s*(\d{3,4})\s*$")
_WORD = re.compile(rf"(?<![a-z0-9])({'|'.join(_WORDS)})(?![a-z0-9])", re.I)
_ONLY_QUALITY = re.compile(
    rf"(?:[\W_]|(?<![a-z0-9])(?:{'|'.join(_WORDS)}|full|quality|resolution|definition|version|mp4|webm|m4v|mp3|video|film"
    r"|download|auto|\d{3,4}[pi]?|\d{3,4}[x×]\d{3,4}|\d+(?:[.,]\d+)?\s?[kmg]i?b(?:it)?(?:/s|ps)?|\d{2,5}\s?k)(?![a-z0-9]))+$",
    re.I,
)
_FILM_SIZE = re.compile(
    r"[-_.]?(?<![a-z0-9])(?:\d{3,4}p|(?:144|240|360|480|540|576|720|1080|1440|2160)|\d{3,4}x\d{3,4}|\d{2,5}k(?:bps|bit)?|4k|8k|uhd|fhd|hd|sd|hq|lq|high|low|medium|mobile"
    r"|small|large)(?=[-_./]|$)",
    re.I,
)
_PICTURE_SIZE = re.compile(
    r"[-_.@]?(?:\d{2,4}x\d{2,4}|[1-4]x|thumb(?:nail)?s?|small|tiny|medium|large|preview|mini|full|original|scaled|[sml])"
    r"(?=[-_.]|$)|(?<=/)(?:thumbs?|thumbnails?|small|medium|large|preview|full|original|originals)/",
    re.I,
)
_CUT = re.compile(  # a part of a path that only says how a picture is cut
    r"\d{1,4}:\d{1,4}|\d{2,4}x(?:\d{2,4})?|x\d{2,4}|master|pass|fit-in|smart|scale|crop|resize|max|auto"
    r"|(?:w|h|q|c|f|g|s|ar|dpr|width|height|quality|size|fit|crop)[-_=:][\w:.%-]+"
    r"(?:,(?:w|h|q|c|f|g|s|ar|dpr|width|height|quality|size|fit|crop)[-_=:][\w:.%-]+)*",
    re.I,
)
_CUT_NAMES = frozenset(
    [
        "w",
        "h",
        "q",
        "s",
        "width",
        "height",
        "quality",
        "size",
        "fit",
        "crop",
        "auto",
        "format",
        "fm",
        "dpr",
        "resize",
        "rect",
        "ar",
        "scale",
        "strip",
        "sharpen",
        "blur",
        "gravity",
        "compress",
        "cs",
        "zoom",
        "maxwidth",
        "maxheight",
    ]
)
_BOX = re.compile(r"(?<!\d)(\d{2,4})x(\d{2,4})(?!\d)")
_WIDTH = re.compile(r"(?:^|[/?&,])(?:w|width|maxwidth|resize|size)[-_=:](\d{2,4})(?!\d)|/(\d{2,4})x/", re.I)
_SMALLER = re.compile(r"thumb|small|tiny|preview|mini|medium", re.I)
_SAYS_NOTHING = re.compile(
    r"\b(?:downloads?|files?|links?|here|click|view|open|get|play|watch|listen|read|more|now|free|direct|save|as|the|a|in|to"
    r"|pdf|epub|docx?|xlsx?|pptx?|csv|zip|mp[34]|webm|ogg|m4[av]|mov|mkv|wav|flac|jpe?g|png|gif|txt|iso"
    r"|full|hd|sd|uhd|fhd|hq|lq|high|low|medium|mobile|small|large|quality|resolution|version|format|video|audio|film"
    r"|[kmg]i?b(?:it)?s?|bytes?|\d+[pki]?|\d+x\d+)\b|[\W_\d]",
    re.I,
)


def stated_height(text: str | None) -> int | None:
    """The height of a film in pixels that a label, an attribute or a name states: 1080p, 1920x1080, HD, or a number."""
    if not text:
        return None
    match = _LINES.search(text[:200]) or _BARE.match(text)
    if match:
        number = int(next(group for group in match.groups() if group))
        return number if _SMALLEST <= number <= _LARGEST else None
    squeezed = re.sub(r"full[\s_-]?hd", "fullhd", text[:200], flags=re.I)
    word = _WORD.search(squeezed)
    return _WORDS[word[1].lower()] if word else None


def is_telling(label: str | None) -> bool:
    """True for a label that says what something is, not only what format, quality or size it has."""
    return bool(label and len(_SAYS_NOTHING.sub("", label)) >= 3)


def is_only_quality(label: str | None) -> bool:
    """True for a label that says nothing but a quality: `HD`, `720p (MP4)`, `Low quality, 12 MB`."""
    return bool(label and len(label) < 80 and stated_height(label) and _ONLY_QUALITY.match(label))


def film_stem(url: str) -> str:
    """What is the same in the addresses of all sizes of a film; the extension counts."""
    path = url.partition("?")[0].partition("://")[2]
    return re.sub("/+", "/", _FILM_SIZE.sub("", path)).lower()


def has_film_size(url: str) -> bool:
    """True if the name of a film states a size."""
    return bool(_FILM_SIZE.search(url.partition("?")[0].partition("://")[2]))


def picture_stem(url: str) -> str:
    """What is the same in the addresses of all sizes and cuts of a picture."""
    parts = urlsplit(url)
    *folders, name = parts.path.split("/")
    kept = "/".join(folder for folder in folders if not _CUT.fullmatch(folder))
    pairs = parse_qsl(parts.query, keep_blank_values=True) if parts.query else []
    query = "&".join(f"{name}={value}" for name, value in pairs if name.lower() not in _CUT_NAMES)
    return f"{parts.netloc}{_PICTURE_SIZE.sub('', kept + '/')}{_PICTURE_SIZE.sub('', name)}?{query}".lower()


def picture_limit(url: str) -> tuple[int, int]:
    """How large a picture claims to be, for comparing: unlimited, else its dimensions, else small."""
    name = file_part(url)
    if match := _BOX.search(name) or _BOX.search(url):
        return 1, int(match[1]) * int(match[2])
    if match := _WIDTH.search(url):
        width = int(match[1] or match[2])
        return 1, width * width
    return (0, 0) if _SMALLER.search(url.partition("://")[2]) else (2, 0)

"""What an address probably holds, by its type if one is stated, else by the extension of its path."""

import re
from urllib.parse import parse_qsl

from mudlark.find.model import Kind
from mudlark.media.forms import FORMS

_EXTENSIONS: dict[Kind, str] = {
    "hls": "m3u8",
    "dash": "mpd",
    "video": "mp4 m4v mov qt webm mkv ogv avi divx mpg mpeg m1v m2v vob wmv asf flv f4v 3gp 3g2 mxf dv rm rmvb asx wvx",
    "audio": "mp3 mp2 m4a m4b m4r aac ogg oga opus spx wav bwf flac weba mka aiff aif aifc au snd caf ac3 eac3 wma amr"
    " mid midi ape wv tta tak mpc dsf dff ra m3u pls ram wax",
    "image": "jpg jpeg jfif png gif webp avif heic heif jxl svg svgz tif tiff bmp jp2",
    "subtitle": "vtt srt ttml dfxp",
    "document": "pdf epub djvu doc docx docm odt rtf xls xlsx xlsm ods csv tsv ppt pptx pps ppsx odp odg ott ots otp ps"
    " eps mobi azw3 fb2 cbz cbr dzi geojson kml gpx gml topojson",
    "package": "zip gz tgz bz2 tbz2 xz txz zst lzma 7z rar tar iso dmg img exe msi apk deb rpm pkg jar cab vhd vhdx"
    " vmdk qcow2 ova warc kmz gpkg shp",
}
_BY_EXTENSION = {extension: kind for kind, extensions in _EXTENSIONS.items() for extension in extensions.split()}
_SEGMENTS = frozenset({"ts", "m4s", "cmfv", "cmfa"})
FAMILIES: dict[str, Kind] = {"video": "video", "audio": "audio", "image": "image"}
_BY_TYPE: dict[str, Kind] = {
    **{
        form.media_type: form.category
        for form in FORMS.values()
        if form.media_type and form.category and form.extension
    },
    "application/x-mpegurl": "hls",
    "audio/mpegurl": "hls",
    "audio/x-mpegurl": "hls",
    "application/epub+zip": "document",
    "application/msword": "document",
    "application/rtf": "document",
    "text/csv": "document",
    "text/tab-separated-values": "document",
    "application/geo+json": "document",
    "application/gml+xml": "document",
    "application/gpx+xml": "document",
    "application/x-gzip": "package",
    "application/x-xz": "package",
    "application/x-bzip2": "package",
    "application/vnd.rar": "package",
    "application/x-iso9660-image": "package",
    "application/vnd.debian.binary-package": "package",
}
_OFFICE = (
    "application/vnd.openxmlformats-officedocument.",
    "application/vnd.oasis.opendocument.",
    "application/vnd.ms-",
)
FEEDS = frozenset({"application/rss+xml", "application/atom+xml", "application/feed+json"})
_PROGRAMS = frozenset({"", "php", "php5", "phtml", "asp", "aspx", "ashx", "jsp", "do", "cgi", "pl", "cfm", "py", "dll"})
_SENT = re.compile(
    r"(?:.*[-_.])?(?:file(?:_?name)?|f|fn|id|name|path|src|source|media|video|audio|film|clip|doc|pdf|dl|download)",
    re.I,
)
_SENDS = re.compile(
    r"/[^/?#]+\.([A-Za-z0-9]{2,5})/(?:at_)?(?:download|file|content|raw|original|stream)(?:/file)?/?(?=[?#]|$)"
)
_PACKAGED = re.compile(r"\.isml?/(?:\.|manifest\(.{0,200}?format=)(m3u8|mpd)", re.I)
_WORD = re.compile(r"[A-Z]?[a-z]+\d?|[A-Z]+\d?")
_BY_WORD: dict[str, Kind] = {
    **dict.fromkeys(("hls", "m3u8"), "hls"),
    **dict.fromkeys(("dash", "mpd"), "dash"),
    **dict.fromkeys(("video", "film", "movie", "stream", "media", "playback", "mp4", "webm"), "video"),
    **dict.fromkeys(("audio", "sound", "podcast", "mp3", "ogg"), "audio"),
}
_BESIDE = re.compile(
    r"thumb|poster|image|picture|cover|preview|page|share|embed|watch|player|licen[cs]e|caption|subtitle|track|login|upload",
    re.I,
)
_ADDRESS = re.compile(r"url|uri|src|source|file|href|path|address|link|manifest|playlist")
_SHOWS = re.compile(r"(?:watch|play|view|show|embed|share|index)[^/]*$", re.I)


def _suffix(address: str) -> str:
    """The extension of the path, in lower case and without its dot; what follows a semicolon (RFC 3986 §3.3) aside."""
    path = address.partition("?")[0].partition("#")[0]
    name = path.rpartition("/")[2]
    before = name.partition(";")[0]
    stem, dot, suffix = (before if "." in before else name).rpartition(".")
    if "//" in path[:9] and path.count("/") < 3:
        return ""  # a bare host
    return suffix.lower() if dot and stem else ""


def kind_of_sent(address: str) -> Kind | None:
    """The kind of the file that a program is told to send: `/get.php?file=film.mp4`, `/film.mp4/download`."""
    if sent := _SENDS.search(address):
        return _BY_EXTENSION.get(sent[1].lower())
    path, asked, query = address.partition("#")[0].partition("?")
    if not asked or _suffix(path) not in _PROGRAMS or _SHOWS.search(path):
        return None
    named = (value for name, value in parse_qsl(query) if _SENT.fullmatch(name) and "://" not in value)
    return next(filter(None, (_BY_EXTENSION.get(_suffix(f"/{value}")) for value in named)), None)


def kind_by_key(name: str, address: str) -> Kind | None:
    """The kind that the name of a value makes of it, like `hlsUrl` or `data-mp4`, where its address says nothing."""
    if _suffix(address) not in _PROGRAMS:
        return None
    words = [word.lower() for word in _WORD.findall(name)]
    told = [_BY_WORD[word] for word in words if word in _BY_WORD]
    if not told or _BESIDE.search(name) or not (words[-1] in _BY_WORD or _ADDRESS.fullmatch(words[-1])):
        return None
    return told[0]


def kind_by_extension(address: str) -> Kind | None:
    """The kind that the path's extension stands for, or the form that addresses of a standard have."""
    return _BY_EXTENSION.get(_suffix(address)) or _described(address) or _packaged(address)


def _packaged(address: str) -> Kind | None:
    """Playlists that a server makes of what it has: `film.ism/manifest(format=m3u8-aapl)`."""
    asked = _PACKAGED.search(address)
    return None if asked is None else "hls" if asked[1].lower().startswith("m3u8") else "dash"


def _described(address: str) -> Kind | None:
    """Documents and pictures by IIIF, as their addresses usually are."""
    path = address.partition("?")[0].partition("#")[0]
    if not path.endswith(("/manifest.json", "/manifest", "/info.json")) or "iiif" not in path.lower():
        return None
    return "document"


def is_segment(address: str) -> bool:
    """True if the extension is one that only segments have; a lone one may be anything."""
    return _suffix(address) in _SEGMENTS


def is_foreign(address: str, media_type: str | None) -> bool:
    """True for sound or film by its media type, of a form that neither that nor the extension is known to stand for."""
    essence = (media_type or "").partition(";")[0].strip().lower()
    own = essence.startswith(("audio/", "video/")) and essence not in _BY_TYPE
    return own and _suffix(address) not in _BY_EXTENSION


def kind_by_type(media_type: str | None) -> Kind | None:
    """The kind that a media type stands for."""
    if not media_type:
        return None
    essence = media_type.partition(";")[0].strip().lower()
    if "iiif.io/api/presentation" in media_type:
        return "document"
    if essence.startswith(_OFFICE):
        return "document"
    return _BY_TYPE.get(essence) or FAMILIES.get(essence.partition("/")[0])

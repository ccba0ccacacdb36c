"""What an address probably holds, by its type if one is stated, else by the extension of its path."""

from mudlark.find.model import Kind

_EXTENSIONS: dict[Kind, str] = {
    "hls": "m3u8",
    "dash": "mpd",
    "video": "mp4 m4v mov webm mkv ogv avi mpg mpeg wmv flv 3gp",
    "audio": "mp3 m4a aac ogg oga opus wav flac weba aiff",
    "image": "jpg jpeg png gif webp avif svg tif tiff bmp jp2",
    "subtitle": "vtt srt ttml dfxp",
    "document": "pdf epub djvu doc docx odt",
    "package": "zip gz tgz bz2 xz 7z rar tar iso dmg img exe msi apk deb rpm pkg",
}
_BY_EXTENSION = {extension: kind for kind, extensions in _EXTENSIONS.items() for extension in extensions.split()}
_SEGMENTS = frozenset({"ts", "m4s", "cmfv", "cmfa"})
FAMILIES: dict[str, Kind] = {"video": "video", "audio": "audio", "image": "image"}
_BY_TYPE: dict[str, Kind] = {
    "application/vnd.apple.mpegurl": "hls",
    "application/x-mpegurl": "hls",
    "audio/mpegurl": "hls",
    "audio/x-mpegurl": "hls",
    "application/dash+xml": "dash",
    "text/vtt": "subtitle",
    "application/ttml+xml": "subtitle",
    "application/pdf": "document",
    "application/zip": "package",
    "application/x-iso9660-image": "package",
    "application/vnd.debian.binary-package": "package",
}


def _suffix(address: str) -> str:
    """The extension of the path, in lower case and without its dot."""
    path = address.partition("?")[0].partition("#")[0]
    name = path.rpartition("/")[2]
    stem, dot, suffix = name.rpartition(".")
    if "//" in path[:9] and path.count("/") < 3:
        return ""  # a bare host
    return suffix.lower() if dot and stem else ""


def kind_by_extension(address: str) -> Kind | None:
    """The kind that the path's extension stands for."""
    return _BY_EXTENSION.get(_suffix(address))


def is_segment(address: str) -> bool:
    """True if the extension is one that only segments have; a lone one may be anything."""
    return _suffix(address) in _SEGMENTS


def kind_by_type(media_type: str | None) -> Kind | None:
    """The kind that a media type stands for."""
    if not media_type:
        return None
    essence = media_type.partition(";")[0].strip().lower()
    return _BY_TYPE.get(essence) or FAMILIES.get(essence.partition("/")[0])

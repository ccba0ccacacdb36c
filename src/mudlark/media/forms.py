"""The kinds of files, one row each: how they begin and are named, what they are called in registries, and what proves
them whole.

Whoever asks what a file is, what its name should end with, whether a browser plays it, or what it takes for it to be
sound, asks this table; docs/verification.md is made of it. Media types are those of IANA, identifiers those of PRONOM.
"""

from typing import Literal

import msgspec

Category = Literal["video", "audio", "image", "hls", "dash", "subtitle", "document", "package"]
FROM_OUTSIDE = "the manifest's length, the server's length, or a digest"


class FileForm(msgspec.Struct, frozen=True):
    """title: for people. category: what a find of it is; None for what is none by itself.

    signs: how its first bytes begin, where that is all it takes (the others are told by `sniff`). extension: its usual
    one, with the dot; also: others that name the same, or something that is the same inside. only_if_none: the usual
    one is put only where a name has none, as many kinds of files are one of these inside. named: names with these
    extensions promise it.
    media_type, pronom: None where there is none, or where more than the first bytes must be known.
    player_type: what a browser is told that it is, empty if none plays it. text: it is read whole, as a page is.
    covers, promises: what of its bytes and of what it states is looked into; empty where it is not. end: what proves
    where it ends; empty where nothing here does.
    """

    title: str
    category: Category | None = None
    signs: tuple[bytes, ...] = ()
    extension: str = ""
    also: str = ""
    only_if_none: bool = False
    named: str = ""
    media_type: str | None = None
    pronom: str | None = None
    player_type: str = ""
    text: bool = False
    covers: str = ""
    promises: str = ""
    end: str = ""


_CHAIN = "frames of {} follow each other from the first byte to the last, tags and zeros behind aside"
_NO_ZEROS = "no long run of zeros in its coded data"
_CONTAINER = "none of what is inside; its container fits the file"

FORMS: dict[str, FileForm] = {
    "mp4": FileForm(
        "MP4, CMAF, QuickTime",
        "video",
        extension=".mp4",
        also="m4v m4a m4b m4r mov qt 3gp 3g2 f4v cmfv cmfa m4s",
        named="mp4 m4v m4a m4b m4r mov 3gp 3g2 f4v",
        media_type="video/mp4",
        pronom="fmt/199",
        player_type="video/mp4",
        covers="boxes; samples that its tables name and that look like their codec, no long run of zeros in them;"
        " free space. Media data that no table names, and tracks of what is not read, are said with their number",
        promises="sizes of boxes; `mvhd`, `mdhd`, `mehd`, `sidx`; what decoders must know; each sample inside of the"
        " media data, none over another; times rise, without gaps; picture and sound together",
        end=f"`moov` with all samples inside; in fragments `mehd`, `sidx` or `mfra`, else {FROM_OUTSIDE}",
    ),
    "matroska": FileForm(
        "Matroska, WebM",
        "video",
        signs=(b"\x1aE\xdf\xa3", b"\x1fC\xb6u"),  # the second is a cluster alone
        extension=".mkv",
        also="webm mka mks",
        named="mkv mka webm",
        media_type="video/matroska",
        pronom="fmt/569",
        player_type="video/webm",
        covers="elements; frames that look like their codec, no long run of zeros in them; void elements. Tracks of"
        " what is not read are said with their number",
        promises="sizes of the segment, clusters and blocks; the seek head, the cues, CRC-32; what decoders must know;"
        " the duration; times rise, without gaps",
        end=f"the segment's size; of unknown size its duration, else {FROM_OUTSIDE}",
    ),
    "flv": FileForm(
        "FLV",
        "video",
        signs=(b"FLV\1",),
        extension=".flv",
        named="flv",
        media_type="video/x-flv",
        pronom="x-fmt/382",
        covers="tags from the first byte to the last, each with the size that stands behind it; frames that look like"
        " their codec, no long run of zeros in them. Codecs that are not read are said with their number",
        promises="the duration and the file size of its description; times rise, without gaps",
        end=f"the file size or the duration of its description, else {FROM_OUTSIDE}",
    ),
    "avi": FileForm(
        "AVI, OpenDML",
        "video",
        extension=".avi",
        also="divx",
        named="avi",
        media_type="video/vnd.avi",
        pronom="fmt/5",
        covers="chunks from the first byte to the last; pictures and frames of sound that look like their codec;"
        " padding. Sound whose frames do not begin where chunks do can be anything, as can what is not coded",
        promises="sizes of chunks and lists; as many pictures and as much sound as each stream states; the index",
        end="the sizes of its parts",
    ),
    "ts": FileForm(
        "MPEG transport stream (packets of 188, 192 and 204 bytes)",
        "video",
        extension=".ts",
        also="m2ts mts mpegts",
        media_type="video/mp2t",
        pronom="fmt/585",
        player_type="video/mp2t",
        covers="packets from the first byte to the last, none missing of any stream, known or not (continuity"
        " counters); read to their samples as for a film. Streams that no reader reads are said with their number",
        promises="check sums of the tables; gaps in the times",
        end=FROM_OUTSIDE,
    ),
    "program": FileForm(
        "MPEG program stream (MPEG-1, MPEG-2, VOB)",
        "video",
        signs=(b"\0\0\1\xba",),
        extension=".mpg",
        also="mpeg vob m2p dat mod",
        named="mpg mpeg",
        media_type="video/MP2P",
        pronom="x-fmt/386",
        covers="packs and packets from the first byte to the last; slices of every row of each picture of MPEG-2,"
        " frames of MPEG audio and AC-3 that follow each other, no long run of zeros in them. Other streams are said"
        " with their number",
        promises="the lengths of packets",
        end=f"the end code, else {FROM_OUTSIDE}",
    ),
    "asf": FileForm(
        "ASF (WMV, WMA)",
        "video",
        signs=(b"\x30\x26\xb2\x75\x8e\x66\xcf\x11\xa6\xd9\x00\xaa\x00\x62\xce\x6c",),
        extension=".asf",
        also="wmv wma",
        media_type="application/vnd.ms-asf",
        pronom="fmt/131",
    ),
    "mp3": FileForm(
        "MP3, MP2",
        "audio",
        signs=(b"ID3",),
        extension=".mp3",
        named="mp3",
        media_type="audio/mpeg",
        pronom="fmt/134",
        player_type="audio/mpeg",
        covers=_CHAIN.format("MPEG audio"),
        promises="as many frames as the first states (Xing, Info, VBRI)",
        end=f"the count of the first frame, else {FROM_OUTSIDE}",
    ),
    "adts": FileForm(
        "AAC in ADTS",
        "audio",
        extension=".aac",
        media_type="audio/aac",
        player_type="audio/aac",
        covers=_CHAIN.format("AAC"),
        end=FROM_OUTSIDE,
    ),
    "ac3": FileForm(
        "AC-3, E-AC-3",
        "audio",
        extension=".ac3",
        media_type="audio/ac3",
        pronom="fmt/735",
        player_type="audio/ac3",
        covers=_CHAIN.format("AC-3"),
        promises="the check sum of each frame",
        end=FROM_OUTSIDE,
    ),
    "flac": FileForm(
        "FLAC",
        "audio",
        signs=(b"fLaC",),
        extension=".flac",
        named="flac",
        media_type="audio/flac",
        pronom="fmt/279",
        player_type="audio/flac",
        covers="metadata blocks, then frames from the first byte to the last, tags aside",
        promises="both check sums of each frame, and the number that comes next; the number of samples; the MD5 of the"
        " decoded sound",
        end=f"the number of samples, else {FROM_OUTSIDE}",
    ),
    "ogg": FileForm(
        "Ogg (Opus, Vorbis, FLAC, Speex, Theora), also chained",
        "audio",
        signs=(b"OggS",),
        extension=".ogg",
        also="oga ogv opus spx",
        named="ogg oga ogv opus spx",
        media_type="audio/ogg",
        pronom="fmt/944",
        player_type="audio/ogg",
        covers="pages from the first byte to the last",
        promises="the check sum and the number of each page; the headers that its streams begin with (Opus, Vorbis,"
        " Theora)",
        end="the last page of each stream",
    ),
    "wav": FileForm(
        "WAV (RIFF, RF64, BW64)",
        "audio",
        extension=".wav",
        also="wave bwf rf64",
        named="wav",
        media_type="audio/vnd.wave",
        pronom="fmt/6",
        player_type="audio/wav",
        covers="chunks from the first byte to the last; the sound itself, which is not coded, can be anything. Codings"
        " that are not known are said with their number",
        promises="sizes of the file, of its chunks and of the sound; channels, bits and rate fit each other",
        end="the size that it states",
    ),
    "aiff": FileForm(
        "AIFF, AIFC",
        "audio",
        extension=".aif",
        also="aiff aifc",
        named="aif aiff aifc",
        media_type="audio/aiff",
        pronom="fmt/414",
        player_type="audio/aiff",
        covers="chunks from the first byte to the last; the sound itself, which is not coded, can be anything",
        promises="sizes of the chunks, and the number of samples",
        end="the size that it states",
    ),
    "mxf": FileForm(
        "MXF",
        "video",
        signs=(b"\x06\x0e\x2b\x34\x02\x05\x01\x01\x0d\x01\x02\x01\x01\x02",),
        extension=".mxf",
        media_type="application/mxf",
        pronom="fmt/200",
    ),
    "dv": FileForm(
        "DV", "video", signs=(b"\x1f\x07\0\x3f", b"\x1f\x07\0\xbf"), extension=".dv", also="dif", media_type="video/DV"
    ),
    "mpeg": FileForm(
        "MPEG video alone", "video", signs=(b"\0\0\1\xb3",), extension=".m2v", also="m1v mpv mpg mpeg", named="mpg mpeg"
    ),
    "realmedia": FileForm(
        "RealMedia",
        "video",
        signs=(b".RMF", b".ra\xfd"),
        extension=".rm",
        also="rmvb ra rv",
        media_type="application/vnd.rn-realmedia",
    ),
    "au": FileForm("AU", "audio", signs=(b".snd\0\0",), extension=".au", also="snd", media_type="audio/basic"),
    "caf": FileForm("CAF", "audio", signs=(b"caff\0\1",), extension=".caf"),
    "w64": FileForm("Wave64", "audio", signs=(b"riff\x2e\x91\xcf\x11\xa5\xd6",), extension=".w64"),
    "amr": FileForm("AMR", "audio", signs=(b"#!AMR",), extension=".amr", also="awb", media_type="audio/AMR"),
    "midi": FileForm(
        "MIDI", "audio", signs=(b"MThd\0\0\0\6",), extension=".mid", also="midi kar", media_type="audio/midi"
    ),
    "ape": FileForm("Monkey's Audio", "audio", extension=".ape"),
    "wavpack": FileForm("WavPack", "audio", signs=(b"wvpk",), extension=".wv"),
    "tta": FileForm("TTA", "audio", signs=(b"TTA1\1\0", b"TTA2\1\0"), extension=".tta"),
    "tak": FileForm("TAK", "audio", signs=(b"tBaK",), extension=".tak"),
    "musepack": FileForm("Musepack", "audio", signs=(b"MPCKSH", b"MP+\7", b"MP+\x17"), extension=".mpc", also="mpp"),
    "optimfrog": FileForm(
        "OptimFROG", "audio", signs=(b"OFR \x0c\0\0\0", b"OFR \x0f\0\0\0"), extension=".ofr", also="ofs"
    ),
    "dsf": FileForm("DSD stream file", "audio", signs=(b"DSD \x1c\0\0\0",), extension=".dsf"),
    "dff": FileForm("DSD interchange file", "audio", signs=(b"FRM8",), extension=".dff"),
    "png": FileForm(
        "PNG",
        "image",
        signs=(b"\x89PNG\r\n",),
        extension=".png",
        named="png",
        media_type="image/png",
        covers="chunks from the first byte to the last; every line of pixels, each with a filter that there is",
        promises="the check sum of each chunk and of the pixels; as many pixels as it states",
        end="IEND",
    ),
    "jpeg": FileForm(
        "JPEG",
        "image",
        signs=(b"\xff\xd8\xff",),
        extension=".jpg",
        also="jpeg jpe jfif",
        named="jpg jpeg",
        media_type="image/jpeg",
        covers=f"every part from the first byte to the last; decoded without a warning of libjpeg; {_NO_ZEROS}",
        promises="as many lines and columns as it states",
        end="EOI",
    ),
    "gif": FileForm(
        "GIF",
        "image",
        signs=(b"GIF8",),
        extension=".gif",
        named="gif",
        media_type="image/gif",
        covers="every part from the first byte to the last; decoded, all frames of it",
        promises="decoded to its last frame",
        end="the trailer",
    ),
    "webp": FileForm(
        "WebP",
        "image",
        extension=".webp",
        named="webp",
        media_type="image/webp",
        covers=f"chunks from the first byte to the last; decoded, all frames of it; {_NO_ZEROS}",
        promises="sizes of the file and of its chunks",
        end="the size that it states",
    ),
    "avif": FileForm(
        "AVIF",
        "image",
        extension=".avif",
        media_type="image/avif",
        covers=f"boxes from the first byte to the last; decoded, all frames of it; {_NO_ZEROS}",
        promises="sizes of the boxes",
        end="`meta` with all items inside",
    ),
    "jp2": FileForm(
        "JPEG 2000",
        "image",
        signs=(b"\0\0\0\x0cjP  \r\n\x87\n",),
        extension=".jp2",
        also="jpx jpf",
        media_type="image/jp2",
        pronom="x-fmt/392",
    ),
    "j2k": FileForm(
        "JPEG 2000 alone",
        "image",
        signs=(b"\xff\x4f\xff\x51",),
        extension=".j2k",
        also="j2c jpc",
        media_type="image/j2c",
    ),
    "jxl": FileForm(
        "JPEG XL",
        "image",
        signs=(b"\0\0\0\x0cJXL \r\n\x87\n", b"\xff\x0a"),
        extension=".jxl",
        media_type="image/jxl",
    ),
    "bmp": FileForm(
        "BMP",
        "image",
        extension=".bmp",
        also="dib",
        named="bmp",
        media_type="image/bmp",
        covers="every line of pixels, which can be anything",
        promises="the size of the file, where it is stated; as many pixels as it states",
        end="the size that it states",
    ),
    "heif": FileForm("HEIF, HEIC", "image", extension=".heic", also="heif hif", media_type="image/heif"),
    "tiff": FileForm(
        "TIFF",
        "image",
        signs=(b"II*\0", b"MM\0*", b"II+\0"),
        extension=".tif",
        also="tiff dng nef cr2 arw",
        media_type="image/tiff",
        pronom="fmt/353",
        covers="what its directories name, decoded, all pictures of it; other bytes can be anything",
        promises="places and sizes of strips and tiles",
        end="the last strip or tile that is named",
    ),
    "svg": FileForm(
        "SVG",
        "image",
        extension=".svg",
        also="svgz",
        media_type="image/svg+xml",
        covers="well-formed from the first byte to the last",
        end="the end tag of its root",
    ),
    "webvtt": FileForm(
        "WebVTT",
        "subtitle",
        signs=(b"WEBVTT", b"\xef\xbb\xbfWEBVTT"),
        extension=".vtt",
        media_type="text/vtt",
        covers="every block, whether it is a cue or not",
        promises="times of the cues",
        end=FROM_OUTSIDE,
    ),
    "srt": FileForm(
        "SubRip",
        "subtitle",
        extension=".srt",
        media_type="application/x-subrip",
        covers="every block, whether it is a cue or not",
        promises="times of the cues",
        end=FROM_OUTSIDE,
    ),
    "ttml": FileForm(
        "TTML",
        "subtitle",
        extension=".ttml",
        media_type="application/ttml+xml",
        covers="well-formed from the first byte to the last",
        promises="times of the cues",
        end="the end tag of its root",
    ),
    "pdf": FileForm(
        "PDF",
        "document",
        signs=(b"%PDF-",),
        extension=".pdf",
        named="pdf",
        media_type="application/pdf",
        covers="the objects that its cross references lead to: packed streams to their check sums, pictures to their"
        " ends; what stands in plain text can be anything",
        promises="every entry of the cross references, and the objects of every page",
        end="`%%EOF` behind an intact cross reference",
    ),
    "zip": FileForm(
        "ZIP, EPUB, office files",
        "package",
        signs=(b"PK\x03\x04", b"PK\x05\x06"),
        extension=".zip",
        also="docx xlsx pptx odt ods odp epub apk jar xpi cbz kmz ipa whl",
        named="zip epub docx xlsx pptx odt ods odp",
        media_type="application/zip",
        pronom="x-fmt/263",
        covers="members, their headers and the directory; bytes between them are said",
        promises="the size and check sum of each member",
        end="the end of the central directory",
    ),
    "gzip": FileForm(
        "gzip",
        "package",
        signs=(b"\x1f\x8b\x08",),
        extension=".gz",
        only_if_none=True,
        named="gz tgz",
        media_type="application/gzip",
        pronom="x-fmt/266",
        covers="unpacked from the first byte to the last",
        promises="size and check sum of what is inside",
        end="its trailer",
    ),
    "bzip2": FileForm(
        "bzip2",
        "package",
        signs=(b"BZh",),
        extension=".bz2",
        only_if_none=True,
        named="bz2 tbz2",
        media_type="application/x-bzip2",
        pronom="x-fmt/268",
        covers="unpacked from the first byte to the last",
        promises="the check sums of its blocks",
        end="the end of its stream",
    ),
    "xz": FileForm(
        "xz",
        "package",
        signs=(b"\xfd7zXZ\0",),
        extension=".xz",
        only_if_none=True,
        named="xz txz",
        media_type="application/x-xz",
        pronom="fmt/1098",
        covers="unpacked from the first byte to the last",
        promises="the check sums of its blocks and of its index",
        end="its footer",
    ),
    "tar": FileForm(
        "tar",
        "package",
        extension=".tar",
        only_if_none=True,
        named="tar",
        media_type="application/x-tar",
        pronom="x-fmt/265",
        covers="headers, and as many bytes behind each as it states, which can be anything",
        promises="the check sum of each header",
        end="its blocks of zeros",
    ),
    "json": FileForm(
        "JSON",
        extension=".json",
        media_type="application/json",
        text=True,
        covers="read from the first byte to the last, in UTF-8",
        end="the end of its value",
    ),
    "iso": FileForm(
        "disk image (ISO 9660)",
        "package",
        extension=".iso",
        only_if_none=True,
        named="iso",
        media_type="application/vnd.efi.iso",
        pronom="fmt/468",
        covers="none of what is inside; as many bytes as its volume states",
    ),
    "udf": FileForm(
        "disk image (UDF)",
        "package",
        named="iso",
        covers="none of what is inside; as many bytes as its volume states",
    ),
    "exe": FileForm(
        "installer (PE)",
        "package",
        extension=".exe",
        only_if_none=True,
        named="exe",
        covers=_CONTAINER,
    ),
    "deb": FileForm("installer (deb)", "package", signs=(b"!<arch>\ndebian",), named="deb", covers=_CONTAINER),
    "rpm": FileForm("installer (rpm)", "package", signs=(b"\xed\xab\xee\xdb",), named="rpm", covers=_CONTAINER),
    "cab": FileForm("installer (cab)", "package", signs=(b"MSCF\0\0\0\0",), named="cab", covers=_CONTAINER),
    "7z": FileForm(
        "7z",
        "package",
        signs=(b"7z\xbc\xaf\x27\x1c",),
        extension=".7z",
        only_if_none=True,
        named="7z",
        media_type="application/x-7z-compressed",
        pronom="fmt/484",
    ),
    "rar": FileForm("RAR", "package", signs=(b"Rar!\x1a\x07",), extension=".rar", only_if_none=True, named="rar"),
    "elf": FileForm("program (ELF)", "package", signs=(b"\x7fELF",)),
    "vhd": FileForm("disk image (VHD)", "package", signs=(b"conectix",)),
    "vmdk": FileForm("disk image (VMDK)", "package", signs=(b"KDMV",)),
    "qcow2": FileForm("disk image (qcow2)", "package", signs=(b"QFI\xfb",)),
    "hls": FileForm("HLS playlist", "hls", extension=".m3u8", media_type="application/vnd.apple.mpegurl", text=True),
    "dash": FileForm("DASH manifest", "dash", extension=".mpd", media_type="application/dash+xml", text=True),
    "iiif": FileForm("IIIF manifest", "document", media_type="application/ld+json", text=True),
    "iiif-image": FileForm("IIIF image description", "document", text=True),
    "dzi": FileForm("Deep Zoom description", "document", text=True),
    "html": FileForm("web page", extension=".html", media_type="text/html", text=True),
    "xml": FileForm("XML", text=True),
    "text": FileForm("text", text=True),
}


def forms_of(category: Category) -> frozenset[str]:
    """The names of all forms of one category."""
    return frozenset(name for name, form in FORMS.items() if form.category == category)


PICTURES = frozenset(name for name in forms_of("image") - {"svg"} if FORMS[name].covers)  # that are decoded
PROMISED = {  # what a name promises, by its extension, and what may then come
    extension: frozenset(name for name, form in FORMS.items() if extension in form.named.split())
    for extension in sorted({one for form in FORMS.values() for one in form.named.split()})
}
CATEGORIES: dict[str, Category] = {name: form.category for name, form in FORMS.items() if form.category}

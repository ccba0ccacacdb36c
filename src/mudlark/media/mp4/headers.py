"""The headers of a movie and of its tracks, which progressive and fragmented files share.

Follows ISO/IEC 14496-12 §8.2.2 (mvhd), §8.3.2 (tkhd), §8.4 (mdhd, hdlr, elng), §8.4.5 (vmhd, smhd), §8.7 (dinf).
"""

from mudlark.media.language import packed_code
from mudlark.media.mp4.boxes import box, full_box
from mudlark.media.samples import Format, TrackLabel

MOVIE_SCALE = 90_000  # ticks a second of the movie header and the edit lists
_MOST_TIMES, _BENT = 16, 0.1  # as large as its pixels make it, and by how much of that it may be out of square
UPRIGHT = b"".join(n.to_bytes(4, "big") for n in (0x10000, 0, 0, 0, 0x10000, 0, 0, 0, 0x40000000))
_ENABLED, _IN_MOVIE = 1, 2
_WIDEST = 0xFFFF_0000  # as a 16.16 number, whatever shape the pixels are said to have


def is_odd(matrix: bytes) -> bool:
    """True if a matrix (ISO/IEC 14496-12 §6.2.2) shows a picture as nothing, as far too small or too large, or bent;
    of zeros it says nothing."""
    values = [int.from_bytes(matrix[at : at + 4], "big", signed=True) for at in range(0, len(UPRIGHT), 4)]
    a, b, u, c, d, v, _, _, w = values
    area, bent = abs(a * d - b * c) / (1 << 32), abs(a * c + b * d) / (1 << 32)
    good = 1 / _MOST_TIMES <= area <= _MOST_TIMES and bent <= _BENT * area
    return any(matrix) and bool(u or v or not w or not good)


def movie_header(duration: int, tracks: int) -> bytes:
    """duration: ticks of MOVIE_SCALE."""
    return full_box(
        "mvhd",
        1,
        0,
        bytes(16),
        MOVIE_SCALE.to_bytes(4, "big"),
        duration.to_bytes(8, "big"),
        b"\0\1\0\0\1\0",
        bytes(10),
        UPRIGHT,
        bytes(24),
        (tracks + 1).to_bytes(4, "big"),
    )


def track_box(
    number: int, format: Format, label: TrackLabel, durations: tuple[int, int], edits: bytes, tables: bytes
) -> bytes:
    """A track. durations: ticks of the movie and of the media. edits, tables: its edts and stbl boxes."""
    video = format.type == "video"
    wide, high = format.pixel_aspect
    width = min(round(format.width * wide / high * 65536), _WIDEST) if video else 0
    head = full_box(
        "tkhd",
        1,
        _IN_MOVIE | (_ENABLED if label.default else 0),
        bytes(16),
        number.to_bytes(4, "big"),
        bytes(4),
        durations[0].to_bytes(8, "big"),
        bytes(8),
        bytes(2),
        (0 if video else 1).to_bytes(2, "big"),  # sounds are alternatives of each other
        bytes(2) if video else b"\1\0",
        bytes(2),
        format.matrix or UPRIGHT,
        width.to_bytes(4, "big"),
        min(format.height << 16, _WIDEST).to_bytes(4, "big"),
    )
    language = label.language or format.language
    media = full_box(
        "mdhd",
        1,
        0,
        bytes(16),
        format.timescale.to_bytes(4, "big"),
        durations[1].to_bytes(8, "big"),
        packed_code(language),
        bytes(2),
    )
    handler = full_box(
        "hdlr", 0, 0, bytes(4), b"vide" if video else b"soun", bytes(12), label.name.encode("utf-8"), b"\0"
    )
    extended = full_box("elng", 0, 0, language.encode("utf-8") + b"\0") if language else b""
    kind = full_box("vmhd", 0, 1, bytes(8)) if video else full_box("smhd", 0, 0, bytes(4))
    data = box("dinf", full_box("dref", 0, 0, b"\0\0\0\1", full_box("url ", 0, 1)))
    return box("trak", head, edits, box("mdia", media, handler, extended, box("minf", kind, data, tables)))

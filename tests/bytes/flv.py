"""FLV by hand (Video File Format Specification 10.1, Annex E): the samples of a film of the demo in tags."""

import struct
from collections.abc import Iterable
from pathlib import Path

from mudlark.media.index import movie_in

VIDEO, SOUND, SCRIPT = 9, 8, 18
HEADER = b"FLV\1\5" + (9).to_bytes(4, "big") + bytes(4)  # §E.2, and the size of no tag


def tag(kind: int, time: int, body: bytes) -> bytes:
    """§E.4.1, with its size behind it."""
    clock = (time & 0xFFFFFF).to_bytes(3, "big") + bytes([time >> 24])
    head = bytes([kind]) + len(body).to_bytes(3, "big") + clock + bytes(3)
    return head + body + (len(body) + 11).to_bytes(4, "big")


def facts(**numbers: float) -> bytes:
    """onMetaData (§E.5), a list of numbers by their names."""
    listed = b""
    for name, value in numbers.items():
        listed += len(name).to_bytes(2, "big") + name.encode() + b"\0" + struct.pack(">d", value)
    return tag(SCRIPT, 0, b"\2\0\x0aonMetaData\x08" + len(numbers).to_bytes(4, "big") + listed + b"\0\0\x09")


def tags_of(film: Path, *, enhanced: bool = False) -> list[tuple[int, bytes]]:
    """Times and tags of H.264 and AAC, each track behind its configuration. enhanced: with codecs of four letters."""
    data, made = film.read_bytes(), list[tuple[float, int, bytes]]()
    for track in movie_in(film).tracks:
        picture = track.format.type == "video"
        first = min(0, int(track.pts.min()))
        if picture:
            begin = b"\x90avc1" if enhanced else b"\x17\0" + bytes(3)
        else:
            begin = b"\x90mp4a" if enhanced else b"\xaf\0"
        made.append((-1.0, 0, tag(VIDEO if picture else SOUND, 0, begin + track.format.config)))
        for place, size, dts, pts, sync in zip(
            track.offsets.tolist(),
            track.sizes.tolist(),
            track.dts.tolist(),
            track.pts.tolist(),
            track.sync,
            strict=True,
        ):
            clock = 1000 / track.format.timescale
            time, shown = round((dts - first) * clock), round((pts - first) * clock)
            kind = 0x10 if sync else 0x20
            shift = (shown - time).to_bytes(3, "big", signed=True)
            if picture:
                head = bytes([0x80 | kind | 1]) + b"avc1" + shift if enhanced else bytes([kind | 7, 1]) + shift
            else:
                head = b"\x91mp4a" if enhanced else b"\xaf\1"
            made.append((time, time, tag(VIDEO if picture else SOUND, time, head + data[place : place + size])))
    return [(time, one) for _, time, one in sorted(made, key=lambda each: each[0])]


def film(tags: Iterable[tuple[int, bytes]], **numbers: float) -> bytes:
    """A file of these, with what is stated of it."""
    return HEADER + (facts(**numbers) if numbers else b"") + b"".join(one for _, one in tags)

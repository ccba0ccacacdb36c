"""Sample entries: what describes the format of a track in MP4, read and written.

Follows ISO/IEC 14496-12 §8.5.2, §12.1.3, §12.2.3, 14496-14 (mp4a), 14496-15 (avc1, hvc1), ETSI TS 102 366 Annex F
(ac-3, ec-3) and the registered encapsulation of Opus. A format that was read from an MP4 is written with the very entry
that it was read from, so that nothing it says (colours, channel layouts) is lost.
"""

import struct

from mudlark.media.codecs import Codec, codec_of
from mudlark.media.mp4.boxes import Mp4Error, box, children, full_box, header
from mudlark.media.mp4.tree import insist_on_clear
from mudlark.media.picture.colour import from_boxes, to_boxes
from mudlark.media.samples import Format

_OBJECT_TYPES = {0x40: "40", 0x66: "66", 0x67: "67", 0x68: "68", 0x69: "69", 0x6B: "6B", 0xA5: "A5", 0xA6: "A6"}
_VIDEO_FIELDS, _AUDIO_FIELDS = 78, 28  # bytes of an entry before the boxes inside
_VERSION_TWO = 36
_NESTED = (3, 4, 5)  # descriptors: of a stream, of its decoder, of what that must know
_LARGEST = 0xFFFF  # pixels of a side that an entry can state


def read_entry(entry: bytes, timescale: int, handler: str) -> Format:
    """The format that a sample entry, header included, describes. handler: vide or soun."""
    whole = header(entry[:16], 0, len(entry))
    content = entry[whole.content :]
    kind = whole.kind
    insist_on_clear(kind)
    if handler not in ("vide", "soun"):
        return Format("text", kind, timescale, b"", entry=entry)
    video = handler == "vide"
    fields = _VIDEO_FIELDS if video else _AUDIO_FIELDS
    if not video:
        fields += _quicktime_fields(content)
    if len(content) < fields:
        raise Mp4Error(f"The sample entry '{kind}' is too short", 0)
    inside = {b.kind: content[b.content : b.end] for b in children(content, 0, fields, len(content))}
    codec = codec_of(kind)
    config = inside.get(codec.config_box, b"") if codec else b""
    if video:
        aspect = (1, 1)
        if len(stated := inside.get("pasp", b"")) >= 8:
            aspect = (int.from_bytes(stated[:4], "big") or 1, int.from_bytes(stated[4:8], "big") or 1)
        width, height = int.from_bytes(content[24:26], "big"), int.from_bytes(content[26:28], "big")
        name, colour = codec.label(config, kind) if codec else kind, from_boxes(inside)
        return Format("video", name, timescale, config, 0, width, height, aspect, entry=entry, colour=colour)
    name = kind
    channels, rate = int.from_bytes(content[16:18], "big"), int.from_bytes(content[24:28], "big") >> 16
    if content[8:10] == b"\0\2" and len(content) >= _AUDIO_FIELDS + _VERSION_TWO:
        channels, rate = int.from_bytes(content[40:44], "big"), _whole(content[32:40])
    if kind == "mp4a" and "esds" not in inside and "wave" in inside:  # as QuickTime has it
        wave = inside["wave"]
        inside = {b.kind: wave[b.content : b.end] for b in children(wave, 0, 0, len(wave))}
    if kind == "mp4a" and "esds" in inside:
        object_type, config = _descriptor_parts(inside["esds"])
        name = f"mp4a.{_OBJECT_TYPES.get(object_type, f'{object_type:02X}')}"
        if config and object_type == 0x40:
            kind_of_audio = config[0] >> 3
            kind_of_audio = 32 + ((config[0] & 7) << 3 | config[1] >> 5) if kind_of_audio == 31 else kind_of_audio
            name = f"mp4a.40.{kind_of_audio}"
    if kind == "Opus":
        name = "opus"
        channels = config[1] if len(config) > 1 else channels
    return Format("audio", name, timescale, config, 0, channels=channels, sample_rate=rate or timescale, entry=entry)


def _quicktime_fields(content: bytes) -> int:
    """Bytes that QuickTime's versions 1 and 2 of a sound entry have more; 0 where boxes follow at once."""
    if content[8:10] == b"\0\2":
        return _VERSION_TWO
    following = content[_AUDIO_FIELDS + 4 : _AUDIO_FIELDS + 8]
    return 16 if content[8:10] == b"\0\1" and not (following.isalnum() and following.isascii()) else 0


def _whole(rate: bytes) -> int:
    """A sample rate that is stated as a real number; 0 if it is none."""
    value = struct.unpack(">d", rate)[0]
    return round(value) if 0 < value < 1e9 else 0


def sample_entry(form: Format) -> bytes:
    """The sample entry of a format."""
    codec = codec_of(form.codec)
    if codec is None or codec.type != form.type:
        raise Mp4Error(f"There is no sample entry for {form.codec}", 0)
    kind = form.codec[:4] if form.codec[:4] in ("avc3", "hev1", "hvc1", "avc1") else codec.entry
    if form.entry:
        return form.entry[:4] + kind.encode("latin-1") + form.entry[8:]
    return _picture_entry(form, kind, codec) if form.type == "video" else _sound_entry(form, kind, codec)


def _picture_entry(form: Format, kind: str, codec: Codec) -> bytes:
    fields = [
        bytes(6) + b"\0\1",
        bytes(16),
        min(form.width, _LARGEST).to_bytes(2, "big"),
        min(form.height, _LARGEST).to_bytes(2, "big"),
        b"\0\x48\0\0\0\x48\0\0",
        bytes(4),
        b"\0\1",
        bytes(32),
        b"\0\x18\xff\xff",
        box(codec.config_box, form.config),
    ]
    wide, high = form.pixel_aspect
    if wide != high:
        fields.append(box("pasp", wide.to_bytes(4, "big"), high.to_bytes(4, "big")))
    if form.colour:
        fields += [box(name, content) for name, content in to_boxes(form.colour).items()]
    return box(kind, *fields)


def _sound_entry(form: Format, kind: str, codec: Codec) -> bytes:
    rate = form.sample_rate if form.sample_rate < 65536 else 0
    fields = [
        bytes(6) + b"\0\1",
        bytes(8),
        form.channels.to_bytes(2, "big"),
        b"\0\x10",
        bytes(4),
        (rate << 16).to_bytes(4, "big"),
    ]
    if codec.config_box == "esds":
        object_type = int(form.codec.split(".")[1], 16)
        return box(kind, *fields, full_box("esds", 0, 0, _descriptor(object_type, form.config)))
    return box(kind, *fields, box(codec.config_box, form.config))


def boxes_in(entry: bytes) -> frozenset[str]:
    """The kinds of the boxes inside of a sample entry of pictures; none for no entry."""
    if not entry:
        return frozenset()
    whole = header(entry[:16], 0, len(entry))
    return frozenset(one.kind for one in children(entry, 0, whole.content + _VIDEO_FIELDS, len(entry)))


def _descriptor(object_type: int, config: bytes) -> bytes:
    """An ES descriptor (ISO/IEC 14496-1 §7.2.6.5)."""
    special = _tagged(5, config) if config else b""
    decoder = _tagged(4, bytes([object_type, 0x15]) + bytes(3) + bytes(8) + special)
    return _tagged(3, b"\0\0\0" + decoder + _tagged(6, b"\2"))


def _tagged(tag: int, content: bytes) -> bytes:
    """A descriptor with its length (§8.3.3)."""
    size = len(content)
    if size < 128:
        return bytes([tag, size]) + content
    return bytes([tag, 0x80 | size >> 21 & 127, 0x80 | size >> 14 & 127, 0x80 | size >> 7 & 127, size & 127]) + content


def _descriptor_parts(esds: bytes) -> tuple[int, bytes]:
    """Object type and decoder-specific part of an ES descriptor, found by walking its nested tags (§7.2.6)."""
    at, end, object_type = 4, len(esds), 0
    while at + 2 <= end:
        tag = esds[at]
        size, at = _size_of(esds, at + 1, end)
        if tag == 0x05:
            return object_type, esds[at : at + size]
        if tag == 0x03 and at + 3 <= end:
            flags = esds[at + 2]
            at += 3 + (2 if flags & 0x80 else 0) + (2 if flags & 0x20 else 0)
            if flags & 0x40 and at < end:
                at += 1 + esds[at]
        elif tag == 0x04:
            object_type = esds[at] if at < end else 0
            at += 13
        else:
            at += size
    return object_type, b""


def _size_of(data: bytes, at: int, end: int) -> tuple[int, int]:
    """The size of a descriptor (ISO/IEC 14496-1 §8.3.3), and the byte behind it."""
    size = 0
    while at < end:
        size, more, at = size << 7 | data[at] & 0x7F, data[at] & 0x80, at + 1
        if not more:
            break
    return size, at


def descriptors_fit(entry: bytes) -> bool:
    """True if the descriptors of a sample entry with sound lie inside of each other (ISO/IEC 14496-1 §7.2.6)."""
    at = entry.find(b"esds")
    if at < 4:
        return True
    place, end = at + 8, at - 4 + int.from_bytes(entry[at - 4 : at], "big")
    for tag in _NESTED:
        if place >= end or entry[place] != tag:
            return place < end  # something else, which nobody here knows
        size, place = _size_of(entry, place + 1, end)
        if place + size > end:
            return False
        end = place + size
        if tag == _NESTED[0]:
            flags = entry[place + 2]
            place += 3 + (2 if flags & 0x80 else 0) + (2 if flags & 0x20 else 0)
            if flags & 0x40:
                place += 1 + entry[place]
        elif tag == _NESTED[1]:
            place += 13
    return True

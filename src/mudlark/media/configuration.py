"""Does what a decoder must know before the first sample hold together? Without its parameter sets, headers or
configuration nothing of a track can be decoded, however whole its samples are.

Each look takes a format and its first sample, and says in words what is wrong: nothing if all is well, or if nothing is
known of the codec. What is odd, and may be decoded all the same, is told apart from what cannot be.
"""

from collections.abc import Callable, Sequence

from mudlark.errors import FormatError
from mudlark.media.bits import Bits
from mudlark.media.codecs import codec_of
from mudlark.media.mp4.entries import descriptors_fit
from mudlark.media.picture import av1, avc, hevc, vp
from mudlark.media.picture.inband import holds_sets, parameter_sets
from mudlark.media.picture.nal import lengthened, unescape, units_of
from mudlark.media.samples import Format
from mudlark.media.sound import aac, opus, vorbis

_WITH_AAC = ("mp4a.40", "mp4a.66", "mp4a.67", "mp4a.68")
# times by which the picture may be larger than its container says, or smaller: VP8 and VP9 may grow on the way
_MUCH, _MUCH_OF_VP = 2, 16
_LONGEST_PIXEL = 8  # times as wide as high, or as high as wide
_FINE = 8_000  # ticks a second, by which the length of a frame is known well enough
_HEAD = 16  # bytes of a unit that are looked at
_PROGRAM_CONFIG = 5  # an element of AAC that says which channels there are (ISO/IEC 14496-3 §4.4.1.1)


def fault_of(format: Format, sample: bytes) -> str:
    """What is wrong with the configuration of a format, by itself or for its first sample; empty if nothing is."""
    if format.type == "video" and codec_of(format.codec) and not (format.width and format.height):
        return f"its picture is stated as {format.width}×{format.height}"
    look = next((look for prefix, look in _LOOKS.items() if format.codec.startswith(prefix)), None)
    if look is None:
        return ""
    try:
        return look(format, b"" if format.prefix or format.deflated else sample)
    except (FormatError, IndexError) as problem:
        return f"its configuration cannot be read: {problem}"


def oddity_of(format: Format, sample: bytes, step: float) -> str:
    """What is odd about a configuration that can be read; empty if nothing is. Decoders may take it. sample: the first.
    step: ticks that samples usually last."""
    if max(format.pixel_aspect) > _LONGEST_PIXEL * min(format.pixel_aspect):
        return f"its pixels are stated as {format.pixel_aspect[0]} to {format.pixel_aspect[1]}"
    try:
        if format.codec.startswith("avc"):
            return _odd_avc(format)
        if format.codec in ("vp08", "vp8") or format.codec.startswith("vp09"):
            return _odd_size(format, *_size_of_vp(format, sample), _MUCH_OF_VP)
        if format.codec.startswith(_WITH_AAC):
            if not descriptors_fit(format.entry):
                return "the descriptors of its sound are not as long as they say"
            seconds = step / format.timescale if format.timescale >= _FINE else 0.0
            return aac.oddity(format.config, seconds, b"" if format.prefix or format.deflated else sample)
    except (FormatError, IndexError) as problem:
        return f"its configuration cannot be read: {problem}"
    return ""


def _odd_size(format: Format, width: int, height: int, times: int) -> str:
    """Where a picture is far larger or smaller than its container says. width, height: its own, 0 if not known."""
    sizes = ((format.width, width), (format.height, height))
    if width and height and any(max(pair) > times * min(pair) for pair in sizes):
        return f"its picture has {width}×{height}, stated is {format.width}×{format.height}"
    return ""


def _size_of_vp(format: Format, sample: bytes) -> tuple[int, int]:
    """The size of a key frame of VP8 (RFC 6386 §9.1) or VP9; zeros where it does not say."""
    if format.prefix or format.deflated:
        return 0, 0
    if format.codec.startswith("vp09"):
        picture = vp.read_vp9(sample)
        return (picture.width, picture.height) if picture else (0, 0)
    if sample[3:6] != b"\x9d\x01\x2a":
        return 0, 0
    return int.from_bytes(sample[6:8], "little") & 0x3FFF, int.from_bytes(sample[8:10], "little") & 0x3FFF


def _odd_avc(format: Format) -> str:
    """Parameter sets end where their fields do, the record holds as many as it says (ISO/IEC 14496-15 §5.3.3.1), and
    the picture is about as large as its container says."""
    if not format.config:
        return ""
    if format.config[0] != 1 or not holds_sets(format.config):
        return "its configuration does not hold what it says it holds"
    chroma = 1
    for unit in _sets(format):
        if unit[0] & 31 == avc.SPS:
            sequence = avc.parse_sps(unit)
            chroma = sequence.chroma_format
            if odd := _odd_size(format, sequence.width, sequence.height, _MUCH):
                return odd
            if not avc.is_whole_sps(unit):
                return "its sequence parameter set does not end where its fields do"
        if unit[0] & 31 == avc.PPS and not avc.is_whole_pps(unit, chroma):
            return "its picture parameter set does not end where its fields do"
    return ""


def _avc(format: Format, sample: bytes) -> str:
    """Parameter sets (H.264 §7.4.1.2.1), and among them the one that the first slice names. They may stand in the
    sample, too."""
    inside = units_of(sample, format)
    sets = _with_missing((avc.SPS, avc.PPS), _sets(format), inside, lambda unit: unit[0] & 31)
    if avc.SPS not in sets or avc.PPS not in sets:
        return f"it has no {'picture' if avc.SPS in sets else 'sequence'} parameter set"
    sequences = {avc.parse_sps(unit).identifier for unit in sets[avc.SPS]}
    pictures = {numbers[0]: numbers[1] for unit in sets[avc.PPS] if (numbers := _numbers(unit, 2))}
    if not sequences.intersection(pictures.values()):
        return "none of its picture parameter sets belongs to a sequence that is there"
    first = next((unit for unit in inside if unit[0] & 31 in avc.SLICES and len(unit) > _HEAD), None)
    if first is None or any(unit[0] & 31 == avc.PPS for unit in inside):
        return ""
    *_, named = _numbers(first, 3)  # behind its first macroblock and its kind (§7.3.3)
    return "" if named in pictures else f"its first picture needs a parameter set ({named}) that is not there"


def _hevc(format: Format, sample: bytes) -> str:
    """H.265 §7.4.2.4.2."""
    kinds = {hevc.VPS: "video", hevc.SPS: "sequence", hevc.PPS: "picture"}
    sets = _with_missing(tuple(kinds), _sets(format), units_of(sample, format), lambda unit: unit[0] >> 1 & 63)
    if lost := [name for kind, name in kinds.items() if kind not in sets]:
        return f"it has no {lost[0]} parameter set"
    for unit in sets[hevc.SPS]:
        hevc.parse_sps(unit)
    return ""


def _sets(format: Format) -> list[bytes]:
    return list(lengthened(parameter_sets(format.codec, format.config), 4))


def _with_missing(
    wanted: Sequence[int], stated: list[bytes], inside: list[bytes], kind_of: Callable[[bytes], int]
) -> dict[int, list[bytes]]:
    """Parameter sets by kind: as the configuration states them; if it lacks a kind, those of the sample."""
    found: dict[int, list[bytes]] = {}
    for kind in wanted:
        for place in (stated, inside):
            if kind not in found and (there := [unit for unit in place if kind_of(unit) == kind]):
                found[kind] = there
    return found


def _numbers(unit: bytes, count: int) -> tuple[int, ...]:
    """The first so many numbers behind the header of a unit of H.264."""
    bits = Bits(unescape(unit[:_HEAD])[1:])
    return tuple(bits.unsigned() for _ in range(count))


def _av1(format: Format, sample: bytes) -> str:
    """A sequence header (AV1 §5.5), in the configuration or before the first picture."""
    kinds = {kind for data in (format.config[4:], sample) for kind, _ in av1.units(data)}
    return "" if av1.SEQUENCE_HEADER in kinds else "it has no sequence header"


def _aac(format: Format, sample: bytes) -> str:
    """ISO/IEC 14496-3 §1.6.2.1."""
    fault = aac.fault(format.config)
    return "" if fault == aac.NO_CHANNELS and sample[:1] and sample[0] >> 5 == _PROGRAM_CONFIG else fault


def _opus(format: Format, _: bytes) -> str:
    config = format.config  # as dOps has it
    return opus.fault(config[:1], config[1:2], config[10:])


def _vorbis(format: Format, _: bytes) -> str:
    return vorbis.fault_of_headers(format.config)


def _flac(format: Format, _: bytes) -> str:
    """The block that describes the stream comes first (RFC 9639 §8.2)."""
    config = format.config[4:]
    whole = len(config) >= 38 and config[0] & 127 == 0
    return "" if whole and int.from_bytes(config[14:17], "big") >> 4 else "its sound has no description of its stream"


_LOOKS: dict[str, Callable[[Format, bytes], str]] = {
    "avc": _avc,
    "hvc1": _hevc,
    "hev1": _hevc,
    "av01": _av1,
    **dict.fromkeys(_WITH_AAC, _aac),
    "opus": _opus,
    "vorbis": _vorbis,
    "flac": _flac,
}

"""Parameter sets inside of the samples, for a film whose pictures change in the middle.

Follows ISO/IEC 14496-15 §5.3.3 and §8.3.3 (configuration records). A decoder that goes through a file of one sample
entry learns of the change from the sets before the first picture of the new kind.
"""

import numpy as np
from msgspec.structs import replace

from mudlark.media.samples import Format, Ints, Samples

IN_BAND = frozenset({"avc3", "hev1"})  # sample entries whose samples may hold parameter sets
_IN_BAND = {"avc1": "avc3", "hvc1": "hev1", "avc3": "avc3", "hev1": "hev1"}


def keeps_sets(format: Format) -> bool:
    """True if pictures of a format have their parameter sets beside the samples, and could have them inside."""
    return format.codec[:4] in ("avc1", "hvc1") and length_size(format.codec, format.config) == 4


def parameter_sets(codec: str, config: bytes) -> bytes:
    """The parameter sets of a configuration record, each behind a length of four bytes."""
    return b"".join(_avc_sets(config) if codec.startswith("avc") else _hevc_sets(config))


def _avc_sets(config: bytes) -> list[bytes]:
    units, at = [], 5
    for mask in (31, 255):
        count = config[at] & mask if at < len(config) else 0
        at += 1
        for _ in range(count):
            size = int.from_bytes(config[at : at + 2], "big")
            units.append(size.to_bytes(4, "big") + config[at + 2 : at + 2 + size])
            at += 2 + size
    return units


def holds_sets(config: bytes) -> bool:
    """True if a configuration record of H.264 holds as many parameter sets as it says, each of them whole."""
    at = 5
    for mask in (31, 255):
        if at >= len(config):
            return False
        count, at = config[at] & mask, at + 1
        for _ in range(count):
            at += 2 + int.from_bytes(config[at : at + 2], "big")
    return at <= len(config)


def _hevc_sets(config: bytes) -> list[bytes]:
    units, at = [], 23
    for _ in range(config[22] if len(config) > 22 else 0):
        count = int.from_bytes(config[at + 1 : at + 3], "big")
        at += 3
        for _ in range(count):
            size = int.from_bytes(config[at : at + 2], "big")
            units.append(size.to_bytes(4, "big") + config[at + 2 : at + 2 + size])
            at += 2 + size
    return units


def length_size(codec: str, config: bytes) -> int:
    """Bytes of the length before each unit."""
    place = 4 if codec.startswith("avc") else 21
    return (config[place] & 3) + 1 if len(config) > place else 4


def with_parameter_sets(samples: Samples) -> Samples:
    """The samples with their parameter sets before each picture at which decoding may start. Those of codecs without
    such sets, and those with lengths of another size, are given back as they are: they get a sample entry of their own.
    """
    format = samples.format
    if format.codec[:4] not in _IN_BAND or length_size(format.codec, format.config) != 4:
        return samples
    sets = parameter_sets(format.codec, format.config)
    places = np.flatnonzero(samples.sync)
    in_band = replace(format, codec=_IN_BAND[format.codec[:4]] + format.codec[4:])
    if format.codec[:4] in IN_BAND or not len(places) or not sets:
        return replace(samples, format=in_band)
    return replace(put_before(samples, places, sets), format=in_band)


def put_before(samples: Samples, places: Ints, sets: bytes) -> Samples:
    """The samples with some bytes more before those with these numbers."""
    sizes = samples.sizes.copy()
    sizes[places] += len(sets)
    pieces: list[memoryview] = []
    rest = samples
    taken = 0
    for place in places.tolist():
        before, rest = rest.split(place - taken)
        taken = place
        pieces += [*before.pieces, memoryview(sets)]
    return replace(samples, sizes=sizes, pieces=[*pieces, *rest.pieces])

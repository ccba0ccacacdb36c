"""What an AudioSpecificConfig says of AAC (ISO/IEC 14496-3 §1.6.2.1): the coding, its rate, and whether bands above it,
or a second channel, are made up again from hints (SBR, PS), which doubles what is heard."""

import msgspec

from mudlark.errors import FormatError
from mudlark.media.bits import Bits
from mudlark.media.samples import Hints
from mudlark.media.sound.adts import RATES

_CHANNELS = (0, 1, 2, 3, 4, 5, 6, 8)
_SBR, _PS, _ESCAPE = 5, 29, 31
_RESERVED = frozenset({10, 11, 18, 28, 30})  # objects (§1.5.1.1, table 1.17)
_LENGTHS, _NEAR = (1024, 960, 2048, 1920, 512, 480), 0.03  # samples of a frame, and the share by which it may differ
_WITH_ELEMENTS = frozenset({1, 2, 3, 4, 5, 29})  # objects whose frames are elements, and these of elements (§4.5.2.1)
_ALONE, _PAIR, _STEREO = 0, 1, 2
NO_CHANNELS = "its configuration names no channels"
_SHORT = 2  # bytes, behind which nothing can say which channels there are
_GENERAL = frozenset({1, 2, 3, 4, 6, 7, 17, 19, 20, 21, 22, 23})  # objects with a GASpecificConfig (§4.4.1)
_SYNC_SBR, _SYNC_PS = 0x2B7, 0x548  # §1.6.5.2: said behind the rest, so that old decoders pass over it
_NAMES = {1: "AAC Main", 2: "AAC-LC", 3: "AAC SSR", 4: "AAC LTP", 23: "AAC-LD", 39: "AAC-ELD", 42: "xHE-AAC"}


class AacConfig(msgspec.Struct, frozen=True):
    """object: of the core. rate: samples a second that are heard; channels: that are heard, 0 if the config does not
    say."""

    object: int
    rate: int
    channels: int
    bands: bool = False
    parametric: bool = False

    @property
    def words(self) -> str:
        """The name of the coding."""
        if self.parametric:
            return "HE-AAC v2"
        return "HE-AAC" if self.bands else _NAMES.get(self.object, f"AAC object {self.object}")


def read_config(config: bytes, *, hints: Hints = "") -> AacConfig:
    """Read an AudioSpecificConfig. hints: those seen in the frames. Raises FormatError where it breaks off or says what
    is reserved."""
    bits = Bits(config)
    kind, rate, number = _begin(bits)
    bands, parametric = kind in (_SBR, _PS), kind == _PS
    heard = rate
    if bands:
        heard, kind = _rate(bits), _object(bits)
    elif kind in _GENERAL and number:
        bits.flag()
        if bits.flag():
            bits.take(14)
        bits.flag()
        if kind in (6, 20):
            bits.take(3)
        if bits.left >= 16 and bits.take(11) == _SYNC_SBR and _object(bits) == _SBR and bits.flag():
            bands, heard = True, _rate(bits)
            parametric = bits.left >= 12 and bits.take(11) == _SYNC_PS and bits.flag()
    if hints and not bands:
        bands, heard, parametric = True, 2 * rate, hints == "parametric" and number == 1
    channels = _CHANNELS[number] if number < len(_CHANNELS) else {11: 7, 12: 8, 14: 8}.get(number, 0)
    return AacConfig(kind, heard, 2 if parametric and channels == 1 else channels, bands, parametric)


def fault(config: bytes) -> str:
    """What is wrong with the beginning of an AudioSpecificConfig, in words; empty if a decoder can do with it. What
    follows may be cut off: decoders take that."""
    if not config:
        return "its sound has no configuration"
    kind, _, number = _begin(Bits(config))
    if not kind:
        return "its configuration is of no coding that there is"
    return "" if number or len(config) > _SHORT else NO_CHANNELS


def oddity(config: bytes, step: float, frame: bytes) -> str:
    """What is odd about a configuration whose frames last so many seconds, 0 if that is not known well; empty if
    nothing is: they hold 1024 samples or 960 (§4.5.2.1.1), 512 or 480 of low delay, of the rate of the core, or twice
    as many of another. frame: the first, which begins with a pair of channels if there is just one (§4.5.1.2)."""
    kind, rate, number = _begin(Bits(config))
    if kind in _RESERVED:
        return f"its configuration is of a coding that there is not ({kind})"
    first = frame[0] >> 5 if frame else None
    if kind in _WITH_ELEMENTS and number and first in (_ALONE, _PAIR) and (first == _PAIR) != (number == _STEREO):
        return "its configuration says other channels than its first frame holds"
    if not rate or not step or any(abs(step * rate / count - 1) < _NEAR for count in _LENGTHS):
        return ""
    return f"its configuration says {rate:,} Hz, and its frames last {step * 1000:.1f} ms each"


def _begin(bits: Bits) -> tuple[int, int, int]:
    """The kind of object, the rate, and the number of the channels' order."""
    return _object(bits), _rate(bits), bits.take(4)


def _object(bits: Bits) -> int:
    kind = bits.take(5)
    return 32 + bits.take(6) if kind == _ESCAPE else kind


def _rate(bits: Bits) -> int:
    number = bits.take(4)
    if number == 15:
        return bits.take(24)
    if number >= len(RATES):
        raise FormatError(f"An AAC configuration has a rate that is reserved ({number})")
    return RATES[number]

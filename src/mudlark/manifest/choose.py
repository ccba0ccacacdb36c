"""Which renditions to take when a presentation offers several: a wish, and what is left of the offer, highest first."""

from collections.abc import Callable, Collection, Sequence

import msgspec

from mudlark.errors import NothingFound, UsageError
from mudlark.manifest.model import Presentation, Rendition
from mudlark.manifest.wish import ALL, NONE, Wish
from mudlark.media.codec_names import CODEC_NAMES, CodecName, codec_named
from mudlark.media.language import same_language

BOTH = frozenset({"video", "audio"})


class Taken(msgspec.Struct, frozen=True):
    """A rendition that is taken. types: which of the tracks inside of it. default: played unless another is chosen."""

    rendition: Rendition
    types: frozenset[str] = BOTH
    default: bool = True


def choose(presentation: Presentation, wish: Wish | None = None) -> list[Taken]:
    """The rendition that a wish means, with the sounds and subtitles that go with it."""
    wish = wish or Wish()
    if presentation.kind not in ("hls", "dash"):
        return [Taken(rendition) for rendition in presentation.renditions]
    if wish.rendition is not None:
        best = _named(presentation, wish.rendition)
        if best.type == "captions":
            raise UsageError(f"{best.name} is inside of the picture.", "Take the picture: the captions stay in it.")
        if best.group is not None:
            return [Taken(best, frozenset({"subtitles"}) if best.type == "subtitles" else BOTH)]
    else:
        best = _highest(presentation, wish)
    sounds, inside = _sounds(presentation, best, wish)
    subtitles = _subtitles(presentation, best, wish)
    if sounds and best.type == "audio" and not inside:
        return [*_as_sounds(sounds), *subtitles]
    types = BOTH if inside or not sounds else frozenset({"video"})
    return [Taken(best, types), *_as_sounds(sounds, first=not inside), *subtitles]


def expected_bytes(presentation: Presentation, names: Collection[str]) -> int | None:
    """Bytes to expect of the renditions that are taken, by name: by average bit rates, else by peak ones; None if they
    are not stated."""
    taken = [one for one in presentation.renditions if one.name in names and one.type != "subtitles"]
    apart = presentation.kind == "dash"  # the rate of an HLS variant includes that of its sound (RFC 8216 §4.3.4.2)
    rates = [one.average or one.bitrate for one in taken if apart or one.group is None]
    length = max((one.duration or 0.0 for one in taken), default=0.0)
    known = [rate for rate in rates if rate]
    return round((sum if apart else max)(known) * length / 8) if known and length else None


def _as_sounds(sounds: Sequence[Rendition], *, first: bool = True) -> list[Taken]:
    return [Taken(sound, frozenset({"audio"}), first and index == 0) for index, sound in enumerate(sounds)]


def _named(presentation: Presentation, name: str) -> Rendition:
    for rendition in presentation.renditions:
        if rendition.name == name:
            return rendition
    names = ", ".join(rendition.name for rendition in presentation.renditions[:30])
    raise UsageError(f"There is no rendition {name!r}.", f"There are {names}; see `mudlark tracks`.")


def _highest(presentation: Presentation, wish: Wish) -> Rendition:
    played = [one for one in presentation.renditions if one.type == "video" and one.group is None]
    played = played or [one for one in presentation.renditions if one.type == "audio"]
    by_language = [one for one in played if any(same_language(one.language or "", want) for want in wish.languages)]
    if played and played[0].type == "audio" and by_language:
        played = by_language
    if not played:
        raise NothingFound(f"{presentation.url} lists no rendition with picture or sound.")
    known = {codec.short for codec in CODEC_NAMES}
    if unknown := [name for name in wish.codecs if name not in known]:
        raise UsageError(f"{unknown[0]!r} is no codec that is known.", f"There are {', '.join(sorted(known))}.")
    steps: list[tuple[str, Callable[[Rendition], bool]]] = [
        ("--codecs", lambda one: _liked(one, wish) is not None),
        ("--within", lambda one: _fits(one, wish)),
        ("--under", lambda one: wish.under is None or (one.bitrate or 0) <= wish.under),
    ]
    for option, passes in steps:
        left = [one for one in played if passes(one)]
        if not left:
            offers = ", ".join(dict.fromkeys(_described(one) for one in played[:12]))
            raise NothingFound(f"No rendition is left by {option}.", f"There are {offers}; see `mudlark tracks`.")
        played = left
    return max(played, key=lambda one: _worth(one, wish))


def _described(one: Rendition) -> str:
    size = f"{one.width}x{one.height}" if one.width else "sound"
    rate = f" at {one.bitrate / 1e6:.3g} Mbit/s" if one.bitrate else ""
    codecs = f" ({', '.join(one.codecs)})" if one.codecs else ""
    return f"{one.name}: {size}{rate}{codecs}"


def _worth(one: Rendition, wish: Wish) -> tuple[float, ...]:
    """For comparing renditions: the maker's own score where it is given, else size, frame rate and bit rate. At one
    size what plays anywhere comes first."""
    return (
        -(_liked(one, wish) or 0),
        one.liking,
        one.score if one.score is not None else -1.0,
        (one.width or 0) * (one.height or 0),
        float((one.range or "SDR") == "SDR"),
        one.frame_rate or 0.0,
        one.average or one.bitrate or 0,
        one.bitrate or 0,
    )


def _liked(one: Rendition, wish: Wish) -> int | None:
    """The place of a rendition's codecs in the order of liking; None if one of them is not wanted."""
    if not wish.codecs:
        return 0
    codecs = [codec for codec in map(codec_named, one.codecs) if codec]
    if not one.codecs:
        return len(wish.codecs)
    places = []
    for kind in ("video", "audio"):
        wanted = [name for name in wish.codecs if _by_short(name).type == kind]
        own = [codec.short for codec in codecs if codec.type == kind]
        if wanted and any(short not in wanted for short in own):
            return None
        places += [wanted.index(short) for short in own] if wanted else []
    return max(places, default=0)


def _by_short(name: str) -> CodecName:
    return next(codec for codec in CODEC_NAMES if codec.short == name)


def _fits(one: Rendition, wish: Wish) -> bool:
    if wish.within is None or not one.width or not one.height:
        return True
    width, height = wish.within
    return one.height <= height and (width is None or one.width <= width)


def _sounds(presentation: Presentation, best: Rendition, wish: Wish) -> tuple[list[Rendition], bool]:
    """The sounds to take beside a rendition, and whether its own is taken."""
    group = [
        one
        for one in presentation.renditions
        if one.type == "audio" and one.group is not None and one.group == best.sound_group
    ]
    group = _one_of_each(group, wish)
    if not wish.languages:
        if not group or best.sound_default:
            return [], True
        sound = next((one for one in group if one.default), None)
        if sound is None and best.sound_within:
            return [], True
        return [sound or group[0]], False
    if ALL in wish.languages:
        group.sort(key=lambda one: not one.default)
        return group, best.sound_within or not group
    wanted = [one for language in wish.languages for one in group if same_language(one.language or "", language)]
    if presentation.kind == "dash":
        wanted = _one_of_alike(wanted)
    own = best.sound_within and any(same_language(best.language or "", language) for language in wish.languages)
    if not wanted and not own:
        if not group and not best.language:
            return [], True  # its languages are not stated
        there = sorted({one.language or "not stated" for one in [*group, *([best] if best.sound_within else [])]})
        raise NothingFound(
            f"There is no sound in {', '.join(wish.languages)}.", f"There is sound in {', '.join(there)}."
        )
    return list(dict.fromkeys(wanted)), own


def _one_of_each(sounds: Sequence[Rendition], wish: Wish) -> list[Rendition]:
    """Of sounds that differ in their bit rate only the best; of those in other codecs, where a codec is wished for,
    those in that."""
    best: dict[str, Rendition] = {}
    for one in sounds:
        key = one.alternative or one.name
        if key not in best or _worth(one, wish) > _worth(best[key], wish):
            best[key] = one
    liked = [one for one in best.values() if _liked(one, wish) is not None]
    return liked or list(best.values())


def _one_of_alike(sounds: Sequence[Rendition]) -> list[Rendition]:
    """Of sets that say the same of themselves (and differ in codec or channels) the default one, else the first."""
    alike: dict[tuple[object, ...], Rendition] = {}
    for one in sounds:
        key = (one.language, one.label, one.characteristics)
        if key not in alike or (one.default and not alike[key].default):
            alike[key] = one
    return list(alike.values())


def _subtitles(presentation: Presentation, best: Rendition, wish: Wish) -> list[Taken]:
    if NONE in wish.subtitles:
        return []
    group = [one for one in presentation.renditions if one.type == "subtitles" and one.group == best.subtitle_group]
    if ALL not in wish.subtitles:
        group = [one for one in group if any(same_language(one.language or "", want) for want in wish.subtitles)]
    return [Taken(one, frozenset({"subtitles"}), one.default) for one in group]

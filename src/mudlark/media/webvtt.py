"""WebVTT: text in, cues out, and back.

Follows the WebVTT standard §4 (W3C) as leniently as its parser in §6, and RFC 8216 §3.5 (X-TIMESTAMP-MAP). Times are
seconds on the text's own clock.
"""

import re
from collections.abc import Iterable

import msgspec
from msgspec.structs import replace

from mudlark.errors import FormatError

_TIME = r"(?:(\d{1,9}):)?([0-5]?\d):([0-5]?\d)[.,](\d{1,9})"
_TIMING = re.compile(rf"\s*{_TIME}\s*-->\s*{_TIME}(?:[ \t]+(.*))?\s*$", re.A)
_MAP = re.compile(r"X-TIMESTAMP-MAP\s*=\s*(.*)", re.I)
_LOCAL = re.compile(rf"LOCAL:\s*{_TIME}", re.I | re.A)
_MPEGTS = re.compile(r"MPEGTS:\s*(\d{1,12})", re.I | re.A)
_NOTE = re.compile(r"NOTE(?:[ \t\n]|$)")
_MOST_CUES = 500_000


class Cue(msgspec.Struct, frozen=True):
    """begin, end: seconds. settings: where and how it is shown, as written. identifier: as given, or empty."""

    begin: float
    end: float
    text: str
    settings: str = ""
    identifier: str = ""


class Subtitles(msgspec.Struct, frozen=True):
    """blocks: styles and regions, as written. dropped: blocks that are no cue that can be read. offset: seconds from
    the text's clock to the clock of MPEG-2 timestamps, None if it states no map; it is known up to wraps of that clock.
    """

    cues: tuple[Cue, ...]
    blocks: tuple[str, ...] = ()
    offset: float | None = None
    dropped: int = 0


def parse(data: bytes) -> Subtitles:
    """Read a whole text, or a segment of one. Raises FormatError on what is none."""
    text = data.decode("utf-8-sig", "replace").replace("\r\n", "\n").replace("\r", "\n").replace("\0", "\ufffd")
    if not text.startswith("WEBVTT"):
        raise FormatError("This is not WebVTT: it does not begin with WEBVTT", 0)
    head, *rest = re.split(r"\n{2,}", text.strip("\n"))
    cues: list[Cue] = []
    blocks: list[str] = []
    dropped = 0
    lines = head.split("\n")
    timing = next((number for number, line in enumerate(lines) if "-->" in line), None)
    if timing is not None:  # no empty line behind the header
        rest = ["\n".join(lines[timing:]), *rest]
        lines = lines[:timing]
    for block in rest:
        if block.startswith(("STYLE", "REGION")) and "-->" not in block:
            blocks.append(block)
        elif "-->" not in block and _NOTE.match(block):
            continue
        elif (cue := _cue(block)) is None:
            dropped += 1
        elif cue.text:
            cues.append(cue)
            if len(cues) > _MOST_CUES:
                raise FormatError("There are more cues than any film can have")
    return Subtitles(tuple(cues), tuple(blocks), _offset(lines), dropped)


def _cue(block: str) -> Cue | None:
    lines = block.split("\n")
    for number, line in enumerate(lines[:2]):
        if match := _TIMING.match(line):
            begin, end = _seconds(*match.groups()[:4]), _seconds(*match.groups()[4:8])
            words = "\n".join(lines[number + 1 :]).strip("\n")
            if end <= begin:
                return None
            return Cue(begin, end, words, (match[9] or "").strip(), lines[0].strip() if number else "")
    return None


def _seconds(hours: str | None, minutes: str, seconds: str, fraction: str) -> float:
    return int(hours or 0) * 3600 + int(minutes) * 60 + int(seconds) + float(f"0.{fraction}")


def _offset(lines: list[str]) -> float | None:
    for line in lines:
        if stamp := _MAP.match(line.strip()):
            local, ticks = _LOCAL.search(stamp[1]), _MPEGTS.search(stamp[1])
            return (int(ticks[1]) / 90_000 if ticks else 0.0) - (_seconds(*local.groups()) if local else 0.0)
    return None


def joined(cues: Iterable[Cue], gap: float = 0.01) -> list[Cue]:
    """The cues in order of time; one that goes on where the same has ended is one. gap: seconds that may lie
    between."""
    made: dict[tuple[str, str, str], list[Cue]] = {}
    for cue in sorted(cues, key=lambda cue: (cue.begin, cue.end)):
        alike = made.setdefault((cue.text, cue.settings, cue.identifier), [])
        if alike and cue.begin <= alike[-1].end + gap:
            alike[-1] = replace(alike[-1], end=max(alike[-1].end, cue.end))
        else:
            alike.append(cue)
    return sorted((cue for alike in made.values() for cue in alike), key=lambda cue: (cue.begin, cue.end))


def shifted(cues: Iterable[Cue], seconds: float) -> list[Cue]:
    """The cues so much later; those that end before the beginning are left out."""
    moved = (replace(cue, begin=max(0.0, cue.begin + seconds), end=cue.end + seconds) for cue in cues)
    return [cue for cue in moved if cue.end > cue.begin]


def write(subtitles: Subtitles) -> bytes:
    """The text of subtitles, cues in order of time."""
    parts = ["WEBVTT", *subtitles.blocks]
    for cue in sorted(subtitles.cues, key=lambda cue: (cue.begin, cue.end)):
        settings = f" {cue.settings}" if cue.settings else ""
        head = f"{cue.identifier}\n" if cue.identifier else ""
        parts.append(f"{head}{_clock(cue.begin)} --> {_clock(cue.end)}{settings}\n{cue.text}")
    return ("\n\n".join(parts) + "\n").encode("utf-8")


def _clock(seconds: float) -> str:
    thousandths = round(seconds * 1000)
    minutes, rest = divmod(thousandths, 60_000)
    return f"{minutes // 60:02d}:{minutes % 60:02d}:{rest // 1000:02d}.{rest % 1000:03d}"

"""Subtitles: WebVTT, SRT and TTML are read to their end, and their cues are where they should be in time."""

import re
from pathlib import Path

from mudlark.errors import FormatError
from mudlark.media.ttml import parse_ttml
from mudlark.media.webvtt import parse as parse_webvtt
from mudlark.verify.account import Account
from mudlark.verify.forms.found import Found, at_second

_LARGEST = 50_000_000  # bytes
_CUE = re.compile(
    r"^[ \t]*(?:(\d{1,3}):)?(\d{1,2}):(\d{2})[,.](\d{1,3})[ \t]*-->[ \t]*(?:(\d{1,3}):)?(\d{1,2}):(\d{2})[,.](\d{1,3})",
    re.M,
)
Times = list[tuple[float, float]]  # and, with them, how many blocks are no cue


def check_words(path: Path, form: str, account: Account) -> Found:
    """Look into a text of cues. form: webvtt, ttml, or srt."""
    if path.stat().st_size > _LARGEST:
        account.skipped("content", f"{path.name} is too large for a text of subtitles, and was not read")
        return Found()
    data = path.read_bytes()
    if b"\0" in data and not data.startswith((b"\xff\xfe", b"\xfe\xff")):
        place = data.index(b"\0")
        account.failed("content", "text", f"Byte {place:,} is zero, which no text has", offset=place)
        return Found()
    try:
        times, dropped = _READERS[form](data)
    except FormatError as problem:
        account.failed("content", "text", f"The {form.upper()} cannot be read: {problem.what}", grave=True)
        return Found()
    backward = [(number, begin, end) for number, (begin, end) in enumerate(times, start=1) if end < begin]
    if backward:
        number, begin, _ = backward[0]
        text = f"Cue {number} ends before it begins, at {at_second(begin)}; {len(backward):,} such cues"
        account.failed("content", "cue-times", text, at=begin)
    elif dropped:
        what = "1 block is" if dropped == 1 else f"{dropped:,} blocks are"
        text = f"{what} no cue that can be read: its times are malformed or run backwards, or it was cut"
        account.failed("content", "cue-times", text)
    elif not times:
        account.failed("content", "empty", f"{path.name} has no cues")
    else:
        account.cover("content", len(data))
        account.passed("content", f"{form.upper()} of {len(times):,} cues, up to {at_second(max(e for _, e in times))}")
        if form != "ttml":
            account.leave_open(f"a text of {form.upper()}")
    return Found()


def _webvtt(data: bytes) -> tuple[Times, int]:
    parsed = parse_webvtt(data)
    return [(cue.begin, cue.end) for cue in parsed.cues], parsed.dropped


def _ttml(data: bytes) -> tuple[Times, int]:
    return [(cue.begin, cue.end) for cue in parse_ttml(data).cues], 0


def _srt(data: bytes) -> tuple[Times, int]:
    """SubRip has no standard; cues are what has such a line of times."""
    wide = data.startswith((b"\xff\xfe", b"\xfe\xff"))
    text = data.decode("utf-16" if wide else "utf-8-sig", "replace").replace("\r\n", "\n").replace("\r", "\n")

    def seconds(hours: str | None, minutes: str, rest: str, part: str) -> float:
        return int(hours or 0) * 3600 + int(minutes) * 60 + int(rest) + int(part.ljust(3, "0")) / 1000

    found = [(seconds(*match.group(1, 2, 3, 4)), seconds(*match.group(5, 6, 7, 8))) for match in _CUE.finditer(text)]
    if found and "\ufffd" in text and text.count("\ufffd") > len(text) // 50:
        raise FormatError("It is no text in UTF-8", text.index("\ufffd"))
    blocks = sum("-->" in line for line in text.splitlines())
    last = text.rstrip().rpartition("\n")[2].strip() if found else ""
    begun = last.isdigit() and text.rstrip().endswith(f"\n\n{last}")  # a block of which only its number is there
    return found, blocks - len(found) + begun


_READERS = {"webvtt": _webvtt, "ttml": _ttml, "srt": _srt}

"""How far behind the live edge a recording was, piece by piece, and what of it is missing, by time of day."""

from collections import defaultdict
from contextlib import suppress
from datetime import UTC, datetime

import msgspec

from mudlark.archive.record import Record
from mudlark.report.requests import Log, stamp
from mudlark.report.table import LATEST, Row, Table, within
from mudlark.text import printable

_TITLE = "How far behind the live edge, by time of day"
_COLUMNS = ("track", "time of day", "seconds behind", "length", "what is wrong")


class _Piece(msgspec.Struct, frozen=True):
    """begins, ends: of what it shows, in seconds since 1970, or since the recording began where the manifest states no
    times. came: when it was here, in seconds since 1970; None if it never was."""

    track: str
    begins: float
    length: float
    came: float | None
    problem: str | None

    @property
    def late(self) -> float | None:
        """Seconds after its end at which it was here."""
        return None if self.came is None else self.came - self.begins - self.length


def is_recording(record: Record) -> bool:
    """True of what was recorded while it was broadcast."""
    return any(note.code.startswith("recording-") for note in record.notes)


def behind_table(record: Record, log: Log) -> Table:
    """A row a piece of a recording. Where the manifest states no times of day, lateness counts from the piece that came
    soonest."""
    if not record.segment_list:
        words = "It came as one endless body; nothing in it says how far behind it was."
        return Table("behind", _TITLE, _COLUMNS, words=words)
    pieces, stated = _pieces(record, log)
    late = [one.late for one in pieces if one.late is not None]
    if not late:
        words = "The record does not say when the pieces of this recording came."
        return Table("behind", _TITLE, _COLUMNS, words=words)
    soonest = 0.0 if stated else min(late)
    moments = [stamp(one.begins + (0.0 if stated else soonest)) for one in pieces]
    rows: list[Row] = []
    for one, moment in zip(pieces, moments, strict=True):
        behind = None if one.late is None else round(one.late - soonest, 1)
        rows.append((one.track, moment, behind, one.length, one.problem or ""))
    missing = [(moment, one.length) for one, moment in zip(pieces, moments, strict=True) if one.problem]
    words = f"The pieces came from {min(late) - soonest:.1f} to {max(late) - soonest:.1f} s after "
    words += "the moment at which they end. " if stated else "the time at which they could have come soonest. "
    if missing:
        named = "; ".join(f"{moment[11:19]}, {length:.0f} s" for moment, length in missing[:8])
        words += f"Missing: {named}{'; and others' if len(missing) > 8 else ''} (UTC)."
    else:
        words += "None is missing."
    marked = frozenset(number for number, one in enumerate(pieces) if one.problem)
    return Table("behind", _TITLE, _COLUMNS, rows, words, marked)


def _pieces(record: Record, log: Log) -> tuple[list[_Piece], bool]:
    """The pieces, and whether the manifest states their times of day."""
    ends = log.ends()
    at: defaultdict[str, float] = defaultdict(float)
    stated = any(one.moment for one in record.segment_list)
    pieces = []
    for one in record.segment_list:
        begins = at[one.track]
        length = within(one.duration)
        at[one.track] += length
        came = ends.get(f"{one.track} {one.number}")
        if came is None and one.fetched:
            came = _seconds(one.fetched)
        moment = _seconds(one.moment) if one.moment else None
        if stated and moment is None:
            continue
        pieces.append(_Piece(printable(one.track), moment if moment is not None else begins, length, came, one.problem))
    return pieces, stated


def _seconds(moment: str) -> float | None:
    with suppress(ValueError, OverflowError):
        read = datetime.fromisoformat(moment)
        seconds = (read if read.tzinfo else read.replace(tzinfo=UTC)).timestamp()
        return seconds if 0 <= seconds <= LATEST else None
    return None

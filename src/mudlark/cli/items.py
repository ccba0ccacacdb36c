"""What a haul left, for people and for programs."""

from typing import Any

from rich.text import Text

from mudlark.archive.record import Record
from mudlark.cli.progress import UNITS
from mudlark.cli.show import bits, console, problem_data, verdict
from mudlark.errors import MudlarkError, Refused
from mudlark.hauling.order import Item
from mudlark.text import clock, printable, size
from mudlark.web.redact import redacted


def item_data(item: Item) -> dict[str, Any]:
    """An item as documents have it."""
    record = item.record
    return {
        "verdict": record.verdict,
        "reason": record.reason,
        "title": record.title,
        "folder": str(item.folder) if item.folder else None,
        "kept": str(item.kept) if item.kept else None,
        "state": item.state,
        "by": item.by,
        "already": item.state == "unchanged",
        "files": record.files if item.folder else [],
        "duration": record.duration,
        "tracks": record.tracks,
        "segments": record.segments,
        "fetching": record.fetching,
        "problems": [{"code": p.code, "message": p.message, "at": p.at, "offset": p.offset} for p in record.problems],
        "played": record.played,
        "notes": record.notes,
        "checks": record.checks,
        "contents": record.contents,
        "source": record.source,
    }


def failure_data(target: str, problem: MudlarkError) -> dict[str, Any]:
    """A haul that left nothing, in the shape of those that did."""
    return {
        "verdict": "refused" if isinstance(problem, Refused) else "failed",
        "reason": problem.what,
        "title": None,
        "folder": None,
        "kept": None,
        "state": None,
        "by": None,
        "already": False,
        "files": [],
        "duration": None,
        "tracks": [],
        "segments": None,
        "fetching": None,
        "problems": [problem_data(problem)],
        "notes": [],
        "checks": [],
        "contents": [],
        "source": {"target": redacted(target)},
    }


_MEASURABLE = 0.1  # seconds of fetching from which a speed says something
_STATES = {
    "new": "",
    "unchanged": "is unchanged since it was hauled",
    "repaired": "was damaged here, and is mended",
    "changed": "has changed there; this stands beside the earlier item",
    "again": "stands beside the earlier item",
}


def show_item(item: Item) -> None:
    """An item for people."""
    out = console()
    record = item.record
    line = verdict(record.verdict)
    line.append(f"  {record.title}", style="bold default")
    if item.state != "new":
        by = f", going by {item.by}" if item.by else ""
        line.append(f"  {_STATES[item.state]}{by}", style="not bold default")
    out.print(line)
    for track in record.tracks:
        facts = [
            track.codec,
            track.language,
            f"{track.width}×{track.height}" if track.width else None,
            f"{track.frame_rate:g} frames/s" if track.frame_rate else None,
            f"{track.channels} channels" if track.channels else None,
            f"{track.sample_rate} Hz" if track.sample_rate else None,
            bits(track.bitrate) if track.bitrate else None,
            clock(track.duration) if track.duration else None,
        ]
        out.print(f"  {track.type:<7}{', '.join(fact for fact in facts if fact)}", markup=False)
    _show_checks(out, record)
    if record.contents:
        inside = [f"{printable(name)} ({size(count)})" for name, count in record.contents[:5]]
        more = f" and {len(record.contents) - 5} more" if len(record.contents) > 5 else ""
        out.print(f"  inside {', '.join(inside)}{more}", markup=False)
    if item.folder:
        media = [file for file in record.files if file.role == "media"]
        more = f" and {len(media) - 1} more" if len(media) > 1 else ""
        total = size(sum(file.bytes for file in media))
        out.print(f"  file   {item.folder / media[0].path}{more} ({total})", markup=False)
        for file in record.files:
            if file.role in ("subtitle", "poster"):
                out.print(f"  with   {file.path} ({file.language or file.role}, {size(file.bytes)})", markup=False)
        out.print(f"  record {item.folder / 'record.json'}", markup=False)
    else:
        out.print(f"  Nothing was put under a final name; what was fetched is in {item.kept}", markup=False)
    if item.kept and item.folder:
        out.print("  Run the same command again to try for what is missing.", markup=False)


def _show_checks(out: Any, record: Record) -> None:
    passed = sum(check.outcome == "passed" for check in record.checks)
    counts, facts = record.segments, record.fetching
    unit = "tiles" if any(note.code == "tiles-joined" for note in record.notes) else UNITS[record.source.kind]
    total = f"{counts.planned} {unit}" if counts.planned > 1 else "1 file"
    parts = [f"{counts.fetched} fetched" if counts.fetched else "", f"{counts.reused} reused" if counts.reused else ""]
    parts += [
        f"{counts.retried} tried again" if counts.retried else "",
        f"{counts.missing} missing" if counts.missing else "",
        f"{facts.elsewhere} from elsewhere" if facts.elsewhere else "",
        f"{facts.renewed} under renewed links" if facts.renewed else "",
        f"{facts.raced} asked for twice as they were slow" if facts.raced else "",
    ]
    checks = {0: "no check could be made", 1: "1 check passed"}.get(passed, f"{passed} checks passed")
    told = ", ".join(part for part in parts if part)
    if facts.seconds >= _MEASURABLE and told:
        told += f"; {size(facts.bytes)} in {facts.seconds:.1f} s ({size(facts.bytes / facts.seconds)}/s)"
    out.print(f"  {total}: {told}; {checks}" if told else f"  {checks}", markup=False)
    for message in dict.fromkeys([*(p.message for p in record.problems), *(note.message for note in record.notes)]):
        out.print(Text(f"  ! {message}", style="yellow"))

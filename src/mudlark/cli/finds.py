"""How pages and their finds are shown, to people and to programs."""

import sys
import time
from typing import Any

from rich.console import Console
from rich.text import Text

from mudlark.cli.show import columns, console, indented, life, live_data, live_words, numbers
from mudlark.find.further import next_step
from mudlark.find.model import Evidence, Find, Page
from mudlark.find.places.button import Button
from mudlark.find.questions import Form
from mudlark.text import clock, printable, size

_MOST_OPTIONS = 24  # of one question that are shown
_ROLE_STYLE = {"main": "bold green", "advert": "yellow"}
_LEAST_LABEL = 12  # characters of what a find is called that are shown
_HEADING = f"{'':>4}  {'kind':<14}{'role':<10}{'length':>7}  {'size':>9}  what it is called, and where it is"


def show_page(page: Page, most: int, why: bool) -> None:
    """A page with the first of its finds, a line each; or with all that speaks for each."""
    out = console()
    stated = f", which says it lasts {clock(page.duration)}" if page.duration else ""
    count = "1 find" if len(page.finds) == 1 else f"{len(page.finds):,} finds"
    out.print(Text(page.title or "Untitled page", style="bold"))
    how = {None: "", "listening": ", listened to"}.get(page.capture, f", recorded in {page.capture}")
    out.print(Text(f"{count} on {printable(page.url)}{how}{stated}", style="dim"))
    for note in page.notes:
        out.print(Text(f"! {note}", style="yellow"))
    if page.key_systems:
        out.print(Text(f"! Its player asks for the keys of {' and '.join(page.key_systems)}.", style="yellow"))
    if page.walk:
        answered = "; ".join(f"{name}: {label}" for step in page.walk for name, label in step.answered)
        out.print(Text(f"Answered {printable(answered)}", style="dim"))
    if page.entries:
        out.print(Text(f"It lists {len(page.entries)} entries; write them to a file with --csv FILE.", style="bold"))
    for feed in page.feeds[:5]:
        out.print(Text(f"It names a feed; look through it: mudlark sift {printable(feed)}", style="bold"))
    _choices(out, page)
    if page.failed:
        out.print(Text(f"! {', '.join(page.failed)}.", style="yellow"))
    fit = any(find.role == "main" and not find.problem for find in page.finds)
    if page.finds and not (fit or page.itself or page.entries):
        only = " but an advert" if any(find.role == "advert" for find in page.finds) else ""
        words = f"! No film, sound or file to keep is named here{only}. {next_step(page)}"
        out.print(Text(words.rstrip(), style="yellow"))
    out.print()
    if not page.finds:
        return
    out.print(Text(_HEADING, style="dim"))
    for find in page.finds[:most]:
        for line in _lines(find, out):
            out.print(line)
        if why:
            _reasons(find, out)
    beyond = len(page.finds) - most
    if beyond > 0:
        out.print(Text(f"      … and {beyond:,} more; see them with --most {len(page.finds)} or --json", style="dim"))
    if page.left_out:
        out.print(Text(f"      … and {page.left_out:,} addresses beyond what is kept of one page", style="dim"))


def _lines(find: Find, out: Console) -> list[Text]:
    """What a person needs to choose: on one line, or on a terminal on which that has no room with the address, whole,
    on a line of its own."""
    kind = (
        f"{find.kind} {find.response.format}"
        if find.response.format and find.kind in ("video", "audio", "image", "package")
        else find.kind
    )
    line = Text(f"{find.number:>4}  ", style="bold")
    line.append(f"{kind[:13]:<14}", style="not bold")
    line.append(f"{find.role:<10}", style=_ROLE_STYLE.get(find.role, "dim"))
    length = (
        clock(find.duration) if find.duration or not find.tall else f"{find.tall}p" if find.kind == "video" else "–"
    )
    line.append(f"{length:>7}  {size(find.bytes):>9}  ", style="not bold")
    for note, style in _notes(find):
        line.append(f"{note}  ", style=f"not bold {style}")
    address = Text(printable(find.url), style="not bold cyan" if find.role == "main" else "not bold")
    room = out.width - line.cell_len if sys.stdout.isatty() else sys.maxsize
    label = find.label or ""
    if len(label) + 2 + address.cell_len <= room:
        if label:
            line.append(f"{label}  ", style="bold default")
        return [line.append_text(address)]
    room = max(_LEAST_LABEL, room)
    line.append(label if len(label) <= room else f"{label[: room - 1]}…", style="bold default")
    return [line, Text("      ").append_text(address)]


def _reasons(find: Find, out: Console) -> None:
    """All places that name a find, and the points of its score, added up."""
    for place in map(_place, find.evidence):
        out.print(Text(indented(place, 6), style="dim"))
    for version in find.rank.versions[:8]:
        out.print(Text(f"      also as {printable(version)}", style="dim"))
    for points, words in find.rank.why:
        out.print(Text(f"      {points:>+5}  {words}", style="dim"))
    out.print(Text(f"      {find.score:>5}  in all", style="dim bold"))


def _place(evidence: Evidence) -> str:
    where = f"{evidence.where}, {evidence.at}" if evidence.at else evidence.where
    frame = f" of {printable(evidence.frame)}" if evidence.frame else ""
    return f"{'' if evidence.act else 'in '}{where}{frame}"


def _choices(out: Any, page: Page) -> None:
    """What the page asks, with every answer that it takes."""
    for form in page.forms:
        if form.refused:
            out.print(Text(f"! A form is not filled in: {form.refused}.", style="yellow"))
            continue
        for question in form.questions:
            if not question.options:
                continue
            out.print()
            line = Text("It asks: ", style="dim").append(question.label or question.name, style="not dim bold")
            line.append(f"  --choose {question.name}=…", style="not bold dim")
            out.print(line)
            for option in question.options[:_MOST_OPTIONS]:
                shown = f"  {printable(option.label)}"
                same = option.value.lower() == option.label.lower() or question.leads
                out.print(Text(shown).append("" if same else f"  ({printable(option.value)})", style="dim"))
            if len(question.options) > _MOST_OPTIONS:
                out.print(Text(f"  … and {len(question.options) - _MOST_OPTIONS} more; see --json", style="dim"))


def _notes(find: Find) -> list[tuple[str, str]]:
    """What a user must know before trying (expiry, series, versions, failures), each with its style."""
    notes = []
    if find.problem:
        notes.append(("cannot be had", "yellow"))
    if find.response.live:
        notes.append((live_words(find.response.live), "cyan"))
    if find.count > 1:
        notes.append((f"{find.count} {'page images' if find.kind == 'image' else 'numbered files'}", "dim"))
    if find.mention.missing:
        notes.append((f"number {numbers(find.mention.missing)} missing", "yellow"))
    if find.rank.versions:
        notes.append((f"largest of {len(find.rank.versions) + 1} versions", "dim"))
    if find.response.expires is not None:
        notes.append((life(find.response.expires - time.time()), "yellow"))
    if find.response.width and find.response.height and find.kind == "image":
        notes.append((f"{find.response.width}×{find.response.height}", "dim"))
    return notes


def show_button(page: Page, button: Button) -> None:
    out = console()
    out.print(Text(button.text or "A control without text", style="bold"))
    out.print(Text(f"{button.markup} on {printable(page.url)}", style="dim"))
    out.print()
    rows = [("", "answer", "size", "what tells it apart")]
    for number, entry in enumerate(button.pointed, start=1):
        find = entry.find
        answer = "lives" if find.response.status and not find.problem else str(find.response.status or "none")
        rows.append((str(number), answer, size(find.bytes), ", ".join(entry.tells) or "–"))
    lines = list(columns(rows, right=(0, 2)))
    out.print(Text(lines[0], style="dim"))
    for entry, line in zip(button.pointed, lines[1:], strict=True):
        out.print(Text(line, style="" if entry.find.problem else "bold green"))
        out.print(Text(f"   {printable(entry.find.url)}", style="" if entry.find.problem else "cyan"))
        label = f" “{entry.find.label}”" if entry.find.label else ""
        out.print(Text(f"   {entry.where}{label}", style="dim"))
        if entry.find.problem:
            out.print(Text(f"   {entry.find.problem}", style="yellow"))


def page_data(page: Page, button: Button | None) -> dict[str, Any]:
    data: dict[str, Any] = {
        "url": page.url,
        "title": page.title,
        "description": page.description,
        "creator": page.creator,
        "date": page.date,
        "duration": page.duration,
        "dimensions": page.dimensions,
        "finds": [_find(find) for find in page.finds],
        "frames": [frame.url for frame in page.frames],
        "forms": [_form(form) for form in page.forms],
        "walk": [dict(step.answered) for step in page.walk],
        "left_out": page.left_out,
        "capture": page.capture,
        "key_systems": page.key_systems,
        "entries": page.entries,
        "feeds": page.feeds,
        "notes": page.notes,
        "failed": page.failed,
    }
    if button:
        data["button"] = {
            "text": button.text,
            "markup": button.markup,
            "points_to": [
                {**_find(entry.find), "where": entry.where, "own": entry.own, "tells": entry.tells}
                for entry in button.pointed
            ],
        }
    return data


def _form(form: Form) -> dict[str, Any]:
    return {
        "action": form.action,
        "method": form.method,
        "refused": form.refused,
        "choices": [
            {
                "name": question.name,
                "label": question.label,
                "given": question.given,
                "options": [{"label": option.label, "value": option.value} for option in question.options],
            }
            for question in form.questions
        ],
    }


def _find(find: Find) -> dict[str, Any]:
    return {
        "number": find.number,
        "url": find.url,
        "kind": find.kind,
        "role": find.role,
        "score": find.score,
        "why": find.rank.reasons,
        "evidence": [{"place": e.place, "where": e.where, "at": e.at, "frame": e.frame} for e in find.evidence],
        "label": find.label,
        "language": find.language,
        "status": find.response.status,
        "final": find.final,
        "type": find.type,
        "form": find.response.format,
        "bytes": find.bytes,
        "ranges": find.response.ranges,
        "duration": find.duration,
        "width": find.response.width,
        "height": find.response.height,
        "count": find.count,
        "members": find.members,
        "missing": find.mention.missing,
        "versions": find.rank.versions,
        "larger": find.rank.larger,
        "renditions": find.response.renditions,
        "expires": find.response.expires,
        "problem": find.problem,
        "protected": find.protected,
        "live": live_data(find.response.live),
    }

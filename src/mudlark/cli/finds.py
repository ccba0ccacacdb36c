"""How pages and their finds are shown, to people and to programs."""

import time
from typing import Any

from rich.text import Text

from mudlark.cli.show import clock, columns, console, indented, life, numbers, size
from mudlark.find.button import Button
from mudlark.find.model import Find, Page
from mudlark.find.questions import Form
from mudlark.web.address import printable

_MOST_OPTIONS = 24  # of one question that are shown
_ROLE_STYLE = {"main": "bold green", "advert": "yellow"}


def show_page(page: Page, most: int, why: bool) -> None:
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
        said = "; ".join(f"{name}: {label}" for step in page.walk for name, label in step.answered)
        out.print(Text(f"Answered {printable(said)}", style="dim"))
    if page.entries:
        out.print(Text(f"It lists {len(page.entries)} entries; write them to a file with --csv FILE.", style="bold"))
    _choices(out, page)
    out.print()
    if not page.finds:
        return
    out.print(Text(f"{'':>3}  {'kind':<10}{'role':<11}{'length':>7}{'size':>10}{'score':>7}", style="dim"))
    for number, find in enumerate(page.finds[:most], start=1):
        line = Text(f"{number:>3}  ", style="bold")
        line.append(f"{find.kind:<10}")
        line.append(f"{find.role:<11}", style=_ROLE_STYLE.get(find.role, "dim"))
        line.append(f"{clock(find.duration):>7}{size(find.bytes):>10}{find.score:>7}", style="not bold")
        for note, style in _notes(find):
            line.append(f"  {note}", style=f"not bold {style}")
        out.print(line)
        out.print(Text(f"     {printable(find.url)}", style="cyan" if find.role == "main" else ""))
        places = [("" if e.act else "in ") + (f"{e.where}, {e.at}" if e.at else e.where) for e in find.evidence]
        places = [
            place + (f" of {printable(e.frame)}" if e.frame else "")
            for place, e in zip(places, find.evidence, strict=True)
        ]
        if why:
            for place in places:
                out.print(Text(indented(place, 5), style="dim"))
            for version in find.versions[:8]:
                out.print(Text(f"     also as {printable(version)}", style="dim"))
            for points, words in find.why:
                out.print(Text(f"     {points:>+4}  {words}", style="dim"))
        else:
            more = f"; and {len(places) - 2} more places" if len(places) > 2 else ""
            out.print(Text(indented(f"{'; '.join(places[:2])}{more}", 5), style="dim"))
            reasons = [f"{words} {points:+d}" for points, words in find.why[1:]]
            out.print(Text(indented(", ".join([find.why[0][1], *reasons]), 5), style="dim"))
    beyond = len(page.finds) - most
    if beyond > 0:
        out.print(Text(f"     … and {beyond:,} more; see them with --most {len(page.finds)} or --json", style="dim"))
    if page.left_out:
        out.print(Text(f"     … and {page.left_out:,} addresses beyond what is kept of one page", style="dim"))


def _choices(out: Any, page: Page) -> None:
    """What the page asks, with every answer that it takes."""
    for form in page.forms:
        if form.refused:
            out.print(Text(f"! A form is not filled in: {form.refused}.", style="yellow"))
            continue
        for question in form.questions:
            if not question.options:
                continue
            line = Text("\nIt asks: ", style="dim").append(question.label or question.name, style="not dim bold")
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
    if find.count > 1:
        notes.append((f"{find.count} {'page images' if find.kind == 'image' else 'numbered files'}", "dim"))
    if find.missing:
        notes.append((f"number {numbers(find.missing)} missing", "yellow"))
    if find.versions:
        notes.append((f"largest of {len(find.versions) + 1} versions", "dim"))
    if find.expires is not None:
        notes.append((life(find.expires - time.time()), "yellow"))
    if find.width and find.height:
        notes.append((f"{find.width}×{find.height}", "dim"))
    return notes


def show_button(page: Page, button: Button) -> None:
    out = console()
    out.print(Text(button.text or "A control without text", style="bold"))
    out.print(Text(f"{button.markup} on {printable(page.url)}", style="dim"))
    out.print()
    rows = [("", "answer", "size", "what tells it apart")]
    for number, entry in enumerate(button.pointed, start=1):
        find = entry.find
        answer = "lives" if find.status and not find.problem else str(find.status or "none")
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
        "notes": page.notes,
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
        "url": find.url,
        "kind": find.kind,
        "role": find.role,
        "score": find.score,
        "why": find.reasons,
        "evidence": [{"where": e.where, "at": e.at, "frame": e.frame} for e in find.evidence],
        "label": find.label,
        "status": find.status,
        "final": find.final,
        "type": find.type,
        "form": find.form,
        "bytes": find.bytes,
        "ranges": find.ranges,
        "duration": find.duration,
        "width": find.width,
        "height": find.height,
        "count": find.count,
        "members": find.members,
        "missing": find.missing,
        "versions": find.versions,
        "larger": find.larger,
        "renditions": find.renditions,
        "expires": find.expires,
        "problem": find.problem,
        "protected": find.protected,
    }

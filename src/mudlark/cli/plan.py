"""What `mudlark haul --plan` says: what would be taken, from where, how much of it, and under which name."""

import asyncio
from typing import Any

from rich.text import Text

from mudlark.cli.options import Network
from mudlark.cli.progress import UNITS, HaulProgress
from mudlark.cli.show import columns, complain, console, emit_json
from mudlark.cli.steps import Steps
from mudlark.errors import MudlarkError
from mudlark.hauling.order import Order
from mudlark.hauling.plan import Planned, plan
from mudlark.manifest.choose import Taken
from mudlark.text import clock, counted, size
from mudlark.web.redact import redacted
from mudlark.web.session import Session


def show_plans(orders: list[Order], network: Network, as_json: bool) -> None:
    """The plans of some orders. Raises what went wrong with the last that failed, behind those that did not."""
    planned: list[Planned] = []
    failures: list[MudlarkError] = []
    for order in orders:
        try:
            _plan(order, network, planned, failures)
        except MudlarkError as problem:
            problem.url = problem.url or order.target
            failures.append(problem)
    if as_json:
        emit_json("haul", failures, items=[], plans=[_data(one) for one in planned])
    else:
        for one in planned:
            _show(one)
        if len(planned) > 1:
            known = [one.bytes for one in planned if one.bytes is not None]
            words = f"{counted(len(planned), 'item')}, {size(sum(known))} as far as that is known"
            console().print(Text(words, style="bold"))
    if failures:
        for failure in failures[:-1]:
            complain(failure.what, failure.advice)
        raise failures[-1]


def _plan(order: Order, network: Network, planned: list[Planned], failures: list[MudlarkError]) -> None:
    async def work() -> None:
        async with Session(network.connection()) as session:
            planned.extend([one async for one in plan(session, order, progress)])

    with Steps() as steps, HaulProgress(failures, steps) as progress:
        asyncio.run(work())


def _show(one: Planned) -> None:
    out = console()
    out.print(Text(one.title, style="bold"))
    amount = []
    if one.segments is not None and one.kind != "file":
        amount.append(f"{one.segments:,} {UNITS[one.kind]}")
    if one.live:
        amount.append("running")
    elif one.duration:
        amount.append(clock(one.duration))
    if one.bytes is not None:
        amount.append(f"{'about ' if one.reckoned else ''}{size(one.bytes)}")
    if one.seconds is not None and one.rate:
        lasts = clock(one.seconds) if one.seconds >= 1 else "less than a second"
        amount.append(f"{lasts} at the {size(one.rate)}/s seen")
    rows = [["from", redacted(one.address)], ["kind", ", ".join([one.kind, *amount])]]
    rows += [["takes", _words(taken)] for taken in one.taken if one.kind in ("hls", "dash")]
    there = f"{one.there}, which is compared with the server first"
    rows.append(["there", there] if one.there else ["as", str(one.folder)])
    for line in columns(rows, right=()):
        out.print(f"  {line}", markup=False)
    out.print()


def _words(taken: Taken) -> str:
    rendition = taken.rendition
    size_ = f"{rendition.width}×{rendition.height}" if rendition.width and rendition.height else ""
    parts = [rendition.name, rendition.type, size_, rendition.language or "", ", ".join(rendition.codecs)]
    return "  ".join(part for part in parts if part)


def _data(one: Planned) -> dict[str, Any]:
    return {
        "title": one.title,
        "kind": one.kind,
        "url": redacted(one.address),
        "live": one.live,
        "renditions": [taken.rendition.name for taken in one.taken],
        "segments": one.segments,
        "duration": one.duration,
        "bytes": one.bytes,
        "reckoned": one.reckoned,
        "rate": round(one.rate) if one.rate else None,
        "seconds": round(one.seconds, 1) if one.seconds is not None else None,
        "folder": str(one.folder),
        "there": str(one.there) if one.there else None,
    }

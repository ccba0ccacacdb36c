"""What `mudlark haul` does: all targets, one after the other, and what came of them."""

import asyncio
import re
from collections.abc import Callable
from datetime import datetime
from pathlib import Path
from typing import Any, Literal

import click
from msgspec.structs import replace

from mudlark.browser.driver import require_browser
from mudlark.browser.options import Listening
from mudlark.cli.config import own_guises
from mudlark.cli.items import failure_data, item_data, show_item
from mudlark.cli.options import (
    Network,
    addresses,
    keeping,
    means,
    wanted,
)
from mudlark.cli.plan import show_plans
from mudlark.cli.progress import HaulProgress
from mudlark.cli.report import need_libraries, report_at_the_end
from mudlark.cli.show import complain, emit_json, messages
from mudlark.cli.spans import span_of
from mudlark.cli.steps import Steps
from mudlark.cli.unfinished import drop_unfinished, mention_unfinished, tell_unfinished
from mudlark.cli.wishes import wish
from mudlark.errors import Interrupted, MudlarkError, UsageError
from mudlark.fetch.unfinished import unfinished
from mudlark.find.look import Means
from mudlark.find.model import tap_in
from mudlark.find.questions import ANY
from mudlark.find.select import Choice
from mudlark.hauling.order import Item, Order
from mudlark.hauling.steps import haul
from mudlark.web.guise import PLAIN, Guise, built_in
from mudlark.web.session import Session


def haul_all(
    targets: tuple[str, ...],
    into: Path,
    plan: bool,
    drop: bool,
    title: str | None,
    again: bool,
    expect: str | None,
    form: str,
    container: Literal["mp4", "mkv"] | None,
    play: Literal["some", "full"] | None,
    series: bool,
    nth: int | None,
    every: bool,
    tap: bool,
    as_json: bool,
    network: Network,
    **given: Any,
) -> None:
    """Haul what the command was given."""
    given["listen"] = given["listen"] or tap
    browser = given.get("browser")  # which the means take out of what was given
    choice, digest, way = Choice(nth, wanted(given), every, series), _digest(expect), means(given)
    if way.listening:
        way = replace(way, listening=replace(way.listening, tap=tap))
    wished = wish(given)
    span = span_of(given, datetime.now().astimezone())
    if any(answer.value == ANY for answer in way.answers):
        raise UsageError("haul takes one way through the questions.", "See all of them with `mudlark sift`.")
    guises: tuple[Guise, ...] = ()
    if network.guise == "all":
        guises, network = tuple({**built_in(), **own_guises()}.values()), replace(network, guise=PLAIN.name)
    if drop:
        drop_unfinished(unfinished(into), targets, into, as_json)
        return
    if not targets and way.har is None:
        if not into.is_dir():
            advice = "Give the address of a page, playlist or file, or --har FILE."
            raise UsageError("There is nothing to haul.", advice)
        tell_unfinished(unfinished(into), into, as_json)
        return
    order = Order(
        target="",
        into=into,
        choice=choice,
        title=title,
        expect=digest,
        means=way,
        as_images=form == "images",
        guises=guises,
        again=again,
        wish=wished,
        container=container,
        span=span,
        play=play,
        browser=browser,
    )
    order = keeping(order, given)
    if play and not plan:
        require_browser(browser)
    if plan:
        show_plans([_for_target(order, target) for target in addresses(targets) or [_only_page(way)]], network, as_json)
        return
    if reported := given.pop("report"):
        need_libraries()
    items: list[Item] = []
    failures: list[MudlarkError] = []
    data: list[dict[str, Any]] = []
    interrupted: list[MudlarkError] = []
    for target in addresses(targets) or [_only_page(way)]:
        problems: list[MudlarkError] = []
        came: list[Item] = []
        try:
            _haul(_for_target(order, target), network, problems, came.append)
        except MudlarkError as problem:
            problem.url = problem.url or target
            problems.append(problem)
        except KeyboardInterrupt:
            interrupted.append(Interrupted())
        for item in came:
            if reported and item.folder and not interrupted:
                report_at_the_end(item.folder, into / f"{item.folder.name}.html")
            data.append(item_data(item))
            if not as_json:
                show_item(item)
        items += came
        failures += problems
        data += [failure_data(target, problem) for problem in problems]
        if interrupted:
            break
    if as_json:
        emit_json("haul", [*failures, *interrupted], items=data)
    if interrupted:
        raise interrupted[0]
    kept = {item.kept for item in items}
    mention_unfinished([one for one in unfinished(into) if one.target not in targets and one.folder not in kept], into)
    if failures:
        for failure in failures[:-1]:
            complain(failure.what, failure.advice)
        raise failures[-1]
    if any(item.verdict != "sound" for item in items):
        click.get_current_context().exit(1)


def _for_target(order: Order, target: str) -> Order:
    """The order for one target; the name of a tap says how its page is looked at, and which of its players is meant."""
    named = tap_in(target)
    if named is None or order.choice.made:
        return replace(order, target=target)
    manner = replace(order.means.listening or Listening(), tap=True)
    means = replace(order.means, listening=manner)
    return replace(order, target=named[0], means=means, choice=Choice(nth=named[1]))


def _only_page(way: Means) -> str:
    """The page of a capture, if it has one only."""
    from mudlark.browser.capture import read_captures

    assert way.har
    pages = [capture.url for capture in read_captures(way.har)]
    if len(pages) != 1:
        raise UsageError(f"{way.har} holds {len(pages)} pages.", f"Give the address of one: {', '.join(pages[:5])}")
    return pages[0]


def _digest(text: str | None) -> str | None:
    """The hexadecimal part of `sha256:…`."""
    if text is None:
        return None
    match = re.fullmatch(r"sha256:([0-9a-fA-F]{64})", text.strip())
    if not match:
        raise UsageError(f"{text!r} is no digest.", "Write it as sha256: and 64 hexadecimal digits.")
    return match[1].lower()


def _haul(order: Order, network: Network, failures: list[MudlarkError], keep: Callable[[Item], None]) -> None:
    """Haul a target. keep: is given each item as it is done; failures: where they are put as they come."""

    async def work() -> None:
        async with Session(network.connection()) as session:
            async for item in haul(session, order, progress):
                keep(item)

    with Steps() as steps, HaulProgress(failures, steps) as progress:
        try:
            asyncio.run(work())
        except KeyboardInterrupt:
            progress.stop()
            if progress.done:
                messages().print(
                    f"mudlark: Interrupted; {progress.done} of {progress.planned} {progress.unit} are kept.\n"
                    "         Run the same command again to go on from there.",
                    markup=False,
                )
            raise

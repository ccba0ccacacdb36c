"""Looking at what a user points to, by the means that were asked for: its source, a real browser, or a capture."""

import asyncio
from pathlib import Path
from typing import TYPE_CHECKING

import msgspec

from mudlark.browser.options import Listening, ListenWatch
from mudlark.errors import NothingFound, UsageError
from mudlark.find.judge.probe import MOST
from mudlark.find.model import Page
from mudlark.find.questions import Answer, Step
from mudlark.find.sift import sift
from mudlark.find.walk import sift_walked
from mudlark.web.address import shown
from mudlark.web.session import Session

if TYPE_CHECKING:
    from mudlark.browser.listen import Recording


class Means(msgspec.Struct, frozen=True):
    """How to look: listening with a browser, or reading a capture; the source alone if neither is given.

    answers: to the questions that the page asks first.
    """

    listening: Listening | None = None
    har: Path | None = None
    answers: tuple[Answer, ...] = ()


class PageScan(msgspec.Struct, frozen=True):
    """A page that was looked at. recording: what the browser recorded, if it was listened to."""

    page: Page
    recording: "Recording | None" = None


async def look(
    session: Session, address: str, means: Means, *, asking: int = MOST, watch: ListenWatch | None = None
) -> PageScan:
    """The page at an address with its finds, best first."""
    if means.har is None:  # the address may come from a capture, which is not to say who gets secrets
        session.at_home(address)
    if means.listening:
        from mudlark.browser.listen import listen
        from mudlark.find.places.capture import sift_capture  # what other means do not need is left out of memory

        recording = await listen(address, means.listening, session.connection, watch)
        if problem := recording.error:
            raise problem
        capture = recording.capture()
        capture.only_tapped = means.listening.tap
        page = await sift_capture(session, capture, asking=asking)
        page.walk = [Step(page.url, "GET", (), (answer,)) for answer in recording.answered]
        return PageScan(page, recording)
    if means.har:
        captured = await looks_in(session, means.har, address, asking=asking)
        return captured[0]
    if means.answers:
        return PageScan(await sift_walked(session, address, means.answers, asking=asking))
    return PageScan(await sift(session, address, asking=asking))


async def looks_in(session: Session, har: Path, address: str | None = None, *, asking: int = MOST) -> list[PageScan]:
    """The pages of a capture; only that at the address, if one is given."""
    from mudlark.browser.capture import read_captures
    from mudlark.find.places.capture import sift_capture

    captures = await asyncio.to_thread(read_captures, har)
    if address is not None:
        there = [capture.url for capture in captures]
        captures = [capture for capture in captures if _same(capture.url, address)] or [
            capture for capture in captures if any(_same(e.url, address) for e in capture.exchanges)
        ]
        if not captures:
            raise UsageError(
                f"{har} has no page {shown(address)}.", f"It has: {', '.join(shown(url) for url in there[:5])}."
            )
    scans, problem = [], None
    for capture in captures:
        try:
            scans.append(PageScan(await sift_capture(session, capture, asking=asking)))
        except NothingFound as nothing:
            problem = nothing
    if not scans and problem:
        raise problem
    return scans


def _same(one: str, other: str) -> bool:
    return one.partition("#")[0].rstrip("/") == other.partition("#")[0].rstrip("/")

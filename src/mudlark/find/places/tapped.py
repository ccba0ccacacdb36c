"""Finds of what a page feeds to its players in pieces, where nothing that was fetched explains it.

An address is better evidence than a tap, and can be asked for again: a player is left to the finds that explain it if
readable media was fetched, or a playlist whose pieces are encrypted by keys that it serves itself, and one of them can
be had.
"""

from mudlark.browser.capture import Capture, Tapped
from mudlark.find.judge.probe import ask
from mudlark.find.model import PLAYED, Evidence, Find, Mention, Page, tap_address
from mudlark.text import counted
from mudlark.web.session import Session

_WEIGHT, _LESS = 70, 30  # of the player that was fed most, and of others
_TRIED = 2  # numbered segments that are asked for once more


async def taps_in(session: Session, capture: Capture, page: Page, *, asked: bool) -> list[Find]:
    """The taps of a capture that nothing else explains. asked: servers may be asked."""
    explained = await _explained(session, capture, page, asked=asked)
    return [_find(tap, page) for tap in capture.tapped if tap.systems or not (explained and _is_readable(tap, capture))]


def all_taps(capture: Capture, page: Page) -> list[Find]:
    """All of them, whatever explains them."""
    return [_find(tap, page, explained=True) for tap in capture.tapped]


def _is_readable(tap: Tapped, capture: Capture) -> bool:
    """True if what was fetched meanwhile is media as well."""
    bodies = (exchange.body or b"" for exchange in capture.exchanges)
    return bool(tap.readable) or any(b"#EXT-X-KEY" in body and b"AES-128" in body for body in bodies)


async def _explained(session: Session, capture: Capture, page: Page, *, asked: bool) -> bool:
    """True if the page has a film or sound that can be had."""
    if not capture.tapped:
        return False
    played = [find for find in page.finds if find.kind in PLAYED and not find.problem and find.role != "advert"]
    numbered = [find for find in played if find.role == "segment"]
    if len(numbered) < len(played) or not asked:
        return bool(played)
    answers = await ask(session, numbered[:_TRIED])  # they may be good for once
    return any(not answers[find.url].problem for find in numbered if find.url in answers)


def _find(tap: Tapped, page: Page, *, explained: bool = False) -> Find:
    frame = tap.frame if tap.frame != page.url else None
    words = f"fed to a player by a script, so far in {counted(tap.appends, 'piece')}"
    if not explained:
        words += ", and no address that can be asked again explains it"
    problem = f"The player asks for the keys of {' and '.join(tap.systems)}." if tap.systems else None
    return Find(
        Mention(
            url=tap_address(tap.frame, tap.number),
            kind="tap",
            evidence=(Evidence("network", words, None, _WEIGHT if tap.number == 1 else _LESS, frame, act=True),),
            label=", ".join(dict.fromkeys(tap.types)) or None,
            type=tap.types[0].partition(";")[0].strip() if tap.types else None,
            bytes=tap.size,
            duration=tap.length,
            problem=problem,
            protected=bool(tap.systems),
        )
    )

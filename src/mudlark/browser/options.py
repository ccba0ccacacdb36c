"""How to listen to a page: the settings, without the browser and the libraries behind it."""

from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path

import msgspec


class Listening(msgspec.Struct, frozen=True):
    """How to listen. press: texts or selectors of controls, pressed in this order. choose: what to
    answer to which question, by name or label. scroll: to the end. settle: seconds without anything new after which the
    page is done. at_most: seconds for all of it. picture: keep a picture of the page as it
    stands at the end, and its text. tap: only what players are fed is wanted, whatever explains it."""

    press: tuple[str, ...] = ()
    choose: tuple[tuple[str, str], ...] = ()
    scroll: bool = True
    most_scrolls: int = 200
    settle: float = 2.0
    at_most: float = 60.0
    browser: Path | None = None
    picture: bool = False
    tap: bool = False


@dataclass  # whoever shows it inherits this, and is made in a way of its own
class ListenWatch:
    """Who wants to know hears of the steps, each with the number of requests so far."""

    on_step: Callable[[str, int], None] = lambda _step, _requests: None

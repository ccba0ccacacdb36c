"""Having a browser play what an assay went through, and adding what that showed to its account."""

from collections.abc import Callable
from pathlib import Path
from typing import Literal

from mudlark.archive.assay import Assay
from mudlark.errors import MudlarkError, UsageError, examining
from mudlark.fetch.store import now
from mudlark.playing.judge import facts_of, judge_played
from mudlark.playing.play import PLAYABLE, play


async def play_assayed(
    result: Assay,
    manner: Literal["some", "full"],
    browser: Path | None = None,
    on_file: Callable[[Path], None] = lambda _path: None,
) -> list[MudlarkError]:
    """Play the files of an item, or a file; what is broken is not tried. browser: the program, if not the usual one.
    on_file: hears of each before it is played. Gives what kept a browser from playing one. Raises UsageError where
    there is no browser."""
    problems = []
    for path, checked in result.media:
        if checked.form not in PLAYABLE or result.verdict == "broken":
            continue
        on_file(path)
        try:
            with examining(path):
                played = await play(path, checked, manner, browser)
                judge_played(played, result.account)
                result.played = facts_of(played, now())
        except UsageError:
            raise
        except MudlarkError as problem:
            problem.url = problem.url or str(path)
            problems.append(problem)
    return problems

"""What playing a file means for its verdict, and what the record keeps of it."""

from PIL import Image

from mudlark.archive.record import PlayFacts
from mudlark.playing.play import Played, pictures_of
from mudlark.verify.account import Account
from mudlark.verify.forms.found import at_second

_ALL = 0.9  # of what was seen or heard: a film that is black, frozen or silent for so much of it has something wrong
_MOST_TOLD = 3


def facts_of(played: Played, when: str) -> PlayFacts:
    """What a record keeps."""
    measured = played.measured
    return PlayFacts(
        when=when,
        full=played.full,
        started=played.started,
        ended=played.ended,
        seeks=len(played.sought),
        pictures=played.pictures,
        sounds=played.sounds,
        bad=played.bad,
        shown=played.shown,
        dropped=played.dropped,
        seconds=played.seconds,
        unplayed=played.unplayed,
        black=measured.black,
        frozen=measured.frozen,
        silent=measured.silent,
        loudness=measured.loudness,
        peak=measured.peak,
        clipped=measured.clipped,
    )


def judge_played(played: Played, account: Account) -> None:
    """Add what playing showed to a account. What has no decoder is said, and passes nothing."""
    problems = len(account.problems)
    for code, words, second in played.problems[:10]:
        account.failed("played", code, words, at=second)
    if played.bad:
        total = played.pictures + played.sounds + played.bad
        account.failed(
            "decoded", "undecodable", f"{played.bad:,} of {total:,} samples cannot be decoded", bad=played.bad
        )
    for what in played.unplayed:
        account.skipped("played", f"not played: the browser has no decoder for {what}")
    if len(account.problems) == problems and played.started:
        account.passed("played", _words(played), pictures=played.pictures, sounds=played.sounds, seconds=played.seconds)
    _judge_measured(played, account)


def _words(played: Played) -> str:
    decoded = [f"{played.pictures:,} pictures"] if played.pictures else []
    decoded += [f"{played.sounds:,} pieces of sound"] if played.sounds else []
    seeks = f", {len(played.sought)} places are found" if played.sought else ""
    how = "" if played.whole else " (stretches of it; --play full decodes all)"
    what = f"; {' and '.join(decoded)} decoded, none bad" if decoded else ""
    return f"it starts{seeks}, and runs to its end{what}{how}; took {played.seconds:.0f} s"


def _judge_measured(played: Played, account: Account) -> None:
    measured = played.measured
    for name, spans, total in (
        ("black", measured.black, measured.seen),
        ("frozen", measured.frozen, measured.seen),
        ("silent", measured.silent, measured.heard),
    ):
        seconds = sum(end - begin for begin, end in spans)
        if not spans:
            continue
        where = ", ".join(f"{at_second(begin)}–{at_second(end)}" for begin, end in spans[:_MOST_TOLD])
        where += f" and {len(spans) - _MOST_TOLD} more" if len(spans) > _MOST_TOLD else ""
        what = "The sound is silent" if name == "silent" else f"The picture is {name}"
        if total and seconds >= _ALL * total:
            account.failed("measured", name, f"{what} all the time ({where})", at=spans[0][0], seconds=seconds)
        else:
            account.passed("measured", f"{what.lower()} at {where}", seconds=round(seconds, 2))
    if measured.clipped > max(20, 0.001 * measured.heard * 48_000):
        account.passed("measured", f"{measured.clipped:,} samples of the sound are at full scale: it clips")


def contact_sheet(played: Played) -> list[tuple[Image.Image, str]]:
    """The pictures that were seen, with their times in words."""
    return [(picture, at_second(second)) for second, picture in pictures_of(played)]

"""What playing an item shows, before it gets its place."""

import asyncio

from PIL.Image import Image

from mudlark.archive.record import FileFacts
from mudlark.fetch.store import now
from mudlark.hauling.prove import Proof
from mudlark.hauling.work import Made, Work
from mudlark.playing.judge import contact_sheet, facts_of, judge_played
from mudlark.playing.play import PLAYABLE, Manner, play
from mudlark.report.sheet import Caption, draw_sheet
from mudlark.verify.fixity import digest


async def prove_by_playing(work: Work, made: Made, proof: Proof, manner: Manner) -> None:
    """Have a browser play the film or sound, and add what that shows to the record. The pictures that were seen become
    the poster of an item that has none."""
    record, account = proof.record, proof.account
    main = made.media[0]
    if proof.checked.form not in PLAYABLE:
        return
    work.watch.on_step("Playing")
    played = await play(main, proof.checked, manner, work.target.order.browser)
    judge_played(played, account)
    record.checks, record.problems, record.verdict = account.checks, account.problems, account.verdict
    record.reason = account.reason
    record.played = facts_of(played, now())
    if played.sought and not any(file.role == "poster" for file in record.files):
        path = main.with_name(f"{main.stem}.poster.png")
        cells: list[tuple[Image | None, Caption]] = [
            (picture, Caption(when, [], [])) for picture, when in contact_sheet(played)
        ]
        await asyncio.to_thread(draw_sheet, record.title, cells, path)
        record.files.append(FileFacts(path.name, "poster", *digest(path)))

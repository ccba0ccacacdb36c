"""Making an item of page images: bound into one PDF, or kept as they are; none twice."""

import asyncio
from pathlib import Path

from mudlark.archive.record import Note
from mudlark.assemble.join import keep_pages
from mudlark.errors import NetworkError
from mudlark.fetch.engine import Layout
from mudlark.hauling.work import Fetching, Made, Work, jobs_of
from mudlark.media.sniff import sniff
from mudlark.verify.content import PICTURES, check_pages
from mudlark.verify.verdict import Problem, Report


async def make_pages(work: Work, fetching: Fetching) -> Made:
    """Fetch page images, and bind them in their order."""
    work.watch.on_step("Fetching")
    leaves: dict[str, Path] = {}
    problems: list[Problem] = []
    notes: list[Note] = []
    jobs = list(jobs_of(work))
    async for outcome in fetching.outcomes(jobs, _check, layout=Layout.APART):
        number = outcome.job.number + 1
        if outcome.place is None or outcome.row is None:
            problems.append(Problem("page-missing", f"Page image {number} is missing: {outcome.problem}"))
        elif outcome.row.sha256 in leaves:
            notes.append(Note("page-repeated", f"Page image {number} is the same as one before, and left out"))
        else:
            leaves[outcome.row.sha256] = outcome.place.path
    if not leaves:
        raise NetworkError(
            f"None of {len(jobs)} page images could be fetched. {problems[0].message}",
            "If the links have expired, open the page anew and haul again.",
        )
    work.watch.on_step("Assembling")
    if missing := work.target.find.mention.missing:
        numbers = ", ".join(map(str, missing[:20]))
        problems.append(Problem("page-missing", f"Number {numbers} of the series of page images is not on the page"))
    report = Report()
    pictures = list(leaves.values())
    await asyncio.to_thread(check_pages, pictures, report)
    if work.target.order.as_images:
        media = await asyncio.to_thread(keep_pages, pictures, work.store.item / "pages")
    else:
        from mudlark.assemble.bind import bind  # its image library is slow to load, and films need none

        media = [work.store.item / f"{work.name}.pdf"]
        await asyncio.to_thread(bind, pictures, media[0], work.target.title)
    return Made(tuple(media), problems=tuple(problems), notes=tuple(notes), report=report)


def _check(head: bytes) -> str | None:
    return None if sniff(head) in PICTURES else "something else than a picture"

"""Making an item of page images: bound into one PDF, or kept as they are; none twice. A picture in tiles is put
together first."""

import asyncio
from collections.abc import Sequence
from pathlib import Path

import msgspec

from mudlark.archive.record import Note
from mudlark.assemble.join import keep_pages, second_name
from mudlark.errors import NetworkError
from mudlark.fetch.engine import Layout, Outcome
from mudlark.hauling.work import Fetching, Made, Work, jobs_of
from mudlark.manifest.model import Picture
from mudlark.media.forms import PICTURES
from mudlark.media.sniff import right_extension, sniff
from mudlark.verify.account import Account, Problem
from mudlark.verify.fixity import digest
from mudlark.verify.forms.pictures import check_pages


class _Leaf(msgspec.Struct, frozen=True):
    """A page that came: the file of its picture, and the digest of that."""

    path: Path
    sha256: str


async def make_pages(work: Work, fetching: Fetching) -> Made:
    """Fetch page images, and bind them in their order; a single picture stays one."""
    work.watch.on_step("Fetching")
    jobs = list(jobs_of(work))
    async with fetching.outcomes(jobs, _check, layout=Layout.APART) as coming:
        outcomes = [one async for one in coming]
    work.watch.on_step("Assembling")
    pictures = work.target.presentation.pictures or tuple(Picture(0, 0) for _ in outcomes)
    problems: list[Problem] = []
    notes: list[Note] = []
    leaves: dict[str, Path] = {}
    at = 0
    for number, picture in enumerate(pictures, start=1):
        parts, at = outcomes[at : at + picture.files], at + picture.files
        leaf, wrong = await asyncio.to_thread(_leaf, work, number, picture, parts)
        problems += wrong
        if leaf and leaf.sha256 in leaves:
            notes.append(Note("page-repeated", f"Page image {number} is the same as one before, and left out"))
        elif leaf:
            leaves[leaf.sha256] = leaf.path
    if not leaves:
        raise NetworkError(
            f"None of {len(jobs)} page images could be fetched. {problems[0].message}",
            "If the links have expired, open the page anew and haul again.",
        )
    if tiles := sum(len(picture.tiles) for picture in pictures):
        joined = sum(bool(picture.tiles) for picture in pictures)
        what = f"{joined} pictures were" if joined > 1 else "The picture was"
        notes.append(Note("tiles-joined", f"{what} put together from {tiles} tiles, and packed without loss"))
    if missing := work.target.find.mention.missing:
        numbers = ", ".join(map(str, missing[:20]))
        problems.append(Problem("page-missing", f"Number {numbers} of the series of page images is not on the page"))
    account = Account()
    await asyncio.to_thread(check_pages, list(leaves.values()), account)
    media = await asyncio.to_thread(_keep, work, list(leaves.values()))
    return Made(tuple(media), problems=tuple(problems), notes=tuple(notes), account=account)


def _leaf(work: Work, number: int, picture: Picture, parts: Sequence[Outcome]) -> tuple[_Leaf | None, list[Problem]]:
    """One page of what came of it, and what is wrong with it."""
    if picture.tiles:
        return _joined(work, number, picture, parts)
    (part,) = parts
    if part.place is None or part.row is None:
        return None, [Problem("page-missing", f"Page image {number} is missing: {part.problem}")]
    if picture.width:
        from mudlark.assemble.mosaic import check_size

        if wrong := check_size(picture, part.place.path):
            return _Leaf(part.place.path, part.row.sha256), [Problem("page-size", f"Page image {number}: {wrong}")]
    return _Leaf(part.place.path, part.row.sha256), []


def _joined(work: Work, number: int, picture: Picture, parts: Sequence[Outcome]) -> tuple[_Leaf | None, list[Problem]]:
    from mudlark.assemble.mosaic import join_tiles  # its libraries are slow to load, and films need none

    if not any(part.place for part in parts):
        return None, [Problem("page-missing", f"Page image {number} is missing: {parts[0].problem}")]
    path = work.store.folder / f"picture-{number:05d}.png"
    bad = join_tiles(picture, [part.place for part in parts], path)
    problems = []
    if bad:
        why = next((part.problem for part in parts if part.problem), "they cannot be read, or are of another size")
        text = f"{len(bad)} of {len(parts)} tiles of page image {number} are missing, and grey: {why}"
        problems.append(Problem("tiles-missing", text))
    return _Leaf(path, digest(path)[1]), problems


def _keep(work: Work, pictures: list[Path]) -> list[Path]:
    """The pictures under their final names."""
    if work.target.presentation.alone:
        with pictures[0].open("rb") as file:
            extension = right_extension(sniff(file.read(64)), "")
        alone = work.store.item / f"{work.name}{extension}"
        second_name(pictures[0], alone)
        return [alone]
    if work.target.order.as_images:
        return keep_pages(pictures, work.store.item / "pages")
    from mudlark.assemble.bind import bind  # its image library is slow to load, and films need none

    document = work.store.item / f"{work.name}.pdf"
    bind(pictures, document, work.target.title)
    return [document]


def _check(head: bytes) -> str | None:
    return None if sniff(head) in PICTURES else "something else than a picture"

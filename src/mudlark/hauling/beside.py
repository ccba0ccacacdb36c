"""What a page shows beside a film: its subtitles and its poster, kept with it under names that say so."""

import re
from collections.abc import Iterator
from pathlib import Path

from mudlark.archive.naming import safe_name
from mudlark.archive.record import FileFacts, Note
from mudlark.errors import MudlarkError
from mudlark.find.model import PLAYED, Find, Page
from mudlark.media.forms import PICTURES
from mudlark.media.sniff import right_extension, sniff
from mudlark.verify.account import Problem
from mudlark.verify.fixity import digest
from mudlark.web.address import file_part, shown
from mudlark.web.session import Session

_LANGUAGE = re.compile(r"^[A-Za-z]{2,3}(?:[-_][A-Za-z0-9]{2,8}){0,2}$")
_IN_NAME = re.compile(r"(?:^|[._-])([a-z]{2,3}(?:-[A-Za-z]{2,4})?)\.(?:vtt|srt|ttml|dfxp)$")
_CUE = re.compile(rb"\d\s*-->\s*\d|<tt[\s:>]")
_MOST = 100  # subtitles of one film


def beside(page: Page | None, find: Find) -> list[Find]:
    """The subtitles and the poster of a find: what stands in one thing with it; of a page's only film, all of them."""
    if page is None or find.kind not in PLAYED:
        return []
    items = {evidence.item for evidence in find.evidence if evidence.item}
    films = [other for other in page.finds if other.role == "main" and other.kind in PLAYED]
    alone = len(films) <= 1 and not page.is_list

    def belongs(other: Find) -> bool:
        return bool(items & {evidence.item for evidence in other.evidence if evidence.item})

    subtitles = [other for other in page.finds if other.kind == "subtitle" and (alone or belongs(other))]
    pictures = [other for other in page.finds if other.kind == "image" and other.mention.hinted("poster", "thumbnail")]
    near = [other for other in pictures if belongs(other)]
    posters = near or (pictures if alone else [])
    posters.sort(key=lambda other: (not other.mention.hinted("poster"), other.rank.larger is not None, -other.score))
    return subtitles[:_MOST] + posters[:1]


def language_of(find: Find) -> str | None:
    """The language of subtitles (BCP 47): as stated, else as their name has it."""
    if find.language and _LANGUAGE.match(find.language):
        return find.language.replace("_", "-")
    match = _IN_NAME.search(file_part(find.url))
    return match[1] if match else None


async def fetch_beside(
    session: Session, finds: list[Find], stem: str, item: Path
) -> tuple[list[FileFacts], list[Problem], list[Note]]:
    """Fetch them into an item, under names that begin with `stem`; gives its new files, the subtitles that are missing,
    and what else to note."""
    files: list[FileFacts] = []
    problems: list[Problem] = []
    notes: list[Note] = []
    for find in finds:
        poster = find.kind == "image"
        try:
            behind = session.behind(find.mention.referrer, find.mention.sent)
            body = (await behind.look(find.url, lambda _head, _type: True)).body
            form = sniff(body)
            if poster and form not in PICTURES:
                raise MudlarkError(f"{shown(find.url)} is {form}, and no picture that is known.")
            if not poster and not _CUE.search(body):
                raise MudlarkError(f"{shown(find.url)} has no cues; it is {form}.")
        except MudlarkError as problem:
            if poster:
                notes.append(Note("poster-missing", f"The poster is missing: {problem.what}"))
            else:
                problems.append(Problem("subtitle-missing", f"Subtitles are missing: {problem.what}"))
            continue
        extension = right_extension(form, Path(file_part(find.url)).suffix if form != "webvtt" else ".vtt")
        language = None if poster else language_of(find)
        name = next(name for name in _names(stem, poster, language, extension) if not (item / name).exists())
        (item / name).write_bytes(body)
        files.append(FileFacts(name, "poster" if poster else "subtitle", *digest(item / name), language))
    return files, problems, notes


def _names(stem: str, poster: bool, language: str | None, extension: str) -> Iterator[str]:
    spoken = safe_name(language or "")
    middle = ".poster" if poster else f".{spoken}" if spoken else ""
    yield f"{stem}{middle}{extension}"
    number = 2
    while True:
        yield f"{stem}{middle} ({number}){extension}"
        number += 1

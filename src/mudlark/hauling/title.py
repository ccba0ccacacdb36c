"""What an item and its file are called: as the user says, else for the page or for themselves."""

import re
from collections import Counter
from collections.abc import Mapping

from mudlark.archive.layout import RESERVED
from mudlark.archive.naming import file_name, numbered, own_name, safe_name, split_name, title_for
from mudlark.find.judge.quality import is_telling
from mudlark.find.judge.rank import rivals
from mudlark.find.model import PLAYED, Find, Page
from mudlark.manifest.model import Presentation
from mudlark.media.sniff import right_extension

_BRACED = re.compile(r"\{([^{}]+)\}")


def title_of(target: str, page: Page | None, find: Find, presentation: Presentation, given: str | None) -> str:
    """The title of an item. given: by the user. page: None if the target is the media itself."""
    if given:
        return given
    served = split_name(presentation.facts.filename or "")[0]
    if safe_name(served):
        return served
    if presentation.title and safe_name(presentation.title):
        return presentation.title
    plain = presentation.kind == "file"
    own = split_name(
        own_name(target, find.url, presentation.url) if page is None else own_name(find.url, presentation.url)
    )[0]
    if page is None:
        stated = next((note.value for note in presentation.notes if note.name == "title"), "")
        if presentation.kind == "dash" and safe_name(stated):
            return stated
        return own if plain and safe_name(own) else title_for(find.url, presentation.url, target)
    mains = [other for other in page.finds if other.role == "main"]
    if presentation.pictures and mains == [find] and page.title and safe_name(page.title):
        return page.title
    if not is_alone(page, find):
        labels = Counter(other.label for other in page.finds if other.role == "main")
        if is_telling(find.label) and labels[find.label] <= 1:
            return find.label or own
        if plain and safe_name(own):
            return own
    elif page.title and safe_name(page.title):
        return page.title
    return title_for(find.url, presentation.url, target)


def folder_name(pattern: str | None, title: str, date: str, listed: Mapping[str, str]) -> str:
    """What an item's folder is called. pattern: a column of the list, or columns, {title} and {date} among other text;
    its title, where that gives nothing. listed: what the list says of it, by column."""
    facts = {name.casefold(): text for name, text in listed.items()} | {"title": title, "date": date[:10]}
    if pattern:
        whole = pattern if "{" in pattern else f"{{{pattern}}}"
        if named := safe_name(_BRACED.sub(lambda found: facts.get(found[1].strip().casefold(), ""), whole)):
            return named
    return safe_name(title) or "Untitled"


def columns_in(pattern: str) -> list[str]:
    """The columns that such a pattern names, in lower case."""
    whole = pattern if "{" in pattern else f"{{{pattern}}}"
    return [name.strip().casefold() for name in _BRACED.findall(whole)]


def is_alone(page: Page, find: Find) -> bool:
    """True if a film, or a document of page images, is the only such thing that its page is about."""
    if find.members:
        return True
    if find.kind not in PLAYED or page.is_list:
        return False
    mains = [other for other in page.finds if other.role == "main" and other.kind in PLAYED and not other.problem]
    return find in mains and (len(mains) == 1 or (len(rivals(page, find)) == 1 and find is mains[0]))


def media_name(
    title: str, page: Page | None, find: Find, presentation: Presentation, form: str, given: str | None
) -> str:
    """The name of a plain file in its item: the server's, or its own, if it has one; else the item's title.

    form: what its first bytes say it is. given: the title that the user chose.
    """
    own = own_name(find.url, presentation.url)
    if presentation.facts.filename and file_name(presentation.facts.filename):
        name = file_name(presentation.facts.filename)
    elif given or (page is not None and is_alone(page, find)) or not file_name(own):
        name = (safe_name(title) or "Untitled") + split_name(own)[1]
    else:
        name = file_name(own)
    stem, extension = split_name(name)
    if not extension and form == "mp4" and find.kind == "audio":
        extension = ".m4a"
    return unreserved(stem + right_extension(form, extension))


def unreserved(name: str) -> str:
    """A file name that is none of those that an item keeps for itself."""
    stem, extension = split_name(name)
    return numbered(stem, 2) + extension if name.lower() in RESERVED else name

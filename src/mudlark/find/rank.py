"""Which of the finds is the one: roles and scores, every point of them with its reason in words."""

import re
from urllib.parse import urlsplit

from mudlark.find.model import PLAYED, Find, Kind, Page, Role
from mudlark.web.address import file_part

_BY_KIND: dict[Kind, int] = {
    **{"hls": 42, "dash": 42, "video": 40, "audio": 30, "package": 12, "document": 12, "subtitle": 2, "image": 5},
}
_ADVERT = re.compile(
    r"(?:^|[./_-])(?:ads?|adverts?|advertis\w+|preroll|pre-roll|midroll|sponsors?|promos?|commercials?)(?:[./_-]|\d*$)",
    re.I,
)
_SMALL = re.compile(
    r"(?:^|[/_.-])(?:thumb\w*|icon\w*|logo\w*|avatar|sprite|favicon|poster|badge|small|tiny)(?:[/_.-]|\d*$)", re.I
)
_WORD = re.compile(r"[^\W\d_]{3,}")


def rank(page: Page) -> None:
    """Give every find its role and score, and put the best first; equals stay in the order of the page."""
    for order, find in enumerate(page.finds):
        find.why = list(_reasons(find, page, first=order == 0))
        find.score = sum(points for points, _ in find.why)
        find.role = _role(find)
    page.finds.sort(key=lambda find: -find.score)


def agrees(duration: float, stated: float) -> bool:
    """True if a duration is what the page states, give or take two seconds or three per cent."""
    return abs(duration - stated) <= max(2.0, 0.03 * stated)


def _reasons(find: Find, page: Page, *, first: bool) -> list[tuple[int, str]]:
    reasons = [(_BY_KIND[find.kind], _kind_words(find))]
    strongest = max(find.evidence, key=lambda evidence: evidence.weight)
    if strongest.weight:
        reasons.append((strongest.weight, f"named in {strongest.where}"))
    if len(find.evidence) > 1:
        reasons.append((min(10, 4 * (len(find.evidence) - 1)), f"named in {len(find.evidence)} places"))
    if is_advert(find):
        reasons.append((-50, "the address speaks of an advert"))
    if _SMALL.search(urlsplit(find.url).path):
        reasons.append((-8, "the address speaks of a small picture"))
    if find.duration and page.duration:
        if agrees(find.duration, page.duration):
            reasons.append((30, f"its {find.duration:.0f} s agree with the {page.duration:.0f} s that the page states"))
        else:
            words = "shorter" if find.duration < page.duration else "longer"
            reasons.append(
                (-25, f"its {find.duration:.0f} s are {words} than the {page.duration:.0f} s the page states")
            )
    shared = _words(file_part(find.url)) & _words(page.title or "")
    if shared:
        reasons.append((8, f"its name shares {_list(shared)} with the title"))
    if find.problem:
        reasons.append((-60, find.problem))
    return reasons


def is_advert(find: Find) -> bool:
    """True if host or path of a played find say that it is advertising."""
    parts = urlsplit(find.url)
    return find.kind in PLAYED and bool(_ADVERT.search(parts.hostname or "") or _ADVERT.search(parts.path))


def _role(find: Find) -> Role:
    if is_advert(find):
        return "advert"
    if find.kind in PLAYED or find.kind in ("document", "package"):
        return "main"
    if find.kind == "image" and any("poster" in e.where or "thumbnail" in e.where for e in find.evidence):
        return "thumbnail"
    return "other"


def _kind_words(find: Find) -> str:
    return {
        "hls": "an HLS playlist",
        "dash": "a DASH manifest",
        "video": "a video file",
        "audio": "a sound file",
        "image": "a picture",
        "subtitle": "subtitles",
        "document": "a document",
        "package": "a package",
    }[find.kind]


def _words(text: str) -> set[str]:
    return {word.lower() for word in _WORD.findall(text.rpartition(".")[0] or text)}


def _list(words: set[str]) -> str:
    return " and ".join(f"'{word}'" for word in sorted(words)[:2])

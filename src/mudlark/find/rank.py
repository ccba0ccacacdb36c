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
_ADVERT_SHARE = 0.6  # of the stated duration, below which a film beside the right one is an advert
_WORD = re.compile(r"[^\W\d_]{3,}")


def rank(page: Page) -> None:
    """Give every find its role and score, and put the best first; equals stay in the order of the page."""
    match = any(find.duration and page.duration and agrees(find.duration, page.duration) for find in page.finds)
    for find in page.finds:
        advert = _advert_hint(find, page if match else None)
        find.why = _reasons(find, page, advert)
        find.score = sum(points for points, _ in find.why)
        find.role = "advert" if advert else _role(find)
    page.finds.sort(key=lambda find: -find.score)


def agrees(duration: float, stated: float) -> bool:
    """True if a duration is what the page states, give or take two seconds or three per cent."""
    return abs(duration - stated) <= max(2.0, 0.03 * stated)


def _reasons(find: Find, page: Page, advert: str | None) -> list[tuple[int, str]]:
    reasons = [(_BY_KIND[find.kind], _kind_words(find))]
    strongest = max(find.evidence, key=lambda evidence: evidence.weight)
    if strongest.weight:
        reasons.append((strongest.weight, f"named in {strongest.where}"))
    if len(find.evidence) > 1:
        reasons.append((min(10, 4 * (len(find.evidence) - 1)), f"named in {len(find.evidence)} places"))
    if advert:
        reasons.append((-50, advert))
    elif find.duration and page.duration:
        if agrees(find.duration, page.duration):
            reasons.append((30, f"its {find.duration:.0f} s agree with the {page.duration:.0f} s that the page states"))
        else:
            words = "shorter" if find.duration < page.duration else "longer"
            reasons.append(
                (-25, f"its {find.duration:.0f} s are {words} than the {page.duration:.0f} s the page states")
            )
    if _SMALL.search(urlsplit(find.url).path):
        reasons.append((-8, "the address speaks of a small picture"))
    shared = _words(file_part(find.url)) & _words(page.title or "")
    if shared:
        reasons.append((8, f"its name shares {_list(shared)} with the title"))
    if find.problem:
        reasons.append((-60, find.problem))
    return reasons


def _advert_hint(find: Find, page: Page | None) -> str | None:
    """Why a played find is taken for an advert. page: given if another of its finds has the stated duration."""
    if find.kind not in PLAYED:
        return None
    parts = urlsplit(find.url)
    if _ADVERT.search(parts.hostname or "") or _ADVERT.search(parts.path):
        return "the address speaks of an advert"
    if page and page.duration and find.duration and find.duration < _ADVERT_SHARE * page.duration:
        return "much shorter than the page states, and another find is not"
    return None


def _role(find: Find) -> Role:
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

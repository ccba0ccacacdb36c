"""Which of the finds is the one: roles and scores, every point of them with its reason in words."""

import math
import re
from urllib.parse import urlsplit

from mudlark.find.group import group
from mudlark.find.model import PLAYED, Find, Kind, Page, Role
from mudlark.web.address import file_part

_BY_KIND: dict[Kind, tuple[int, str]] = {
    "hls": (42, "an HLS playlist"),
    "dash": (42, "a DASH manifest"),
    "video": (40, "a video file"),
    "audio": (30, "a sound file"),
    "package": (12, "a package"),
    "document": (12, "a document"),
    "image": (5, "a picture"),
    "subtitle": (2, "subtitles"),
}
_ADVERT = re.compile(
    r"(?:^|[./_-])(?:ads?|adverts?|advertis\w+|preroll|pre-roll|midroll|sponsors?|promos?|commercials?)(?:[./_-]|\d*$)",
    re.I,
)
_ORNAMENT = re.compile(
    r"(?:^|[/_.-])(?:icons?|logos?|avatars?|sprites?|favicon|badges?|spacer|pixel|blank|button|bullet)(?:[/_.-]|\d*$)",
    re.I,
)
_ADVERT_SHARE = 0.6  # of the stated duration, below which a film beside the right one is an advert
_WORD = re.compile(r"[^\W\d_]{3,}")


def rank(page: Page) -> None:
    """Give every find its role and score, and put the best first; equals stay in the order of the page."""
    group(page)
    match = any(find.duration and page.duration and agrees(find.duration, page.duration) for find in page.finds)
    listed = {url: find for find in page.finds for url in find.renditions}
    titled = _words(page.title or "")
    for find in page.finds:
        advert = _advert_hint(find, page, match)
        find.why = _reasons(find, page, advert, titled, listed.get(find.url) or listed.get(find.final or ""))
        find.score = sum(points for points, _ in find.why)
        find.role = _role(find, advert, listed)
    page.finds.sort(key=lambda find: -find.score)


def agrees(duration: float, stated: float) -> bool:
    """True if a duration is what the page states, give or take two seconds or three per cent."""
    return abs(duration - stated) <= max(2.0, 0.03 * stated)


def _reasons(
    find: Find, page: Page, advert: str | None, titled: set[str], master: Find | None
) -> list[tuple[int, str]]:
    reasons = [_BY_KIND[find.kind]]
    strongest = max(find.evidence, key=lambda evidence: evidence.weight)
    if strongest.weight:
        reasons.append((strongest.weight, strongest.words))
    if len(find.evidence) > 1:
        reasons.append((min(10, 4 * (len(find.evidence) - 1)), f"found in {len(find.evidence)} ways"))
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
    if master:
        reasons.append((-40, "a rendition that another find lists"))
    elif find.renditions:
        reasons.append((6, f"a master playlist of {len(find.renditions)} renditions"))
    if find.role == "segment":
        reasons.append((-45, f"one of {find.count} numbered segments"))
    elif find.members:
        reasons.append((6, f"{find.count} page images of one document"))
    if find.larger:
        reasons.append((-12, "a smaller version of another picture"))
    elif find.versions:
        reasons.append((4, f"the largest of {len(find.versions) + 1} versions"))
    if find.kind == "image" and _ORNAMENT.search(urlsplit(find.url).path):
        reasons.append((-8, "the address speaks of an ornament"))
    if find.bytes and find.kind not in ("hls", "dash", "subtitle"):
        reasons += _by_size(find)
    shared = _words(file_part(find.url)) & titled
    if shared:
        reasons.append((8, f"its name shares {_list(shared)} with the title"))
    if find.problem:
        reasons.append((-60, find.problem))
    return reasons


def _by_size(find: Find) -> list[tuple[int, str]]:
    """A point for each doubling of the size, from what is small for its kind."""
    assert find.bytes
    small = {"image": 20_000, "video": 500_000, "audio": 200_000}.get(find.kind, 100_000)
    points = max(-6, min(10, round(math.log2(find.bytes / small))))
    return [(points, "large for its kind" if points > 0 else "small for its kind")] if abs(points) > 1 else []


def _advert_hint(find: Find, page: Page, match: bool) -> str | None:
    """Why a played find is taken for an advert. match: another find of the page has the stated duration."""
    if find.kind not in PLAYED:
        return None
    parts = urlsplit(find.url)
    if _ADVERT.search(parts.hostname or "") or _ADVERT.search(parts.path):
        return "the address speaks of an advert"
    frames = [urlsplit(evidence.frame) for evidence in find.evidence if evidence.frame]
    if any(_ADVERT.search(frame.hostname or "") or _ADVERT.search(frame.path) for frame in frames):
        return "it stands in the frame of an advert"
    if match and page.duration and find.duration and find.duration < _ADVERT_SHARE * page.duration:
        return "much shorter than the page states, and another find is not"
    if _played_before(find, page):
        return "it played first, in a frame of another host, and something longer followed"
    return None


def _played_before(find: Find, page: Page) -> bool:
    """True if only frames of another host asked for this, and a longer one was asked for later by others."""
    frames = {evidence.frame for evidence in find.evidence}
    hosts = {urlsplit(frame or page.url).netloc for frame in frames}
    if not find.asked or not find.duration or urlsplit(page.url).netloc in hosts:
        return False
    return any(
        other.kind in PLAYED
        and (other.asked or 0) > find.asked
        and (other.duration or 0) * _ADVERT_SHARE > (find.duration or 0)
        and not frames & {evidence.frame for evidence in other.evidence}
        for other in page.finds
    )


def _role(find: Find, advert: str | None, listed: dict[str, Find]) -> Role:
    if find.role == "segment":
        return "segment"
    if advert:
        return "advert"
    if find.url in listed or find.final in listed:
        return "rendition"
    if find.kind in PLAYED or find.kind in ("document", "package"):
        return "main"
    if find.kind == "image":
        if find.members:
            return "main"
        if find.larger or any("poster" in e.where or "thumbnail" in e.where.lower() for e in find.evidence):
            return "thumbnail"
        if find.versions or any(e.where.startswith(("link", "download link")) for e in find.evidence):
            return "main"
    return "other"


def _words(text: str) -> set[str]:
    return {word.lower() for word in _WORD.findall(text.rpartition(".")[0] or text)}


def _list(words: set[str]) -> str:
    return " and ".join(f"'{word}'" for word in sorted(words)[:2])

"""Which of the finds is the one: roles and scores, every point of them with its reason in words."""

import math
import re
from urllib.parse import urlsplit

from msgspec.structs import replace

from mudlark.find.judge.advert import agrees, sign_of_advertising
from mudlark.find.judge.kind import kind_by_extension
from mudlark.find.judge.versions import tie_versions
from mudlark.find.model import PLAYED, Find, Kind, Page, Rank, Role
from mudlark.web.address import file_part

_BY_KIND: dict[Kind, tuple[int, str]] = {
    "hls": (42, "an HLS playlist"),
    "dash": (42, "a DASH manifest"),
    "tap": (42, "what a player is fed"),
    "video": (40, "a video file"),
    "audio": (30, "a sound file"),
    "package": (12, "a package"),
    "document": (12, "a document"),
    "image": (5, "a picture"),
    "subtitle": (2, "subtitles"),
}
_ORNAMENT = re.compile(
    r"(?:^|[/_.-])(?:icons?|logos?|avatars?|sprites?|favicon|badges?|spacer|pixel|blank|button|bullet)(?:[/_.-]|\d*$)",
    re.I,
)
_ADVERT_POINTS = -50
_UNFINISHED_POINTS = -70  # below everything that is an address
_NOT_ASKED_POINTS = -7  # a point less than the smallest that was asked may lose for its size
_TINY_AREA = 48 * 48  # pixels
_WORD = re.compile(r"[^\W\d_]{3,}")


def rank(page: Page) -> list[Find]:
    """The finds of a page with their roles and scores, the best first and numbered; equals stay in the page's order.

    Looks at what is said and answered only, not at an earlier ranking, so that it can be done again.
    """
    ties = tie_versions(page.finds)
    match = any(find.duration and page.duration and agrees(find.duration, page.duration) for find in page.finds)
    listed = {url: find for find in page.finds for url in find.response.renditions}
    titled = _words(page.title or "")
    ranked: dict[str, Find] = {}
    for find in page.finds:
        larger, versions = ties.larger.get(find.url), tuple(ties.versions.get(find.url, ()))
        find = replace(find, rank=Rank(larger=larger, versions=versions))
        advert = sign_of_advertising(find, page, match)
        reasons = _reasons(find, page, advert, listed.get(find.url) or listed.get(find.final or ""))
        why = (_BY_KIND[find.kind], *reasons, *_by_size(find), *_by_name(find, titled))
        rank = Rank(
            role=_role(find, advert, listed),
            score=sum(points for points, _ in why),
            standing=sum(points for points, _ in reasons),
            advert=advert,
            why=why,
            larger=larger,
            versions=versions,
        )
        ranked[find.url] = replace(find, rank=rank)
    _put_below_larger(ranked)
    best_first = sorted(ranked.values(), key=lambda find: -find.score)
    return [replace(find, rank=replace(find.rank, number=at)) for at, find in enumerate(best_first, start=1)]


def rivals(page: Page, find: Find) -> list[Find]:
    """All finds of the same standing as this one, with itself: as likely to be what is wanted, but other things."""
    groups = {evidence.group for evidence in find.evidence if evidence.group and evidence.place == "element"}
    played = find.kind in PLAYED
    return [
        other
        for other in page.finds
        if other.url == find.url
        or (
            other.role == "main"
            and not other.problem
            and (other.kind in PLAYED if played else other.kind == find.kind)
            and other.rank.standing >= find.rank.standing
            and not groups & {evidence.group for evidence in other.evidence}
        )
    ]


def _put_below_larger(ranked: dict[str, Find]) -> None:
    """A smaller version never stands above the full one."""
    for url, find in ranked.items():
        full = ranked.get(find.rank.larger or "")
        if full is not None and find.score >= full.score:
            lost = (full.score - 1 - find.score, "the full one comes first")
            ranked[url] = replace(find, rank=replace(find.rank, score=full.score - 1, why=(*find.rank.why, lost)))


def _reasons(find: Find, page: Page, advert: str | None, master: Find | None) -> list[tuple[int, str]]:
    """What speaks for and against a find beside its kind, its size and its name."""
    reasons = []
    strongest = max(find.evidence, key=lambda evidence: evidence.weight)
    if strongest.weight:
        reasons.append((strongest.weight, strongest.words))
    if len(find.evidence) > 1:
        reasons.append((min(10, 4 * (len(find.evidence) - 1)), f"found in {len(find.evidence)} ways"))
    if advert:
        reasons.append((_ADVERT_POINTS, advert))
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
    elif find.response.renditions:
        reasons.append((6, f"a master playlist of {len(find.response.renditions)} renditions"))
    if find.mention.segment:
        reasons.append((-45, f"one of {find.count} numbered segments"))
    elif find.response.part:
        reasons.append((-45, find.response.part))
    elif find.members:
        reasons.append((6, f"{find.count} page images of one document"))
    if find.rank.larger:
        reasons.append(
            (-12, "a smaller version of another picture") if find.kind == "image" else (-40, "a smaller version")
        )
    elif find.rank.versions:
        reasons.append((4, f"the largest of {len(find.rank.versions) + 1} versions"))
    if find.kind == "image":
        reasons += _as_picture(find)
    if _unfinished(find):
        reasons.append((_UNFINISHED_POINTS, "an unfinished address, which a script completes"))
    asked = find.response.status is not None or find.mention.asked or find.kind == "tap"
    if page.asked and not asked and not find.problem:
        reasons.append((_NOT_ASKED_POINTS, "no server was asked about it"))
    if find.problem:
        reasons.append((-60, find.problem))
    return reasons


def _as_picture(find: Find) -> list[tuple[int, str]]:
    reasons = []
    if _ORNAMENT.search(urlsplit(find.url).path):
        reasons.append((-8, "the address speaks of an ornament"))
    if find.mention.hinted("control"):
        reasons.append((-10, "the picture of a button"))
    width, height = find.response.width, find.response.height
    if find.mention.hinted("tiny") or (width and height and width * height <= _TINY_AREA):
        reasons.append((-10, "no larger than an icon"))
    if kind_by_extension(find.url) is None and find.response.status is None and not find.mention.asked:
        reasons.append((-4, "nothing in its address says that it is a picture"))
    return reasons


def _by_size(find: Find) -> list[tuple[int, str]]:
    """A point for each doubling of the size, from what is small for its kind."""
    if not find.bytes or find.kind in ("hls", "dash", "subtitle"):
        return []
    small = {"image": 20_000, "video": 500_000, "audio": 200_000}.get(find.kind, 100_000)
    points = max(-6, min(10, round(math.log2(find.bytes / small))))
    return [(points, "large for its kind" if points > 0 else "small for its kind")] if abs(points) > 1 else []


def _by_name(find: Find, titled: set[str]) -> list[tuple[int, str]]:
    shared = _words(file_part(find.url)) & titled
    return [(8, f"its name shares {_list(shared)} with the title")] if shared else []


def _role(find: Find, advert: str | None, listed: dict[str, Find]) -> Role:
    if find.mention.segment or find.response.part:
        return "segment"
    if advert:
        return "advert"
    if _unfinished(find):
        return "other"
    if find.url in listed or find.final in listed or (find.rank.larger and find.kind != "image"):
        return "rendition"
    if find.kind in PLAYED or find.kind in ("document", "package"):
        return "main"
    if find.kind == "image":
        if find.members:
            return "main"
        if find.rank.larger or find.mention.hinted("poster", "thumbnail"):
            return "thumbnail"
        if find.rank.versions or any(evidence.place == "link" for evidence in find.evidence):
            return "main"
    return "other"


def _words(text: str) -> set[str]:
    return {word.lower() for word in _WORD.findall(text.rpartition(".")[0] or text)}


def _list(words: set[str]) -> str:
    return " and ".join(f"'{word}'" for word in sorted(words)[:2])


def _unfinished(find: Find) -> bool:
    """True for an address that a script completes, unless a server has answered it as it stands."""
    return find.mention.hinted("unfinished") and not (find.response.status and not find.problem)

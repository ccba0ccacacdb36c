"""Adverts: what speaks for a film being one, whether another stands beside it or it is alone."""

import re
from urllib.parse import urlsplit

from mudlark.find.model import PLAYED, Find, Page

_WORDS = (
    r"ads?|adverts?|advertis\w+|ad-?(?:slots?|units?|servers?|breaks?|tech)|(?:pre|mid|post)-?roll|sponsor(?:s|ed|ing)?"
    r"|commercials?|vast|vmap|vpaid"
)
_IN_ADDRESS = re.compile(
    rf"(?:^|[./_-])(?:{_WORDS}|promos?)(?:[./_-]|\d*$)|(?:^|[./])(?:spots?|bumpers?)(?:[./]|$)", re.I
)
_IN_NAMES = re.compile(rf"(?:^|[^a-z])(?:{_WORDS})(?:[^a-z]|$)", re.I)
_SHARE = 0.6  # of the stated duration: what is below, or as far above, is something else


def agrees(duration: float, stated: float) -> bool:
    """True if a duration is what the page states, give or take two seconds or three per cent."""
    return abs(duration - stated) <= max(2.0, 0.03 * stated)


def named_for_advertising(text: str) -> bool:
    """True if the names of an element (id, class, title) speak of advertising."""
    return bool(_IN_NAMES.search(text))


def sign_of_advertising(find: Find, page: Page, match: bool) -> str | None:
    """Why a played find is taken for an advert, in words. match: another find of the page has the stated duration."""
    if find.kind not in PLAYED:
        return None
    share = find.duration / page.duration if find.duration and page.duration else 1.0
    if match and share < _SHARE:
        return "much shorter than the page states, and another find is not"
    if _speaks(find.url):
        return "the address speaks of an advert"
    if any(_speaks(evidence.frame) for evidence in find.evidence if evidence.frame):
        return "it stands in the frame of an advert"
    if find.evidence and all(evidence.hint == "advert" for evidence in find.evidence):
        return "the element around it is named for an advert"
    if not _SHARE <= share <= 1 / _SHARE and _in_foreign_frames(find, page):
        return "it stands in a frame of another host, and its length is far from what the page states"
    if _played_before(find, page):
        return "it played first, in a frame of another host, and something longer followed"
    return None


def _speaks(address: str) -> bool:
    parts = urlsplit(address)
    return bool(_IN_ADDRESS.search(parts.hostname or "") or _IN_ADDRESS.search(parts.path))


def _in_foreign_frames(find: Find, page: Page) -> bool:
    """True if only frames of another host name it."""
    hosts = {urlsplit(evidence.frame or page.url).netloc for evidence in find.evidence}
    return urlsplit(page.url).netloc not in hosts


def _played_before(find: Find, page: Page) -> bool:
    """True if only frames of another host asked for this, and a longer one was asked for later by others."""
    frames = {evidence.frame for evidence in find.evidence}
    asked = find.mention.asked
    if not asked or not find.duration or not _in_foreign_frames(find, page):
        return False
    return any(
        other.kind in PLAYED
        and (other.mention.asked or 0) > asked
        and (other.duration or 0) * _SHARE > (find.duration or 0)
        and not frames & {evidence.frame for evidence in other.evidence}
        for other in page.finds
    )

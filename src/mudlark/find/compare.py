"""A page as several guises see it: which finds only some of them get, and what else differs.

Noise is no difference. The page is asked for twice as the first guise that gets it: what changes between those two
answers (nonces, times, session names) is no mark of a find, nor are tracking parameters or the order of things.
"""

import asyncio
import re
from collections.abc import Callable, Sequence
from urllib.parse import parse_qsl, urlsplit

import msgspec
from msgspec.structs import replace

from mudlark.errors import MudlarkError, NetworkError, NothingFound
from mudlark.find.judge.probe import MOST
from mudlark.find.look import Means
from mudlark.find.model import Find, Page
from mudlark.find.sift import gather, settle
from mudlark.manifest.load import wants_text
from mudlark.media.sniff import sniff
from mudlark.together import together
from mudlark.web.address import file_part
from mudlark.web.answer import Content
from mudlark.web.connection import Connection
from mudlark.web.guise import Guise
from mudlark.web.session import Session

_TRACKING = re.compile(
    r"^(?:utm_\w+|fbclid|gclid|dclid|msclkid|mc_[ce]id|ref|referrer|source|cb|cache|nocache|rnd|rand|random|ts|t|time"
    r"|timestamp|at|_|nonce|sid|session\w*)$",
    re.I,
)
_RANDOM = re.compile(r"[0-9a-f]{8}-(?:[0-9a-f]{4}-){3}[0-9a-f]{12}|[0-9a-f]*\d[0-9a-f]{5,}|\d{6,}|[\w-]{16,}", re.I)
_CHALLENGE = re.compile(
    r"captcha|are you (?:a )?(?:human|robot)|verify (?:that )?you are|checking your browser|unusual traffic|"
    r"enable javascript and cookies|access denied",
    re.I,
)
_NOTHING = re.compile(r"(?!)")
Mark = tuple[str, ...]
_SMALL = 30_000  # bytes: a challenge page is no larger


class GuiseResult(msgspec.Struct):
    """What one guise got. final: where redirects led. bytes: of the page. vary and hints: what the server says its
    answer depends on, and the client hints that it wants. challenge: it looks like a test for robots.
    """

    guise: Guise
    status: int | None = None
    final: str | None = None
    title: str | None = None
    bytes: int | None = None
    vary: list[str] = msgspec.field(default_factory=list)
    hints: list[str] = msgspec.field(default_factory=list)
    challenge: bool = False
    problem: str | None = None
    page: Page | None = None


class Compared(msgspec.Struct):
    """A find, with the guises that get it; the address is that of the plainest of them."""

    find: Find
    guises: list[str]

    @property
    def plainest(self) -> str:
        """The first guise that gets it, in the order in which they were asked."""
        return self.guises[0]


class Comparison(msgspec.Struct):
    """seen: in the order asked. rows: finds that only some get first, then by score. noisy: whether title and final
    address change from one answer to the next."""

    url: str
    result: list[GuiseResult]
    rows: list[Compared]
    noisy: tuple[bool, bool] = (False, False)

    @property
    def asked(self) -> int:
        """How many guises got an answer that can be compared."""
        return sum(result.page is not None for result in self.result)

    def is_shared(self, row: Compared) -> bool:
        """True if every guise that got an answer gets this find."""
        return len(row.guises) == self.asked

    @property
    def differs(self) -> bool:
        """True if a find, the status, the title or the final address is not the same for all."""
        title, final = self.noisy
        answers = {(s.status, None if final else s.final, None if title else s.title) for s in self.result}
        return len(answers) > 1 or not all(self.is_shared(row) for row in self.rows)


async def compare(
    connection: Connection,
    url: str,
    guises: Sequence[Guise],
    means: Means,
    *,
    at_once: int = 1,
    tell: Callable[[str], None] = lambda _text: None,
) -> Comparison:
    """Ask for a page as each of the guises, one at a time unless told otherwise, each with cookies of its own."""
    gate = asyncio.Semaphore(at_once)

    async def one(guise: Guise) -> GuiseResult:
        async with gate:
            tell(f"Asking as {guise.name}")
            return await see(replace(connection, guise=guise), url, means)

    result = await together(one(guise) for guise in guises)
    first = next((answer for answer in result if answer.page), result[0])
    again = await one(first.guise)
    changing = _changing(again, first)
    rows: dict[Mark, Compared] = {}
    for answer in result:
        for find in answer.page.finds if answer.page else ():
            row = rows.setdefault(mark(find.url, changing), Compared(find, []))
            if answer.guise.name not in row.guises:
                row.guises.append(answer.guise.name)
    noisy = (again.title != first.title, again.final != first.final)
    ordered = Comparison(url, result, list(rows.values()), noisy)
    ordered.rows.sort(key=lambda row: (ordered.is_shared(row), -row.find.score))
    return ordered


async def see(connection: Connection, url: str, means: Means, *, asking: int = 0) -> GuiseResult:
    """What one guise gets. asking: about how many of its finds the servers are asked."""
    result = GuiseResult(connection.guise)
    try:
        async with Session(connection) as session:
            session.at_home(url)
            await (_listen(session, url, means, result) if means.listening else _ask(session, url, result))
            if result.page:
                await settle(session, result.page, asking)
    except NetworkError as problem:
        result.status, result.problem = problem.status, problem.what
    except NothingFound as nothing:
        result.page, result.problem = Page(url, result.title), None if result.challenge else nothing.what
    except MudlarkError as problem:
        result.problem = problem.what
    if result.challenge:
        result.problem, result.page = "a page that tests for robots", None
    return result


async def _ask(session: Session, url: str, result: GuiseResult) -> None:
    look = await session.look(url, wants_text)
    wanted = _listed(look.headers.get("accept-ch", ""))
    if wanted and set(wanted) & {name.lower() for name in result.guise.hint_fields()}:
        look = await session.look(url, wants_text)  # now with the hints that it wants
    result.status, result.final = look.status, look.url if look.url != url else None
    result.bytes, result.hints = len(look.body), wanted
    result.vary = _listed(look.headers.get("vary", ""))
    result.challenge = _is_challenge(look)
    result.page = await gather(session, look)
    result.title = result.page.title


async def _listen(session: Session, url: str, means: Means, result: GuiseResult) -> None:
    from mudlark.browser.listen import listen
    from mudlark.find.places.capture import page_in

    assert means.listening
    recording = await listen(url, means.listening, session.connection)
    capture = recording.capture()
    first = next((e for e in capture.exchanges if e.resource == "document" and not e.location), None)
    if first:
        result.status, result.bytes = first.status, len(first.body) if first.body else first.size
    result.final = capture.url if capture.url.partition("#")[0] != url.partition("#")[0] else None
    result.page = page_in(capture)
    session.take_cookies(capture.cookies)
    result.title = result.page.title


async def best_guise(connection: Connection, url: str, guises: Sequence[Guise], means: Means) -> Guise:
    """The guise that gets the best find; the plainest of those that get the same."""
    best: tuple[float, Guise] | None = None
    problems: list[str] = []
    for guise in guises:
        result = await see(replace(connection, guise=guise), url, means, asking=MOST)
        values = (
            [_worth(find) for find in result.page.finds if find.role == "main" and not find.problem]
            if result.page
            else []
        )
        if values and (best is None or max(values) > best[0]):
            best = max(values), guise
        problems += [f"as {guise.name}: {result.problem}"] if result.problem else []
    if best is None:
        raise NothingFound(f"No guise gets any media from {url}.", "; ".join(problems[:3]))
    return best[1]


def _worth(find: Find) -> float:
    """The score, with the size as a tie-breaker; a program that would fetch the file is worth less than the file."""
    helper = file_part(find.url).lower().endswith((".exe", ".msi", ".dmg", ".pkg", ".apk"))
    return find.score + min(0.9, (find.bytes or 0) / 1e12) - (10 if helper else 0)


def mark(url: str, changing: frozenset[Mark]) -> Mark:
    """What makes an address the same for two guises: all of it but tracking; of forms that change, only the form."""
    shape = _form(url)
    return shape if shape in changing else _form(url, _NOTHING)


def _form(url: str, volatile: re.Pattern[str] = _RANDOM) -> Mark:
    parts = urlsplit(url)
    pairs = parse_qsl(parts.query, keep_blank_values=True)
    kept = sorted(f"{name}={volatile.sub('#', value)}" for name, value in pairs if not _TRACKING.match(name))
    return parts.netloc, volatile.sub("#", parts.path), *kept


def _changing(again: GuiseResult, first: GuiseResult) -> frozenset[Mark]:
    """The forms of addresses that only one of two answers to the same question has."""
    one, other = ({find.url for find in result.page.finds} if result.page else set() for result in (again, first))
    return frozenset(_form(url) for url in one ^ other)


def _listed(field_value: str) -> list[str]:
    return [name.strip().lower() for name in field_value.split(",") if name.strip()]


def _is_challenge(look: Content) -> bool:
    if len(look.body) > _SMALL or sniff(look.body) != "html":
        return False
    return bool(
        _CHALLENGE.search(
            re.sub(rb"<script(?:(?!</?script).)*+</script>|<[^<>]*>", b" ", look.body, flags=re.S).decode("latin-1")
        )
    )

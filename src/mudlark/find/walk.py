"""Walking through the questions of a page: answers in, and what stands behind them out.

Every request of the walk is one that a browser would send, with its cookies and its Referer. A walk ends when the
answers do, as each step uses up one at least.
"""

from collections.abc import AsyncIterator, Sequence
from urllib.parse import urlsplit

import msgspec

from mudlark.errors import UsageError
from mudlark.find.judge.probe import MOST
from mudlark.find.model import Page
from mudlark.find.questions import ANY, Answer, Form, Step, find_question, read_forms, step_of
from mudlark.find.sift import decode, sift_response
from mudlark.manifest.load import wants_text
from mudlark.media.sniff import sniff
from mudlark.web.address import shown
from mudlark.web.answer import Content
from mudlark.web.connection import Connection
from mudlark.web.referrer import Referrer
from mudlark.web.session import Session

MOST_WALKS = 64


class WalkResult(msgspec.Struct, frozen=True):
    """Where answers led. look: the last answer of the server."""

    look: Content
    steps: tuple[Step, ...]
    forms: tuple[Form, ...]


async def walk(session: Session, url: str, answers: Sequence[Answer], *, until: str | None = None) -> WalkResult:
    """Answer the questions of a page and of those behind it. until: stop where a question of this name is asked."""
    look = await session.look(url, wants_text)
    steps: list[Step] = []
    left = list(answers)
    while True:
        forms = read_forms(decode(look), look.url) if sniff(look.body) == "html" else []
        if not left or (until is not None and find_question(forms, until)):
            return WalkResult(look, tuple(steps), tuple(forms))
        onwards = step_of(forms, left)
        if onwards is None:
            raise _unasked(look, forms, left[0])
        step, left = onwards
        look = await _send(session, look, step)
        steps.append(step)


async def sift_walked(session: Session, url: str, answers: Sequence[Answer], *, asking: int = MOST) -> Page:
    """The page behind the answers with its finds."""
    walked = await walk(session, url, answers)
    page = await sift_response(session, walked.look, asking=asking)
    page.walk = list(walked.steps)
    return page


async def sift_all(
    connection: Connection, url: str, answers: Sequence[Answer], *, asking: int = MOST
) -> AsyncIterator[tuple[tuple[Answer, ...], Page]]:
    """The pages behind all the answers that `*` stands for, one after the other, each with cookies of its own."""
    paths: list[tuple[Answer, ...]] = []
    async for path in _paths(connection, url, tuple(answers)):
        if len(paths) == MOST_WALKS:
            raise UsageError(f"There are more than {MOST_WALKS} ways through.", "Answer one of the questions.")
        paths.append(path)
    for path in paths:
        async with Session(connection) as session:
            session.at_home(url)
            yield path, await sift_walked(session, url, path, asking=asking)


async def _paths(connection: Connection, url: str, answers: tuple[Answer, ...]) -> AsyncIterator[tuple[Answer, ...]]:
    """The answers with every `*` replaced by each option that there is at that point."""
    place = next((at for at, answer in enumerate(answers) if answer.value == ANY), None)
    if place is None:
        yield answers
        return
    name = answers[place].name
    async with Session(connection) as session:
        session.at_home(url)
        walked = await walk(session, url, answers[:place], until=name)
    asking = find_question(walked.forms, name)
    if asking is None:
        raise _unasked(walked.look, list(walked.forms), answers[place])
    for option in asking[1].options:
        chosen = Answer(name, option.label or option.value)
        async for path in _paths(connection, url, (*answers[:place], chosen, *answers[place + 1 :])):
            yield path


async def _send(session: Session, look: Content, step: Step) -> Content:
    parts = urlsplit(look.url)
    behind = session.behind(Referrer(look.url), {"origin": f"{parts.scheme}://{parts.netloc}"})
    if step.method == "GET":
        return await behind.look(step.url, wants_text)
    return await behind.send(step.url, step.fields, multipart=step.multipart)


def _unasked(look: Content, forms: Sequence[Form], answer: Answer) -> UsageError:
    names = [question.name for form in forms for question in form.questions]
    asked = f"It asks: {', '.join(names)}." if names else "It asks nothing."
    return UsageError(f"{shown(look.url)} does not ask for {answer.name!r}.", asked)

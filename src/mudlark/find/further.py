"""Where nothing fit is found: what was met instead, and what to do next."""

from mudlark.errors import NothingFound
from mudlark.find.model import Page
from mudlark.find.places.links import links_of
from mudlark.web.address import shown

_MOST_SAID = 3


def nothing(page: Page) -> NothingFound:
    """What to say of a page without any media."""
    if page.wants_login:
        return NothingFound(
            f"{shown(page.url)} asks for a log-in, and shows no media without one.",
            "Log in with a browser, export its cookies, and give them with --cookie-file.",
        )
    if page.asks:
        named = next(q for form in page.forms if not form.refused for q in form.questions if q.options)
        labels = ", ".join(repr(option.label) for option in named.options[:8])
        return NothingFound(
            f"{shown(page.url)} asks for {named.label or named.name!r} before it shows any media.",
            f"Add --choose {named.name}=… with one of {labels}.",
        )
    if page.feeds:
        return NothingFound(
            f"There is no media in the source of {shown(page.url)}, but it names a feed.",
            f"Look through that: mudlark sift {shown(page.feeds[0])}",
            url=page.url,
        )
    if page.capture:
        what = f"{shown(page.url)} asked for no media that came while it was listened to."
        return NothingFound(with_failures(what, page), next_step(page), url=page.url)
    links = links_of(page)
    what = f"There is no media in the source of {shown(page.url)}"
    if links:
        what += f", but {len(links):,} links of one kind, as {links[0].title!r}"
    elif page.unfetched:
        what += f", but {shown(page.unfetched[0])}, and only http and https are fetched"
    return NothingFound(f"{what}.", next_step(page), url=page.url)


def with_failures(what: str, page: Page) -> str:
    """What was found out, with what stood in the way of more, and what was asked for in vain while it was open."""
    failed = ", ".join(page.failed[:_MOST_SAID])
    return " ".join([what, *page.notes[:_MOST_SAID], *([f"{failed}."] if failed else [])])


def next_step(page: Page) -> str:
    """What to try on a page on which nothing fit was found; empty if there is nothing."""
    steps = []
    if page.capture:
        steps.append("If something on the page starts the media, name that with --press TEXT.")
    elif page.runs:
        steps.append("The media may only be asked for once the page is played: try with --listen.")
    if not page.capture and links_of(page):
        steps.append(f"If its links lead to the media, sweep them: mudlark sweep {shown(page.url)}")
    if not steps and not page.capture:
        steps.append("It has no player and runs no script: look for the page that has, or give its address.")
    return " ".join(steps)

"""How a page of the demo museum is written, and what an exhibit is."""

from collections.abc import Callable

import msgspec

MUSEUM = "Tidewrack Museum of Skerrow Bay"

_STYLE = """
body { font: 17px/1.55 Georgia, serif; color: #1d2b30; background: #f4f1e8; margin: 0 }
header { background: #17414d; color: #f4f1e8; padding: 1.1rem 2rem }
header a { color: inherit; text-decoration: none; letter-spacing: .03em }
main { max-width: 46rem; margin: 2rem auto; padding: 0 1.2rem }
video, img { max-width: 100%; background: #0d2228 } h1 { line-height: 1.2 } a { color: #8a3d12 }
dt { margin-top: 1rem; font-weight: bold } dd { margin: 0 }
"""


class Origins(msgspec.Struct, frozen=True):
    """Addresses of the three servers, without a slash at the end."""

    site: str
    media: str
    adverts: str


class Exhibit(msgspec.Struct, frozen=True):
    """path: on the site. hard: what is hard about it, in a sentence. source: makes the page."""

    name: str
    path: str
    hard: str
    source: Callable[[Origins], str]


def page(title: str, body: str, head: str = "") -> str:
    """A page of the museum."""
    return f"""<!doctype html>
<html lang="en">
<head>
<meta charset="utf-8">
<title>{title} · {MUSEUM}</title>
<meta name="viewport" content="width=device-width">
<link rel="icon" href="data:,">
<style>{_STYLE}</style>
{head}</head>
<body>
<header><a href="/">{MUSEUM}</a></header>
<main>
{body}
</main>
</body>
</html>
"""

"""Exhibits in which the media is named somewhere else than in a plain element, or hides behind something."""

import base64
from html import escape
from urllib.parse import quote

from mudlark.demo.pages import Exhibit, Origins, page

BUILDS = ("field-guide-2.4-windows-x86.zip", "field-guide-2.4-windows-x64.zip", "field-guide-2.4-mac.zip")
MEMBERS_COOKIE = ("tidewrack_member", "lantern")


def _decoys(at: Origins) -> str:
    pictures = "\n".join(f'<img src="/pictures/shell-{n:03d}.png" alt="Shell {n}" width="60">' for n in range(300))
    return page(
        "Three Hundred Shells",
        f"""<h1>Three Hundred Shells</h1>
<p>Every shell has its picture; one <a href="{at.media}/films/shell-collecting.mp4">film</a> of them is left.</p>
{pictures}""",
    )


def _entities(at: Origins) -> str:
    address = f"{at.media}/films/lamp-lighting.mp4?room=lamp&part=1&quality=high"
    return page(
        "Lighting the Lamp",
        "<h1>Lighting the Lamp</h1>\n<p>The film plays in the museum's shop window, and nowhere on this page.</p>",
        f'<meta property="og:title" content="Lighting the Lamp">\n'
        f'<meta property="og:video" content="{escape(address)}">\n',
    )


def _linked_data(at: Origins) -> str:
    return page(
        "Letters from the Lightship",
        "<h1>Letters from the Lightship</h1>\n<p>Read aloud on the last evening of the season.</p>",
        f"""<script type="application/ld+json">
{{"@context": "https://schema.org", "@graph": [
  {{"@type": "WebPage", "name": "Letters", "mainEntity": {{"@type": "Event", "recordedIn": [
    {{"@type": ["CreativeWork", "VideoObject"], "name": "Letters from the Lightship", "duration": "PT0M20S",
      "author": {{"@type": "Person", "name": "A. Keeper"}}, "uploadDate": "2021-10-09",
      "thumbnailUrl": ["/pictures/lightship-thumb.png"],
      "contentUrl": "{at.media}/films/lightship-letters.mp4"}}]}}}}]}}
</script>
""",
    )


def _frames(at: Origins) -> str:
    return page(
        "A Walk round the Quay",
        '<h1>A Walk round the Quay</h1>\n<iframe src="/frames/quay-outer" width="660" height="400"></iframe>',
    )


def frame_outer(_: Origins) -> str:
    """The frame of the quay: it holds another frame, and itself again."""
    frames = "".join(f'<iframe src="/frames/quay-{which}"></iframe>' for which in ("inner", "outer"))
    return f"<!doctype html><title>Quay</title>{frames}"


def frame_inner(at: Origins) -> str:
    """The frame inside the frame, with the film."""
    return f'<!doctype html><title>Quay</title><video controls src="{at.media}/films/quay-walk.mp4"></video>'


def _attributes(at: Origins) -> str:
    settings = quote(
        f'{{"sources":[{{"file":"{at.media}/films/rope-making.mp4","label":"360p"}}],"loop":false}}', safe=""
    )
    return page(
        "Making Rope",
        f'<h1>Making Rope</h1>\n<div class="stage" data-settings="{settings}">Turn the handle to begin.</div>',
    )


def _base64(at: Origins) -> str:
    hidden = base64.b64encode(f"{at.media}/streams/tide-mill/master.m3u8".encode()).decode()
    return page(
        "The Mill by Night",
        f"""<h1>The Mill by Night</h1>
<div id="night">The mill does not sleep.</div>
<script>document.getElementById("night").dataset.ready = atob("{hidden}").length;</script>""",
    )


def _embed(at: Origins) -> str:
    film = quote(f"{at.media}/films/net-mending.mp4", safe="")
    return page(
        "Mending Nets",
        f'<h1>Mending Nets</h1>\n<iframe src="/player?skin=sea&amp;start=0&amp;file={film}" width="640"></iframe>',
    )


def _pictures(at: Origins) -> str:
    return page(
        "The Wreck Chart",
        """<h1>The Wreck Chart</h1>
<p>Drawn in 1884; press it to see it large.</p>
<a href="/pictures/full/wreck-chart.png"><img src="/pictures/thumbs/wreck-chart.png" alt="The chart" width="160"></a>
<img src="/pictures/buoy-320x180.png" alt="A buoy"
  srcset="/pictures/buoy-320x180.png 320w, /pictures/buoy-1280x720.png 1280w">
<img src="/pictures/logo.png" alt="Museum logo">""",
    )


def _builds(at: Origins) -> str:
    rows = "\n".join(
        f'<li><a href="{at.media}/packages/{name}">{name[:-4].replace("-", " ")}</a></li>' for name in BUILDS
    )
    return page(
        "Field Guide for Handsets",
        f"""<h1>Field Guide for Handsets</h1>
<p><button data-file="{at.media}/packages/old/{BUILDS[1]}" onclick="return false">Download field guide</button></p>
<details><summary>All builds</summary><ul>
{rows}
<li><a href="{at.media}/packages/tide-tables-2.4.zip">tide tables 2.4</a></li>
</ul></details>""",
    )


def _nameless(at: Origins) -> str:
    return page(
        "Sound of the Bell Buoy",
        "<h1>Sound of the Bell Buoy</h1>\n"
        f'<video controls><source src="{at.media}/stored/8842" type="video/mp4"></video>',
    )


def _disposition(at: Origins) -> str:
    return page(
        "The Keeper's Map",
        f'<h1>The Keeper\'s Map</h1>\n<p><a download href="{at.media}/fetch?id=77">The map, with its legend</a></p>',
    )


def _redirects(at: Origins) -> str:
    return page(
        "Gulls at Dusk",
        f'<h1>Gulls at Dusk</h1>\n<video controls src="/go/1?to={quote("gulls", safe="")}" type="video/mp4"></video>',
    )


def _members(at: Origins) -> str:
    return page(
        "Members' Evening",
        f'<h1>Members\' Evening</h1>\n<video controls src="{at.media}/films/members-evening.mp4"></video>',
    )


def log_in(_: Origins) -> str:
    """What everyone else sees in place of the members' page."""
    return page(
        "Members only",
        """<h1>Members only</h1>
<form method="post" action="/members/enter">
<input name="name"><input type="password" name="word"><button>Enter</button></form>""",
    )


def feed(at: Origins) -> str:
    """Three talks as an RSS feed with Media RSS."""
    talks = (("harbour-talk", "A Talk on the Harbour Wall", 20), ("lamp-lighting", "Lighting the Lamp", 12))
    items = "\n".join(
        f"""<item><title>{title}</title><link>{at.site}/talk/{name}</link>
<enclosure url="{at.media}/films/{name}.mp4" length="318041" type="video/mp4"/>
<media:content url="{at.media}/films/{name}.mp4" medium="video" duration="{seconds}"/></item>"""
        for name, title, seconds in talks
    )
    return f"""<?xml version="1.0" encoding="UTF-8"?>
<rss version="2.0" xmlns:media="http://search.yahoo.com/mrss/"><channel><title>Talks in the Boat Shed</title>
<link>{at.site}/</link><description>Recorded with the door open.</description>
{items}
</channel></rss>
"""


def _disk(at: Origins) -> str:
    return page(
        "The Gallery Computer",
        f"""<h1>The Gallery Computer</h1>
<p>A <a href="{at.media}/images/gallery-computer.img" type="application/octet-stream">disk image</a> of the machine
that ran the tide display until 2009 (60 MB).</p>""",
    )


HIDDEN = (
    Exhibit("decoys", "/shells", "Hundreds of pictures around one film.", _decoys),
    Exhibit("entities", "/film/lamp", "Metadata whose address is escaped with entities.", _entities),
    Exhibit("json-ld", "/film/lightship", "Linked data, nested three deep.", _linked_data),
    Exhibit("frames", "/film/quay", "A frame in a frame, one of which holds itself.", _frames),
    Exhibit("attributes", "/film/rope", "JSON, percent-encoded, in a data attribute.", _attributes),
    Exhibit("base64", "/film/mill-night", "An address in base64 inside a script.", _base64),
    Exhibit("embed", "/film/nets", "The address is a parameter of an embedded player.", _embed),
    Exhibit("pictures", "/chart", "A thumbnail and its full picture; one picture in several sizes.", _pictures),
    Exhibit("builds", "/field-guide", "A button that leads nowhere, and several builds elsewhere.", _builds),
    Exhibit("nameless", "/sound/bell-buoy", "A file whose address has no extension.", _nameless),
    Exhibit("disposition", "/map", "A download whose name comes from the server, in UTF-8.", _disposition),
    Exhibit("redirects", "/film/gulls", "A chain of redirects to the media host.", _redirects),
    Exhibit("members", "/members/evening", "A page for those with a cookie only.", _members),
    Exhibit("feed", "/talks.xml", "A feed of talks.", feed),
    Exhibit("disk-image", "/computer", "A disk image of 60 MB, served in ranges.", _disk),
)

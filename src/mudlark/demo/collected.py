"""Lists of the museum: a table with dead and doubled rows, and a podcast feed."""

from mudlark.demo.pages import Exhibit, Origins


def _table(at: Origins) -> str:
    rows = (
        ("Harbour Wall", f"{at.site}/talk/harbour-wall", "17"),
        ("Lost Reel", f"{at.site}/film/lost-reel", "18"),
        ("Foghorn", f"{at.site}/film/foghorn", "19"),
        ("Foghorn again", f"{at.site}/film/foghorn", "20"),
        ("Burnt Reel", f"{at.media}/films/burnt-reel.mp4", "21"),
        ("Tide Mill", f"{at.site}/film/tide-mill", "22"),
    )
    return "\r\n".join(["Title;Address;Box", *(f'"{title}";{address};{box}' for title, address, box in rows), ""])


def _podcast(at: Origins) -> str:
    episodes = "".join(
        f"""<item><title>{title}</title><pubDate>{day} Jun 2019 08:00:00 GMT</pubDate>
<enclosure url="{at.media}/sounds/{name}" type="audio/{kind}" length="0"/></item>"""
        for title, name, kind, day in (
            ("Fog Signals", "fog-signals.mp3", "mpeg", "Mon, 03"),
            ("The Fog Bell", "fog-bell.m4a", "mp4", "Mon, 10"),
        )
    )
    return f"""<?xml version="1.0" encoding="utf-8"?>
<rss version="2.0"><channel><title>Sounds of Skerrow Bay</title><link>{at.site}/</link>{episodes}</channel></rss>"""


COLLECTED = (
    Exhibit("film-list", "/lists/films.csv", "A table of films, with two dead rows and a doubled one.", _table),
    Exhibit("podcast", "/sounds.xml", "A feed of sounds.", _podcast),
)

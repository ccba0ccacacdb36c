"""Exhibits that are easily taken for something else, or of which something is easily lost."""

from mudlark.demo.pages import Exhibit, Origins, page

REELS = ("reel-of-gulls", "reel-of-ropes", "reel-of-nets")
LANGUAGES = {"en": ("English", "The wall was raised by two feet."), "cy": ("Cymraeg", "Codwyd y wal ddwy droedfedd.")}
GATES = {"1080p": 720, "480p": 180}  # what the names say, and how high the pictures are


def _regatta(film: str) -> str:
    return f"""<h1>The Regatta</h1>
<video controls width="640" height="360" src="{film}"></video>"""


def _regatta_first(at: Origins) -> str:
    return page("The Regatta", _regatta(f"{at.media}/films/regatta-1931.mp4"))


def _regatta_second(at: Origins) -> str:
    return page("The Regatta", _regatta(f"{at.media}/films/regatta-1932.mp4"))


def _reels(at: Origins) -> str:
    rows = "\n".join(f'<p><a href="{at.media}/films/{name}.mp4">{name.replace("-", " ")}</a></p>' for name in REELS)
    return page("Three Reels", f"<h1>Three Reels</h1>\n<p>Found in one tin; nobody knows which came first.</p>\n{rows}")


def _forecast(at: Origins) -> str:
    return page(
        "The Forecast",
        f"""<h1>The Forecast</h1>
<p>The keeper's forecast, filmed each morning under one name.
<a href="/forecast/turn">Hang up tomorrow's</a>.</p>
<video controls width="640" height="360" src="{at.media}/films/forecast.mp4"></video>""",
    )


def _lamp_room(at: Origins) -> str:
    return page(
        "The Lamp Room",
        f"""<h1>The Lamp Room</h1>
<p><button id="begin">Play the film</button></p><div id="place"></div>
<div id="layer" role="dialog" aria-modal="true"><p>The museum would like to count its visitors.</p>
<button id="all">Count me</button> <button id="none">Only what is needed</button></div>
<script>
  for (const id of ["all", "none"]) document.getElementById(id).addEventListener("click", () => {{
    document.getElementById("layer").remove();
    document.getElementById("begin").addEventListener("click", () => {{
      const film = document.createElement("video");
      const name = location.pathname.split("/").pop() + ".mp4";
      film.controls = true; film.src = ["{at.media}", "films", name].join("/");
      document.getElementById("place").replaceChildren(film); film.play();
    }});
  }});
</script>""",
        "<style>#layer { position: fixed; inset: 0; background: #17414dee; color: #fff; padding: 20vh 10vw }</style>\n",
    )


def _slipway(at: Origins) -> str:
    return page(
        "The Slipway",
        f"""<h1>The Slipway</h1>
<p>A long way down to the water.</p><div style="height: 3200px"></div><div id="place">…</div>
<script>
  new IntersectionObserver((seen, watch) => {{
    if (!seen.some((it) => it.isIntersecting)) return;
    watch.disconnect();
    const film = document.createElement("video");
    const name = location.pathname.split("/").pop() + ".mp4";
    film.controls = true; film.width = 640; film.src = ["{at.media}", "films", name].join("/");
    document.getElementById("place").replaceChildren(film); film.play();
  }}).observe(document.getElementById("place"));
</script>""",
    )


def _hulk(at: Origins) -> str:
    return page(
        "The Hulk",
        f"""<h1>The Hulk</h1>
<p>Our film host gives it to visitors of this page only.</p>
<video controls width="640" height="360" src="{at.media}/guarded/hulk.mp4"></video>""",
    )


def _lock_gates(at: Origins) -> str:
    links = " · ".join(f'<a href="{at.media}/gates/lock-gates-{size}.mp4">{size}</a>' for size in reversed(GATES))
    return page("The Lock Gates", f"<h1>The Lock Gates</h1>\n<p>Opened by hand for the last time. {links}</p>")


def _breakwater(at: Origins) -> str:
    return page(
        "The Breakwater",
        "<h1>The Breakwater</h1>\n<p>The film is shown wherever this page is shared.</p>",
        f"""<meta property="og:title" content="The Breakwater">
<meta property="og:video" content="{at.site}/frames/breakwater">
<meta property="og:video:type" content="text/html">
""",
    )


def frame_breakwater(at: Origins) -> str:
    """The player that the breakwater's metadata names."""
    return f'<!doctype html><title>Player</title><video controls src="{at.media}/films/breakwater.mp4"></video>'


def _wall_talk(at: Origins) -> str:
    tracks = "\n".join(
        f'  <track kind="subtitles" srclang="{code}" label="{name}" src="/words/harbour-wall.{code}.vtt">'
        for code, (name, _) in LANGUAGES.items()
    )
    return page(
        "The Wall, in Two Languages",
        f"""<h1>The Wall, in Two Languages</h1>
<video controls width="640" height="360" poster="/pictures/harbour-wall-still.png" src="{at.media}/films/wall-talk.mp4">
{tracks}
</video>""",
    )


def words(code: str) -> str:
    """The subtitles of the talk in one of its languages (WebVTT)."""
    return f"WEBVTT\n\n00:00:01.000 --> 00:00:04.000\n{LANGUAGES[code][1]}\n"


def _old_address(_: Origins) -> str:
    return page(
        "We have moved",
        "<h1>We have moved</h1>\n<p>This gallery is elsewhere now.</p>",
        '<meta http-equiv="refresh" content="2; url=/film/foghorn">\n',
    )


TAKEN = (
    Exhibit("regatta", "/film/regatta", "Two pages and two films of one title: the first.", _regatta_first),
    Exhibit("second-regatta", "/film/regatta-again", "The second, which is another film.", _regatta_second),
    Exhibit("reels", "/reels", "Three films that are as likely to be meant.", _reels),
    Exhibit("forecast", "/film/forecast", "A film that changes on the server, under one address.", _forecast),
    Exhibit("lamp-room", "/film/lamp-room", "A layer over the page that takes the press.", _lamp_room),
    Exhibit("slipway", "/film/slipway", "A film that begins once it comes into view.", _slipway),
    Exhibit("hulk", "/film/hulk", "A film that is refused to those who do not come from its page.", _hulk),
    Exhibit("lock-gates", "/film/lock-gates", "One film in two sizes, as plain files.", _lock_gates),
    Exhibit("breakwater", "/film/breakwater", "A player that only Open Graph metadata names.", _breakwater),
    Exhibit("wall-talk", "/talk/wall", "A talk with subtitles in two languages and a poster.", _wall_talk),
    Exhibit("old-address", "/old/foghorn", "A page that leads on by itself.", _old_address),
)

"""The pages of the demo museum: each exhibit is one thing that makes real pages hard, under a name of its own."""

from mudlark.demo.asked import ASKED
from mudlark.demo.collected import COLLECTED
from mudlark.demo.dashed import DASHED
from mudlark.demo.fed import FED
from mudlark.demo.hidden import HIDDEN
from mudlark.demo.live import LIVE
from mudlark.demo.pages import Exhibit, Origins, page
from mudlark.demo.played import PLAYED
from mudlark.demo.streamed import STREAMED
from mudlark.demo.taken import TAKEN
from mudlark.demo.tiled import TILED


def _foghorn(at: Origins) -> str:
    return page(
        "The Foghorn Demonstration",
        f"""<h1>The Foghorn Demonstration</h1>
<p>Every first Sunday the keepers sounded the horn. This film was made on the last of them.</p>
<video controls width="640" height="360" poster="/pictures/foghorn-poster.png">
  <source src="{at.media}/films/foghorn-demonstration.mp4" type="video/mp4">
</video>
<p><a href="/">Back to the galleries</a></p>""",
        '<meta property="og:title" content="The Foghorn Demonstration">\n',
    )


def _tide_mill(at: Origins) -> str:
    address = f"{at.media}/streams/tide-mill/master.m3u8?gallery=4&edition=restored"
    escaped = address.replace("/", r"\/").replace("&", r"\u0026")
    return page(
        "The Tide Mill at Work",
        f"""<h1>The Tide Mill at Work</h1>
<p>The wheel turned with both tides, twice a day, until 1931.</p>
<div id="stage"><img src="/pictures/tide-mill-still.png" alt="The mill wheel" width="640"></div>
<script>
  window.gallery = {{"exhibit":"tide-mill","autoplay":false,
    "settings":{{"captions":"off","stream":"{escaped}"}}}};
</script>
<script>
  const stage = document.getElementById("stage");
  stage.addEventListener("click", () => {{
    const film = document.createElement("video");
    film.controls = true; film.src = window.gallery.settings.stream;
    stage.replaceChildren(film); film.play();
  }});
</script>
<p>Press the picture to see the film.</p>""",
        """<meta property="og:title" content="The Tide Mill at Work">
<meta property="og:description" content="A film of the tide mill of Skerrow Bay, with its wheel turning.">
<meta property="og:image" content="/pictures/tide-mill-still.png">
""",
    )


def _harbour_talk(at: Origins) -> str:
    return page(
        "A Talk on the Harbour Wall",
        f"""<h1>A Talk on the Harbour Wall</h1>
<p>Recorded in the boat shed, with the door open.</p>
<video controls width="640" height="360" id="screen" src="{at.adverts}/spots/gift-shop.mp4"></video>
<p id="next" data-then="{at.media}/films/harbour-talk.mp4">A word from our gift shop comes first.</p>
<p><a href="{at.media}/films/harbour-talk.mp4">The talk alone</a></p>
<script>
  const wall = document.getElementById("screen");
  wall.addEventListener("ended", () => {{
    wall.src = document.getElementById("next").dataset.then; wall.play();
  }}, {{once: true}});
</script>""",
        """<meta property="og:title" content="A Talk on the Harbour Wall">
<script type="application/ld+json">
{"@context": "https://schema.org", "@type": "VideoObject", "name": "A Talk on the Harbour Wall",
 "description": "How the wall was raised by two feet in the winter of the great surge.",
 "duration": "PT20S", "uploadDate": "2019-03-02",
 "creator": {"@type": "Organization", "name": "Tidewrack Museum of Skerrow Bay"}}
</script>
""",
    )


EXHIBITS: tuple[Exhibit, ...] = (
    Exhibit("foghorn", "/film/foghorn", "A plain video element: the easy case.", _foghorn),
    Exhibit(
        "tide-mill", "/film/tide-mill", "The stream's address stands only in an escaped script string.", _tide_mill
    ),
    Exhibit(
        "harbour-talk", "/talk/harbour-wall", "An advert plays first; metadata states the talk's length.", _harbour_talk
    ),
    *HIDDEN,
    *PLAYED,
    *ASKED,
    *TAKEN,
    *STREAMED,
    *DASHED,
    *LIVE,
    *COLLECTED,
    *TILED,
    *FED,
)


def entrance() -> str:
    """The front page: all exhibits."""
    rows = "\n".join(f'<dt><a href="{e.path}">{e.name}</a></dt><dd>{e.hard}</dd>' for e in EXHIBITS)
    return page("Galleries", f"<h1>Galleries</h1>\n<p>A made-up museum, to try Mudlark on.</p>\n<dl>\n{rows}\n</dl>")

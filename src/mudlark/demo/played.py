"""Exhibits whose source says little: what they hold is asked for only when they are played, pressed or scrolled."""

import json
from html import escape

from mudlark.demo.pages import Exhibit, Origins, page

LEAVES = tuple(number for number in range(1, 14) if number != 8)  # one was torn out
TALKS = 40
TALKS_AT_ONCE = 8
KEY_SYSTEM = "example.skerrow.keys"
_SUBJECTS = (
    "The Winter Mackerel",
    "Eel Traps",
    "The Ferry Bell",
    "Salt Pans",
    "Rowing to School",
    "The Lost Anchor",
    "Kelp Burning",
    "A Pilot Remembers",
)


def _blob_player(at: Origins) -> str:
    return page(
        "The Night Shift at the Mill",
        f"""<h1>The Night Shift at the Mill</h1>
<p>Grain was ground by lamplight when the tide served at night.</p>
<video id="screen" controls width="640" height="360" poster="/pictures/night-shift-still.png"></video>
<p><button id="begin">Show the film</button></p>
<script>
  const type = 'video/mp2t; codecs="avc1.64001e,mp4a.40.2"';
  const lines = async (address) => (await (await fetch(address)).text()).split("\\n").filter((l) => l && l[0] !== "#");
  document.getElementById("begin").addEventListener("click", async (event) => {{
    event.target.disabled = true;
    const pass = await (await fetch("/api/pass", {{method: "POST", body: "night-shift"}})).json();
    const master = "{at.media}/streams/night-shift/master.m3u8?pass=" + pass.word;
    const playlist = new URL((await lines(master))[1], master).href;
    const parts = await lines(playlist);
    const source = new MediaSource(), screen = document.getElementById("screen");
    screen.src = URL.createObjectURL(source);
    source.addEventListener("sourceopen", async () => {{
      const buffer = source.addSourceBuffer(type);
      for (const part of parts.slice(0, 4)) {{
        const bytes = await (await fetch(new URL(part, playlist))).arrayBuffer();
        await new Promise((done) => {{ buffer.onupdateend = done; buffer.appendBuffer(bytes); }});
        if (screen.paused) screen.play();
      }}
    }}, {{once: true}});
  }});
</script>""",
    )


def _sound_on_demand(at: Origins) -> str:
    pictures = "\n".join(f'<img src="/pictures/bell-{n:03d}.png" alt="Bell {n}" width="80">' for n in range(50))
    return page(
        "The Fog Bell",
        f"""<h1>The Fog Bell</h1>
<p>It was struck by hand, four times a minute, for as long as the fog lay.</p>
<p><a role="button" tabindex="0" id="ring">Listen to the bell</a></p>
{pictures}
<script>
  document.getElementById("ring").addEventListener("click", () => {{ new Audio("/ring/first").play(); }});
</script>""",
    )


def _configured(_: Origins) -> str:
    return page(
        "The Last Ferry",
        '<h1>The Last Ferry</h1>\n<iframe src="/frames/stage?show=ferry" width="660" height="400"></iframe>',
    )


def frame_stage(_: Origins) -> str:
    """A frame with nothing in it but another one."""
    return '<!doctype html><title>Stage</title><iframe src="/frames/screen?show=ferry" width="640"></iframe>'


def frame_screen(_: Origins) -> str:
    """The inner frame: what it shows comes from a JSON answer, and not before it is started."""
    return """<!doctype html><title>Screen</title><div id="place"></div>
<script type="module">
  const show = await (await fetch("/api/shows/ferry.json")).json();
  const film = document.createElement("video");
  film.controls = true; film.preload = "none"; film.src = show.programme.parts[0].file.address;
  document.getElementById("place").attachShadow({mode: "open"}).append(film);
</script>"""


def show_data(at: Origins) -> str:
    """What the inner frame is told."""
    file = {"address": f"{at.media}/films/last-ferry.mp4", "height": 360}
    return json.dumps({"programme": {"title": "The Last Ferry", "parts": [{"seconds": 20, "file": file}]}})


def _logbook(_: Origins) -> str:
    strip = "\n".join(f'<img src="/logbook/small/leaf-{n:02d}.jpg" alt="" width="45" height="60">' for n in LEAVES)
    leaves = "\n".join(f'<div class="leaf" data-leaf="{n:02d}"></div>' for n in LEAVES)
    return page(
        "The Keeper's Logbook of 1884",
        f"""<h1>The Keeper's Logbook of 1884</h1>
<p>Twelve leaves; the eighth was torn out before the book came to us.</p>
<nav>{strip}</nav>
{leaves}
<script>
  const watch = new IntersectionObserver((seen) => {{
    for (const it of seen) if (it.isIntersecting) {{
      watch.unobserve(it.target);
      const leaf = new Image(600, 800);
      leaf.src = "/logbook/scans/leaf-" + it.target.dataset.leaf + ".jpg?w=900";
      it.target.append(leaf);
    }}
  }});
  for (const leaf of document.querySelectorAll(".leaf")) watch.observe(leaf);
</script>""",
        "<style>.leaf { height: 820px }</style>\n",
    )


def _talks(_: Origins) -> str:
    return page(
        "Forty Talks",
        """<h1>Forty Talks</h1>
<div id="list"></div><div id="foot">…</div>
<script>
  let next = 0, busy = false;
  const list = document.getElementById("list");
  const more = async () => {
    if (busy || next === null) return;
    busy = true;
    const answer = await (await fetch("/api/talks?from=" + next)).json();
    for (const talk of answer.talks) {
      const card = document.createElement("article");
      card.className = "card";
      card.innerHTML = `<a href="${talk.page}"><img src="${talk.cover}" width="160" height="90" alt=""></a>
        <h3><a href="${talk.page}">${talk.title}</a></h3><p>${talk.about}</p>
        <p class="facts"><time datetime="${talk.date}">${talk.date}</time> · <span>${talk.length}</span></p>`;
      list.append(card);
    }
    next = answer.next; busy = false;
    if (next === null) document.getElementById("foot").remove();
  };
  new IntersectionObserver((seen) => { if (seen.some((it) => it.isIntersecting)) more(); })
    .observe(document.getElementById("foot"));
</script>""",
        "<style>.card { min-height: 210px; border-top: 1px solid #b9b19c }</style>\n",
    )


def talk_title(number: int) -> str:
    """What talk `number` (from 1) is called."""
    subject = _SUBJECTS[(number - 1) % len(_SUBJECTS)]
    return f"{subject}, part {(number - 1) // len(_SUBJECTS) + 1}"


def talks_data(at: Origins, first: int) -> str:
    """A few talks from number `first` (from 0), and where the next ones begin. Every other one names its film."""
    talks = [
        {
            "title": talk_title(number),
            "about": f"Recorded in the boat shed; reel {number} of the collection.",
            "page": f"/talks/{number}",
            "cover": f"/pictures/talk-{number:02d}-320x180.png",
            "length": "0:20",
            "date": f"19{60 + number % 30}-0{number % 9 + 1}-1{number % 10}",
            **({"media": f"{at.media}/films/talk-{number:02d}.mp4"} if number % 2 == 0 else {}),
        }
        for number in range(first + 1, min(first + TALKS_AT_ONCE, TALKS) + 1)
    ]
    after = first + TALKS_AT_ONCE
    return json.dumps({"talks": talks, "next": after if after < TALKS else None})


def talk_page(at: Origins, number: int) -> str:
    """The page of one talk."""
    title = escape(talk_title(number))
    return page(
        title, f'<h1>{title}</h1>\n<video controls width="640" src="{at.media}/films/talk-{number:02d}.mp4"></video>'
    )


def _advert_first(at: Origins) -> str:
    return page(
        "The Harbour Gates",
        f"""<h1>The Harbour Gates</h1>
<div id="hall"><iframe src="{at.adverts}/before" allow="autoplay" width="400" height="260"></iframe></div>
<script>
  addEventListener("message", (event) => {{
    if (event.data !== "over") return;
    const film = document.createElement("video");
    const name = location.pathname.split("/").pop() + ".mp4";
    film.controls = true; film.src = ["{at.media}", "films", name].join("/");
    document.getElementById("hall").replaceChildren(film); film.play();
  }}, {{once: true}});
</script>""",
    )


def advert_frame(at: Origins) -> str:
    """What plays before the film, from another origin."""
    return f"""<!doctype html><title>A word from the gift shop</title>
<video id="spot" controls width="320" src="{at.adverts}/spots/gift-shop.mp4"></video>
<script>document.getElementById("spot").onended = () => parent.postMessage("over", "*");</script>"""


def _protected(at: Origins) -> str:
    return page(
        "The Sealed Reel",
        f"""<h1>The Sealed Reel</h1>
<p>Lent to us on condition that nobody keeps a copy.</p>
<video id="screen" controls width="640" height="360"></video>
<p><button id="begin">Play the reel</button></p>
<script>
  document.getElementById("begin").addEventListener("click", async () => {{
    const pictures = [{{contentType: 'video/mp4; codecs="avc1.64001e"'}}];
    const wanted = [{{initDataTypes: ["cenc"], videoCapabilities: pictures}}];
    try {{ await navigator.requestMediaKeySystemAccess("{KEY_SYSTEM}", wanted); }} catch {{ }}
    await fetch("{at.media}/licences/sealed-reel", {{method: "POST", body: new Uint8Array([8, 1, 18, 4])}});
    document.getElementById("screen").src = "{at.media}/films/sealed-reel.mp4";
  }});
</script>""",
    )


PLAYED = (
    Exhibit("blob-player", "/film/night-shift", "A blob: player that asks for its stream when pressed.", _blob_player),
    Exhibit("sound-on-demand", "/sound/fog-bell", "A sound behind redirects, among fifty pictures.", _sound_on_demand),
    Exhibit("configured", "/talk/last-ferry", "A frame in a frame, told by a JSON answer what to show.", _configured),
    Exhibit("logbook", "/logbook", "Twelve page images that come as the page is scrolled.", _logbook),
    Exhibit("talks", "/talks", "Forty talks, listed as the page is scrolled.", _talks),
    Exhibit("advert-frame", "/film/harbour-gates", "An advert in a frame plays before the film.", _advert_first),
    Exhibit("protected", "/film/sealed-reel", "A player that asks for keys (simulated).", _protected),
)

"""Exhibits that answer differently: by who asks, by chance, or by what was answered to their questions."""

import hashlib
import hmac
import json
import random
import secrets
import time
from html import escape

from mudlark.demo.pages import Exhibit, Origins, page

HELPER = "field-guide-helper.exe"
PLAIN_GUIDES = ("field-guide-coast-x86.zip", "field-guide-coast-x64.zip", "field-guide-birds-x64.zip")
POCKET = "pocket-guide.zip"
LIFE = 20  # seconds that a link of the chooser lives
_SECRET = secrets.token_bytes(16)
EDITIONS = {"coast": "The Coast", "birds": "Sea Birds"}
LANGUAGES = {"en": "English", "cy": "Cymraeg", "nb": "Norsk"}
PROCESSORS = {"x86": "32 bit", "x64": "64 bit"}
STEPS = (("edition", "Edition", EDITIONS), ("language", "Language", LANGUAGES), ("processor", "Processor", PROCESSORS))


def guide_for(at: Origins, agent: str) -> str:
    """The guide's page: a helper program for one desktop system, plain files for everyone else."""
    if "Windows" in agent:
        inside = f'<p><a href="{at.media}/packages/{HELPER}">Get the helper</a>, which fetches the guide for you.</p>'
    else:
        rows = "".join(f'<li><a href="{at.media}/packages/{name}">{name[:-4]}</a></li>' for name in PLAIN_GUIDES)
        inside = f"<p>Take the guide as it is:</p><ul>{rows}</ul>"
    return page("Field Guide Packages", f"<h1>Field Guide Packages</h1>\n{inside}")


def _guide(at: Origins) -> str:
    return guide_for(at, "")


def _pocket(at: Origins) -> str:
    return page(
        "The Pocket Guide",
        f"""<h1>The Pocket Guide</h1>
<p id="offer">One moment …</p>
<script>
  const told = navigator.userAgentData;
  const system = told ? told.platform : navigator.platform;
  const agent = /Mobile|Android/.test(navigator.userAgent);
  const handheld = navigator.maxTouchPoints > 1 && /^iP|Android/.test(system) && agent;
  const name = (handheld ? "{POCKET.rpartition(".")[0]}" : "guide-helper") + (handheld ? ".zip" : ".exe");
  const link = document.createElement("a");
  link.href = ["{at.media}", "packages", name].join("/"); link.textContent = handheld ? "The guide" : "The helper";
  document.getElementById("offer").replaceChildren(link);
</script>""",
    )


def _noise(at: Origins) -> str:
    films = [
        f'<li><a href="{at.media}/films/{name}.mp4?utm_source=list-{secrets.token_hex(3)}">{name}</a></li>'
        for name in ("lamp-lighting", "rope-making", "net-mending", "quay-walk")
    ]
    random.shuffle(films)
    return page(
        "Today's Tide Table",
        f"""<h1>Today's Tide Table</h1><p>As of {time.strftime("%H:%M:%S")}</p><ul>{"".join(films)}</ul>
<img src="/pictures/tide-{secrets.token_hex(8)}.png?at={time.time_ns()}" alt="The curve of today's tide">
<script nonce="{secrets.token_hex(12)}">window.asked = {time.time()};</script>""",
    )


def chooser_page(at: Origins, step: int, token: str, chosen: dict[str, str]) -> str:
    """A step of the chooser: one question and a hidden token; after the last, a link that lives for a short while."""
    if step >= len(STEPS):
        name = f"field-guide-{chosen['edition']}-{chosen['language']}-{chosen['processor']}.zip"
        until = int(time.time()) + LIFE
        link = f"{at.media}/guides/{name}?expires={until}&sign={signature(name, until)}"
        answers = ", ".join(options[chosen[key]] for key, _, options in STEPS)
        offer = f'<a href="{escape(link)}" download>Your field guide</a> (this link lives {LIFE} seconds)'
        body = f"<p>{answers}</p><p>{offer}</p>"
        return page("Your Field Guide", f"<h1>Your Field Guide</h1>\n{body}")
    key, label, options = STEPS[step]
    rows = "".join(f'<option value="{value}">{text}</option>' for value, text in options.items())
    return page(
        "Choose a Field Guide",
        f"""<h1>Choose a Field Guide</h1>
<form method="post" action="/field-guide/choose">
<input type="hidden" name="token" value="{token}"><input type="hidden" name="step" value="{step}">
<label for="answer">{label}</label>
<select id="answer" name="{key}"><option value="">Please choose</option>{rows}</select>
<button name="go" value="on">Go on</button></form>""",
    )


def signature(name: str, until: int) -> str:
    """What makes a link of the chooser valid."""
    return hmac.new(_SECRET, f"{name} {until}".encode(), hashlib.sha256).hexdigest()[:24]


def _chooser(at: Origins) -> str:
    return chooser_page(at, 0, secrets.token_hex(8), {})


def _script_chooser(at: Origins) -> str:
    names = json.dumps({key: f"{at.media}/packages/{name}" for key, name in zip("abc", PLAIN_GUIDES, strict=True)})
    return page(
        "The Guide Dispenser",
        f"""<h1>The Guide Dispenser</h1>
<p><label>Guide <select id="guide"><option value="">Please choose</option><option value="a">Coast, 32 bit</option>
<option value="b">Coast, 64 bit</option><option value="c">Birds, 64 bit</option></select></label></p>
<div id="then"></div>
<script>
  const names = {names.replace("http", "h_t_p")};
  document.getElementById("guide").addEventListener("change", (event) => {{
    const then = document.getElementById("then");
    then.innerHTML = '<label>Licence <select name="licence"><option>No</option><option>Yes</option></select></label>';
    then.querySelector("select").addEventListener("change", (second) => {{
      const link = document.createElement("a");
      link.href = names[event.target.value].replace("h_t_p", "http"); link.textContent = "Your guide";
      if (second.target.value === "Yes") then.append(link);
    }});
  }});
</script>""",
    )


ASKED = (
    Exhibit("guide", "/field-guide/packages", "A helper for one system, plain files for the others.", _guide),
    Exhibit("pocket-guide", "/field-guide/pocket", "The same, decided by a script in the browser.", _pocket),
    Exhibit("noise", "/tide-table", "Every answer differs, and nothing is different.", _noise),
    Exhibit("chooser", "/field-guide/choose", "Three questions, then a link that lives 20 seconds.", _chooser),
    Exhibit("dispenser", "/field-guide/dispenser", "Questions that a script asks.", _script_chooser),
)

"""Make docs/screenshots: each command in a real terminal window, on the demo museum.

Needs Debian's xvfb and xterm. The demo runs on a fixed port, so that pictures change only when the output does.
"""

import os
import shlex
import subprocess
import sys
import tempfile
import time
from dataclasses import dataclass
from pathlib import Path

from PIL import Image, ImageChops, ImageGrab
from playwright.sync_api import sync_playwright

from mudlark.demo.site import DemoSite, media_folder

TARGET = Path(__file__).parent.parent / "docs/screenshots"
DISPLAY = ":97"
SIZE = (1280, 800)
BACK = "#101a1e"


@dataclass
class Shot:
    """One picture. before: commands run unseen. seconds: when to take it; None: when the command has ended."""

    name: str
    commands: list[str]
    before: str = ""
    seconds: float | None = None


def shots(site: DemoSite) -> list[Shot]:
    mill, talk = site.address("tide-mill"), site.address("harbour-talk")
    playlist = f"{site.origins.media}/streams/tide-mill/master.m3u8"
    languages = f"{site.origins.media}/shelves/languages/master.m3u8"
    described = f"{site.origins.media}/shelves/described/film.mpd"
    return [
        Shot("help", ["mudlark --help"]),
        Shot("sift", [f"mudlark sift {talk} {site.address('builds')} {site.address('wall-talk')}"]),
        Shot("listen", [f"mudlark listen {site.address('blob-player')} --har night-shift.har"]),
        Shot("sift-listen", [f"mudlark sift --listen {site.address('blob-player')} --most 3"]),
        Shot(
            "tap",
            [
                f"mudlark sift --listen {site.address('reading-glass')}",
                f"mudlark tracks {site.address('reading-glass')}#tap-1",
                f"mudlark haul --listen {site.address('reading-glass')}",
                f"mudlark haul --listen {site.address('locked-case')}",
            ],
        ),
        Shot("guises", [f"mudlark guises {site.address('guide')}"]),
        Shot(
            "sift-choices",
            [
                f"mudlark sift {site.address('chooser')} --choose edition=coast",
                f"mudlark sift {site.address('chooser')} --choose edition=coast --choose 'language=*' "
                "--choose 'processor=*'",
            ],
        ),
        Shot(
            "tracks",
            [
                f"mudlark tracks {playlist} --within 400",
                f"mudlark tracks {languages} --languages cy --subtitles none",
                f"mudlark tracks {described} --languages all",
                "mudlark tracks harbour-talk.mp4",
            ],
            before=f"cp {media_folder() / 'harbour-talk.mp4'} .",
        ),
        Shot("haul-progress", [f"mudlark haul {mill} --into kept --rate 200k --lanes 2"], seconds=4.0),
        Shot(
            "haul",
            [f"mudlark haul {site.address('wall-talk')}", f"mudlark haul {site.address('wall-talk')}", "ls mudlark/*"],
        ),
        Shot(
            "assay",
            ["mudlark assay kept"],
            before=f"mudlark haul {talk} {mill} {site.address('disk-image')} --into kept; mkdir -p kept/1931; "
            f"mudlark haul {site.address('foghorn')} --into kept/1931; truncate -s -9 kept/1931/*/*.mp4",
        ),
        Shot(
            "assay-play",
            ["mudlark assay --play films", "mudlark assay --play --verbose films/mute.webm"],
            before=f"mkdir films; cd {media_folder()}; cp still.webm mute.webm fog-signals.mp3 $OLDPWD/films; "
            "head -c 300000 harbour-talk.mp4 > $OLDPWD/films/cut.mp4",
        ),
        Shot("haul-live", [f"mudlark haul {site.origins.media}/live/quay/number.mpd --from earliest"], seconds=7.0),
        Shot("sweep", [f"mudlark sweep {site.address('talks')} --most 12 --into talks --at-once 2"]),
        Shot(
            "ledger",
            ["mudlark ledger shelf --sort date", "mudlark bag shelf --into bags", "mudlark bag --check bags"],
            before=f"mudlark sweep {site.address('film-list')} --into shelf; mudlark haul {mill} --into shelf; "
            f"mudlark haul {site.address('keeper-log')} {site.address('deep-chart')} --into shelf; "
            f"timeout -s KILL 3 mudlark haul {site.address('disk-image')} --into shelf --rate 3M",
        ),
        Shot("tour", ["mudlark tour"]),
    ]


def take(shot: Shot) -> None:
    """Run the commands in an xterm, take the picture, and crop what is empty below."""
    with tempfile.TemporaryDirectory() as folder:
        subprocess.run(shot.before, shell=True, cwd=folder, capture_output=True, check=False)
        lines = [f"printf '\\033[38;5;109m$\\033[0m %s\\n' {shlex.quote(c)}\n{c}" for c in shot.commands]
        script = Path(folder) / ".script"
        script.write_text("clear\n" + "\n".join(lines) + f"\ntouch {folder}/.done\nsleep 60\n")
        command = ["xterm", "-fa", "DejaVu Sans Mono", "-fs", "10", "-geometry", "158x46+0+0", "-bg", BACK]
        command += ["-fg", "#dfe6e2", "+sb", "-bw", "0", "-b", "10", "-cr", BACK, "-e", "bash", str(script)]
        environment = {**os.environ, "DISPLAY": DISPLAY, "TERM": "xterm-256color"}
        with subprocess.Popen(command, cwd=folder, env=environment, stderr=subprocess.DEVNULL) as terminal:
            begun = time.monotonic()
            while time.monotonic() - begun < (shot.seconds or 60):
                if shot.seconds is None and (Path(folder) / ".done").exists():
                    break
                time.sleep(0.1)
            time.sleep(0.5)
            picture = ImageGrab.grab(xdisplay=DISPLAY).convert("RGB")
            terminal.terminate()
    used = ImageChops.difference(picture, Image.new("RGB", picture.size, BACK)).getbbox()
    bottom = min(SIZE[1], (used[3] if used else SIZE[1]) + 14)
    picture.crop((0, 0, SIZE[0], bottom)).quantize(160).save(TARGET / f"{shot.name}.png", optimize=True)
    print(f"{shot.name}.png {SIZE[0]}x{bottom}")


def take_reports(site: DemoSite) -> None:
    """The reports of an item that had a rough way, and of a shelf, as a browser shows them."""
    with tempfile.TemporaryDirectory() as folder:
        commands = [
            f"mudlark haul {site.address('rough-gone')} --play --into kept",
            f"mudlark sweep {site.address('film-list')} --into kept",
            f"mudlark haul {site.address('keeper-log')} --into kept",
            "truncate -s -9 kept/Foghorn/*.mp4",
            "mudlark assay kept",
            "mudlark report kept/*Gone --into item.html",
            "mudlark report kept --into shelf.html",
        ]
        subprocess.run("; ".join(commands), shell=True, cwd=folder, capture_output=True, check=False)
        with sync_playwright() as playwright:
            browser = playwright.chromium.launch(executable_path="/usr/bin/chromium", args=["--no-sandbox"])
            for name, page_name in (("report-item", "item"), ("report-folder", "shelf")):
                page = browser.new_page(viewport={"width": SIZE[0], "height": 2400})
                page.emulate_media(color_scheme="dark" if page_name == "shelf" else "light")
                page.goto((Path(folder) / f"{page_name}.html").as_uri())
                page.screenshot(path=TARGET / f"{name}.png")
                with Image.open(TARGET / f"{name}.png") as picture:
                    picture.convert("RGB").quantize(128).save(TARGET / f"{name}.png", optimize=True)
                print(f"{name}.png")


def main() -> None:
    """All pictures, or those that are named."""
    TARGET.mkdir(parents=True, exist_ok=True)
    os.environ["PATH"] = f"{Path(sys.executable).parent}{os.pathsep}{os.environ['PATH']}"
    screen = subprocess.Popen(["Xvfb", DISPLAY, "-screen", "0", f"{SIZE[0]}x{SIZE[1]}x24"], stderr=subprocess.DEVNULL)
    try:
        time.sleep(1)
        with DemoSite(8411) as site:
            for shot in shots(site):
                if not sys.argv[1:] or shot.name in sys.argv[1:]:
                    take(shot)
            if not sys.argv[1:] or "report" in sys.argv[1:]:
                take_reports(site)
            if not sys.argv[1:] or "peek" in sys.argv[1:]:
                finds = [site.address(name) for name in ("tide-mill", "harbour-talk")]
                finds.append(f"{site.origins.media}/stored/bell-7c41")
                command = ["mudlark", "peek", *finds, "--sheet", str(TARGET / "peek.png"), "--replace"]
                subprocess.run(command, check=True, stdout=subprocess.DEVNULL)
    finally:
        screen.terminate()


if __name__ == "__main__":
    main()

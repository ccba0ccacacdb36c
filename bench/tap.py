"""Tapping a film of ten minutes that a page feeds to its player as fast as it is asked, against the length of the film;
and listening to the same page, with what is appended noted and without."""

import argparse
import json
import os
import resource
import subprocess
import sys
import tempfile
import threading
import time
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from pathlib import Path

import numpy as np

from mudlark.demo.fed import feeder, player
from mudlark.demo.repacked import fragments, samples_of, section
from mudlark.demo.streamed import paths

_PAGE = """<!doctype html><meta charset="utf-8"><title>A Long Evening</title><link rel="icon" href="data:,">
<video id="screen"></video><script>{player}{unscrambled}
const screen = document.getElementById("screen"), source = new MediaSource();
screen.src = URL.createObjectURL(source);
source.addEventListener("sourceopen", async () => {{
  const buffer = source.addSourceBuffer(TYPE.replace(/,[^"]*/, "")), LENGTH = {length};
  source.duration = LENGTH;
  const append = (bytes) => new Promise((done) => {{
    buffer.addEventListener("updateend", done, {{once: true}});
    buffer.appendBuffer(bytes);
  }});
  const holds = (second) => {{
    for (let n = 0; n < buffer.buffered.length; n++) {{
      if (buffer.buffered.start(n) <= second && second < buffer.buffered.end(n)) return true;
    }}
    return false;
  }};
  await append(await part(0));
  for (;;) {{
    let next = Math.floor(screen.currentTime / SECONDS);
    while (next * SECONDS < LENGTH && holds(next * SECONDS + 1)) next++;
    if (next * SECONDS >= LENGTH) {{ source.endOfStream(); return; }}
    if (next * SECONDS < screen.currentTime + 30) {{
      buffer.timestampOffset = (next - next % PARTS) * SECONDS - START;
      await append(await part(next % PARTS + 1));
    }} else await new Promise((again) => setTimeout(again, 20));
  }}
}});
</script>"""


def serve(length: int) -> str:
    """The page, on loopback; gives its address."""
    unscrambled = feeder().removeprefix(player()).partition("const source")[0]
    pictures = samples_of(paths(180), "video")
    pieces = [section(pictures[:1]), *(fragments(number + 1, [one]) for number, one in enumerate(pictures))]
    scrambled = [(np.frombuffer(piece, np.uint8) ^ 0x5A).tobytes() for piece in pieces]
    page = _PAGE.format(player=player(), unscrambled=unscrambled, length=length).encode()

    class Handler(BaseHTTPRequestHandler):
        protocol_version = "HTTP/1.1"

        def log_message(self, *_: object) -> None:
            pass

        def do_GET(self) -> None:
            number = self.path.rpartition("/")[2]
            body, kind = (
                (scrambled[int(number)], "application/octet-stream") if number.isdigit() else (page, "text/html")
            )
            self.send_response(200)
            self.send_header("Content-Type", kind)
            self.send_header("Content-Length", str(len(body)))
            self.end_headers()
            self.wfile.write(body)

    server = ThreadingHTTPServer(("127.0.0.1", 0), Handler)
    server.daemon_threads = True
    threading.Thread(target=server.serve_forever, daemon=True).start()
    return f"http://127.0.0.1:{server.server_port}/film"


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--seconds", type=int, default=600)
    given = parser.parse_args()
    address = serve(given.seconds)
    with tempfile.TemporaryDirectory(prefix="mudlark-bench-") as folder:
        command = [sys.executable, "-m", "mudlark", "haul", "--tap", address, "--into", folder, "--json"]
        begun = time.perf_counter()
        ran = subprocess.run(command, check=False, capture_output=True)
        if ran.returncode:
            sys.exit(ran.stderr.decode())
        took = time.perf_counter() - begun
        (item,) = json.loads(ran.stdout)["items"]
        peak = _peak(folder, address)
        print(f"{os.cpu_count()} cores; a film of {given.seconds} s, tapped with all that belongs to a haul:", end=" ")
        print(f"{took:.1f} s ({took / given.seconds:.2f}); {item['verdict']}, {item['duration']:.1f} s")
        print(f"peak memory of Mudlark alone: {peak / 1024:.0f} MB (of any process: {_largest():.0f} MB)")
        print(f"in {Path(folder).name}: {sum(file['bytes'] for file in item['files']) / 1e6:.1f} MB")


def _peak(folder: str, address: str) -> float:
    """Kilobytes that the process itself had at most, in another run."""
    code = (
        "import resource, sys, atexit\n"
        "atexit.register(lambda: print(resource.getrusage(resource.RUSAGE_SELF).ru_maxrss, file=sys.stderr))\n"
        "from mudlark.cli.main import run\n"
        f"sys.argv = ['mudlark', 'haul', '--tap', {address!r}, '--into', {folder!r}, '--json', '--again']\n"
        "run()\n"
    )
    ran = subprocess.run([sys.executable, "-c", code], check=False, capture_output=True, text=True)
    return float(ran.stderr.split()[-1])


def _largest() -> float:
    return resource.getrusage(resource.RUSAGE_CHILDREN).ru_maxrss / 1024


if __name__ == "__main__":
    main()

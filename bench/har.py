"""Reading a capture entry by entry: CPU against json.load of the same file, and the peak memory of each."""

import json
import subprocess
import sys
import tempfile
from pathlib import Path

_ENTRY = {
    "startedDateTime": "2026-03-02T10:00:00.000Z",
    "time": 12.5,
    "cache": {},
    "timings": {"send": 0, "wait": 1, "receive": 2},
}
_OURS = (
    "from mudlark.browser.har import HarFile; from pathlib import Path; n = sum(1 for _ in HarFile(Path(p)).entries())"
)
_YARDSTICK = "import json; n = len(json.load(open(p))['log']['entries'])"
_MEASURE = """
import resource, sys, time
p = sys.argv[1]
import mudlark.browser.har, json, pathlib
begun = time.process_time()
{work}
print(time.process_time() - begun, resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024, n)
"""


def write(path: Path, count: int, body: int) -> None:
    """A capture of so many entries, each with a body of so many characters."""
    headers = [{"name": f"field-{number}", "value": "v" * 30} for number in range(15)]
    request = {
        "method": "GET",
        "url": "http://museum.example/a.ts",
        "headers": headers,
        "queryString": [],
        "cookies": [],
    }
    content = {"size": body, "mimeType": "video/mp2t", "text": "A" * body, "encoding": "base64"}
    response = {"status": 200, "headers": headers, "cookies": [], "content": content, "redirectURL": ""}
    entry = json.dumps({**_ENTRY, "request": request, "response": response})
    with path.open("w") as file:  # piece by piece: what this process holds would count as the children's
        file.write('{"log": {"version": "1.2", "pages": [], "entries": [' + entry)
        for _ in range(count - 1):
            file.write("," + entry)
        file.write("]}}")


def measure(work: str, path: Path) -> tuple[float, float]:
    """Seconds of CPU and megabytes, best of three."""
    best = (1e9, 1e9)
    for _ in range(3):
        command = [sys.executable, "-c", _MEASURE.format(work=work), str(path)]
        seconds, peak, _count = subprocess.run(command, capture_output=True, text=True, check=True).stdout.split()
        best = min(best, (float(seconds), float(peak)))
    return best


def main() -> None:
    print(f"{'capture':<26}{'json.load':>14}{'ours':>14}{'ratio':>8}")
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "capture.har"
        for name, count, body in (("100 MB, large bodies", 700, 140_000), ("65 MB, 30,000 requests", 30_000, 40)):
            write(path, count, body)
            theirs, their_peak = measure(_YARDSTICK, path)
            ours, our_peak = measure(_OURS, path)
            print(
                f"{name:<26}{theirs:>7.2f} s {their_peak:>4.0f}MB{ours:>7.2f} s {our_peak:>4.0f}MB{ours / theirs:>7.1f}"
            )


if __name__ == "__main__":
    main()

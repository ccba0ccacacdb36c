"""What is said, and how: one JSON document always, codes for programs, numbers and labels for people, one style."""

import itertools
import json
import os
import re
import shlex
import subprocess
import sys
import time
import unicodedata
import zipfile
from collections.abc import Callable
from datetime import datetime
from pathlib import Path
from typing import Any, get_args

import click
import pytest
from click.testing import CliRunner
from hypothesis import given
from hypothesis import strategies as st

from mudlark import errors
from mudlark.cli.main import _COMMANDS, _load
from mudlark.cli.options import Network, network_options
from mudlark.cli.progress import Gauge, line, plain_line
from mudlark.cli.show import console
from mudlark.cli.spans import span_of
from mudlark.demo.site import DemoSite, media_folder
from mudlark.errors import UsageError
from mudlark.find.model import Place
from mudlark.text import escaped_json, printable, visible
from tests.conftest import PROGRAM, Answer, Ran, Trouble, own_environment

Run = Callable[..., Ran]
SHOP = (media_folder() / "gift-shop.mp4").read_bytes()
ODD = "a\x1b]0;title\x07b\u009b31mc\u202egpj\u200bd\x00e"
UNSEEN = re.compile(r"[\x00-\x09\x0b-\x1f\x7f-\x9f\u200b-\u200f\u202a-\u202e\u2066-\u2069\ufeff]")


# One document, always


def errors_of(ran: Ran) -> list[dict[str, Any]]:
    """The problems of the one document that a run gave; anything else on stdout fails."""
    document = json.loads(ran.out)
    assert document["mudlark"] == 1
    problems: list[dict[str, Any]] = document["problems"]
    assert all(set(problem) == {"code", "message", "advice", "url"} for problem in problems)
    return problems


@pytest.mark.program
@pytest.mark.parametrize("command", ["sift", "tracks", "peek", "haul", "guises"])
def test_a_page_that_is_gone_gives_one_document(mudlark: Run, trouble: Trouble, command: str) -> None:
    ran = mudlark(command, trouble.url + "/gone?token=lantern", "--json", "--tries", 1)
    (problem,) = errors_of(ran)
    assert (ran.status, problem["code"], ran.json["command"]) == (5, "network", command)
    assert problem["url"].startswith(trouble.url) and "lantern" not in json.dumps(problem) + ran.err


@pytest.mark.program
@pytest.mark.parametrize(
    "arguments",
    [
        ("sift", "--nonsense"),
        ("sift", "--most", "none", "http://127.0.0.1/"),
        ("nonsense",),
        ("assay",),
        ("assay", "nowhere"),
        ("listen", "http://127.0.0.1/"),
        ("peek",),
        ("haul",),
        ("tracks",),
        ("haul", "http://127.0.0.1/", "--header", "x"),
        ("sift", "http://127.0.0.1/", "--guise", "none"),
    ],
)
def test_wrong_usage_gives_one_document_in_one_style(mudlark: Run, arguments: tuple[str, ...]) -> None:
    ran = mudlark(*arguments, "--json")
    (problem,) = errors_of(ran)
    assert (ran.status, problem["code"]) == (2, "usage") and problem["advice"]
    said = ran.err.splitlines()
    assert said[0].startswith("mudlark: ") and said[1].startswith(" " * 9) and len(said) == 2
    assert "Usage:" not in ran.err and "Error:" not in ran.err and ".." not in ran.err.replace("...", "")


@pytest.mark.program
def test_results_and_problems_stand_in_one_document(mudlark: Run, trouble: Trouble, site: DemoSite) -> None:
    ran = mudlark("sift", trouble.url + "/gone", site.address("foghorn"), "--json")
    assert ran.status == 5 and [page["title"] for page in ran.json["pages"]] == ["The Foghorn Demonstration"]
    assert [problem["code"] for problem in errors_of(ran)] == ["network"]


@pytest.mark.program
def test_a_missing_path_is_told_beside_the_results_of_the_others(mudlark: Run, tmp_path: Path) -> None:
    (tmp_path / "shop.mp4").write_bytes(SHOP)
    ran = mudlark("assay", "nowhere", "shop.mp4", "--json")
    assert (ran.status, [problem["code"] for problem in errors_of(ran)]) == (2, ["usage"])
    assert [item["verdict"] for item in ran.json["items"]] == ["sound"]


def test_headers_come_from_the_environment_one_a_line(monkeypatch: pytest.MonkeyPatch) -> None:
    given: list[Any] = []

    @click.command()
    @network_options
    def command(network: Network) -> None:
        given.append(network.connection().headers)

    monkeypatch.setenv("MUDLARK_HEADER", "Authorization: Bearer x\n\nX-Museum: two words\n")
    command.main([], standalone_mode=False)
    command.main(["--header", "A: b"], standalone_mode=False)
    assert given == [(("Authorization", "Bearer x"), ("X-Museum", "two words")), (("A", "b"),)]
    monkeypatch.setenv("MUDLARK_HEADER", "nonsense")
    with pytest.raises(UsageError):
        command.main([], standalone_mode=False)


@pytest.mark.parametrize(
    ("now", "until", "hours"),
    [("2031-03-29 23:00", "06:00", 6), ("2031-10-25 23:00", "06:00", 8), ("2031-05-01 05:00", "06:00", 1)],
)
def test_a_time_of_day_is_that_of_the_clock_on_the_wall(
    monkeypatch: pytest.MonkeyPatch, now: str, until: str, hours: int
) -> None:
    monkeypatch.setenv("TZ", "Europe/Berlin")
    time.tzset()
    try:
        begun = datetime.fromisoformat(now).astimezone()
        span = span_of({"lasting": None, "until": until, "begin": "now"}, begun)
        assert span.until == begun.timestamp() + hours * 3600
    finally:
        monkeypatch.undo()
        time.tzset()


@pytest.mark.program
def test_the_configuration_may_ask_for_json_and_nohup_is_heeded(tmp_path: Path) -> None:
    (tmp_path / "own.toml").write_text("json = true\n")
    environment = own_environment(tmp_path) | {"MUDLARK_CONFIG": str(tmp_path / "own.toml")}
    for wrong in (["haul", "--nonsense"], ["nonsense"]):
        ran = subprocess.run([PROGRAM, *wrong], env=environment, capture_output=True, check=False)
        assert ran.returncode == 2 and json.loads(ran.stdout)["problems"][0]["code"] == "usage"
    source = "import signal; signal.signal(signal.SIGHUP, signal.SIG_IGN)\n"
    source += "import sys; sys.argv = ['mudlark', '--version']\n"
    source += "from mudlark.cli.main import run\ntry: run()\nexcept SystemExit: pass\n"
    source += "assert signal.getsignal(signal.SIGHUP) == signal.SIG_IGN\n"
    subprocess.run([sys.executable, "-c", source], check=True, capture_output=True)


@pytest.mark.program
@pytest.mark.skipif(not Path("/dev/full").exists(), reason="there is no full device")
@pytest.mark.parametrize(
    ("where", "status"),
    [(">&-", 0), ("<&- >&- 2>&-", 0), ("2>/dev/full", 0), (">/dev/full", 6), (">/dev/full 2>&1", 6)],
)
def test_outputs_that_take_nothing_do_not_end_a_haul(trouble: Trouble, tmp_path: Path, where: str, status: int) -> None:
    trouble.say("/shop.mp4", Answer(SHOP))
    command = f"exec {shlex.quote(str(PROGRAM))} haul {trouble.url}/shop.mp4 --into kept {where}"
    environment = own_environment(tmp_path)
    ran = subprocess.run(command, shell=True, cwd=tmp_path, env=environment, capture_output=True, check=False)
    assert ran.returncode == status and b"Traceback" not in ran.stderr
    assert (tmp_path / "kept" / "shop" / "record.json").exists() and not (tmp_path / "kept" / ".mudlark").exists()
    assert (b"standard output: No space left on device" in ran.stderr) == (where == ">/dev/full")


@pytest.mark.program
@pytest.mark.skipif(sys.platform != "linux", reason="elsewhere names are text")
def test_words_and_folders_in_another_encoding_are_taken(trouble: Trouble, tmp_path: Path) -> None:
    trouble.say("/shop.mp4", Answer(SHOP))
    odd = b"Fl\xf6te"
    command = [bytes(PROGRAM), b"haul", f"{trouble.url}/shop.mp4".encode(), b"--into", odd, b"--title", odd]
    command += [b"--operator", odd, b"--header", b"X-Museum: " + odd]
    environment = own_environment(tmp_path)

    def run(*words: bytes) -> Any:
        ran = subprocess.run(words, cwd=tmp_path, env=environment, capture_output=True, check=False)
        assert ran.returncode == 0, ran.stderr
        return ran.stdout

    item = json.loads(run(*command, b"--json"))["items"][0]
    folder = tmp_path / os.fsdecode(odd)
    record = json.loads((folder / "Fl\u00f6te" / "record.json").read_text())
    assert (
        item["title"] == record["title"] == record["operator"]["name"] == "Fl\u00f6te" and "\u00f6" in record["command"]
    )
    (folder / "Fl\u00f6te").rename(folder / os.fsdecode(odd))
    assert b"1 sound" in run(bytes(PROGRAM), b"ledger", odd)
    run(bytes(PROGRAM), b"bag", odd, b"--into", b"out", b"--zip")
    (made,) = (tmp_path / "out").iterdir()
    assert zipfile.ZipFile(made).namelist()[0].startswith("Fl\u00f6te/")


@pytest.mark.program
def test_a_reader_that_leaves_does_not_end_a_haul_whose_messages_it_had_too(trouble: Trouble, tmp_path: Path) -> None:
    trouble.say("/shop.mp4", Answer(SHOP))
    reader, writer = os.pipe()
    os.close(reader)
    command = [str(PROGRAM), "haul", f"{trouble.url}/shop.mp4", "--into", "kept"]
    ran = subprocess.run(
        command, cwd=tmp_path, env=own_environment(tmp_path), stdout=writer, stderr=writer, check=False
    )
    os.close(writer)
    assert ran.returncode == 0 and (tmp_path / "kept" / "shop" / "record.json").exists()


def test_every_error_has_a_code_and_a_status_of_its_own() -> None:
    kinds = [kind for kind in vars(errors).values() if isinstance(kind, type) and issubclass(kind, errors.MudlarkError)]
    assert all("code" in vars(kind) for kind in kinds)
    assert len({kind.code for kind in kinds}) == len(kinds)
    documented = (Path(__file__).parents[1] / "docs" / "json.md").read_text(encoding="utf-8")
    assert all(f"`{kind.code}`" in documented for kind in kinds)
    assert all(f"`{place}`" in documented for place in get_args(Place))


def test_codes_in_the_source_are_documented() -> None:
    root = Path(__file__).parents[1]
    documented = "".join((root / "docs" / name).read_text(encoding="utf-8") for name in ("json.md", "verification.md"))
    source = "".join(path.read_text(encoding="utf-8") for path in (root / "src" / "mudlark").rglob("*.py"))
    used = set(re.findall(r'(?:Problem|Note)\(\s*"([a-z-]+)"', source))
    used |= set(re.findall(r'\.failed\(\s*(?:f?"[^"]+"|\w+),\s*"([a-z-]+)"', source))
    assert len(used) > 15
    assert not [code for code in used if f"`{code}`" not in documented]


@pytest.mark.program
def test_a_mistake_of_mudlark_is_caught_and_said(tmp_path: Path) -> None:
    source = """
import sys
from mudlark.cli import main
from mudlark.cli import assay
def broken(result):
    raise RuntimeError("a cog slipped")
assay._data = broken
sys.argv = ["mudlark", "assay", "a.mp4", "--json"]
main.run()
"""
    (tmp_path / "a.mp4").write_bytes(SHOP)
    python = PROGRAM.with_name("python")
    done = subprocess.run([python, "-c", source], cwd=tmp_path, capture_output=True, text=True, check=False)
    assert done.returncode == 70 and "Traceback" not in done.stderr
    (problem,) = json.loads(done.stdout)["problems"]
    assert problem["code"] == "internal" and "a cog slipped" in problem["message"]


# For people


@pytest.mark.program
def test_a_find_takes_a_line_and_reasons_come_with_why(mudlark: Run, site: DemoSite) -> None:
    ran = mudlark("sift", site.address("builds"))
    (row,) = [one for one in ran.out.splitlines() if "windows-x64.zip" in one and "old" not in one]
    assert re.match(r" +2  package zip +main .+ kB +field guide 2.4 windows x64  http://", row)
    assert "+12" not in ran.out
    why = mudlark("sift", site.address("builds"), "--why", "--match", "mac").out
    points = [int(number) for number in re.findall(r"^ +([+-]\d+)  ", why, re.M)]
    (total,) = re.findall(r"^ +(\d+)  in all$", why, re.M)
    assert sum(points) == int(total) and "a package" in why


@pytest.mark.program
def test_forty_finds_take_forty_lines(mudlark: Run, site: DemoSite) -> None:
    out = mudlark("sift", site.address("decoys")).out
    assert len([one for one in out.splitlines() if re.match(r" {1,3}\d+  ", one)]) == 40


@pytest.mark.program
def test_tracks_shows_addresses_when_asked_and_takes_a_file_on_a_server(mudlark: Run, site: DemoSite) -> None:
    playlist = f"{site.origins.media}/streams/tide-mill/master.m3u8"
    assert "720p/index.m3u8" not in mudlark("tracks", playlist).out
    assert "720p/index.m3u8" in mudlark("tracks", playlist, "--verbose").out
    ran = mudlark("tracks", f"{site.origins.media}/films/harbour-talk.mp4", "--json")
    assert [track["type"] for track in ran.json["tracks"]] == ["video", "audio"] and ran.json["duration"] == 20.0


@pytest.mark.program
def test_good_items_take_a_line_and_others_are_told_in_full(mudlark: Run, tmp_path: Path) -> None:
    (tmp_path / "some").mkdir()
    (tmp_path / "some/good.mp4").write_bytes(SHOP)
    (tmp_path / "some/cut.mp4").write_bytes(SHOP[:50_000])
    ran = mudlark("assay", "some")
    assert ran.status == 1 and "2 verified: 1 sound, 1 broken" in ran.out
    lines = ran.out.splitlines()
    assert lines[0].startswith("broken") and "boxes" in lines[1] and lines[2].startswith("sound")
    assert "boxes fill" in mudlark("assay", "some/good.mp4", "--verbose").out


@pytest.mark.program
def test_quiet_says_nothing_but_results_and_verbose_every_request(mudlark: Run, site: DemoSite) -> None:
    assert mudlark("haul", site.address("foghorn"), "--quiet").err == ""
    assert "films/foghorn-demonstration.mp4 206" in mudlark("sift", site.address("foghorn"), "--verbose").err


@pytest.mark.program
def test_the_log_takes_a_line_of_json_for_each_event(mudlark: Run, trouble: Trouble, tmp_path: Path) -> None:
    url = trouble.say("/a.mp4", Answer(b"", 503), Answer(SHOP, type="video/mp4"))
    (tmp_path / "log.jsonl").write_text("")
    mudlark("sift", url, "--log", "log.jsonl")
    mudlark("sift", url, "--log", "log.jsonl")
    events = [json.loads(row) for row in (tmp_path / "log.jsonl").read_text().splitlines()]
    assert {"asked", "trying again"} <= {event["event"] for event in events}
    assert all(re.fullmatch(r"\d{4}-\d\d-\d\dT\d\d:\d\d:\d\d\.\d{3}Z", event["time"]) for event in events)


@pytest.mark.parametrize("command", list(_COMMANDS))
def test_help_has_groups_and_examples(command: str) -> None:
    text = CliRunner().invoke(_load(command), ["--help"], prog_name=f"mudlark {command}").output
    assert text.count("  mudlark ") >= 2 and "Examples:" in text
    if command in ("sift", "haul", "peek"):
        assert all(f"{group}:" in text for group in ("Options", "Choosing", "Listening", "Network", "Output"))


@pytest.mark.program
def test_a_wrong_value_says_where_it_is_set(
    mudlark: Callable[..., Ran], tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    (tmp_path / "own.toml").write_text("lanes = 99\n")
    monkeypatch.setenv("MUDLARK_CONFIG", str(tmp_path / "own.toml"))
    assert "own.toml" in mudlark("haul", "http://127.0.0.1:1/").err
    assert "own.toml" in mudlark("--help").out.replace("\n", "")
    monkeypatch.setenv("MUDLARK_LANES", "0")
    assert "set by MUDLARK_LANES" in mudlark("haul", "http://127.0.0.1:1/").err
    assert "is set" not in mudlark("haul", "http://127.0.0.1:1/", "--lanes", "0").err
    assert "`mudlark haul`" in mudlark("hual").err


def test_the_usage_of_guises_names_its_address() -> None:
    assert "[URL]" in CliRunner().invoke(_load("guises"), ["--help"], prog_name="mudlark guises").output.splitlines()[0]


@pytest.mark.program
@pytest.mark.parametrize(
    ("text", "said"),
    [
        ("lanse = 3", "'lanse'"),
        ("[haul]\nlanse = 3", "'lanse' for haul"),
        ("[nonsense]\nlanes = 3", "'nonsense'"),
        ("lanes = ", "is no TOML"),
        (None, "There is no configuration"),
    ],
)
def test_what_a_configuration_gets_wrong_is_an_error(tmp_path: Path, text: str | None, said: str) -> None:
    if text:
        (tmp_path / "c.toml").write_text(text)
    environment = {**own_environment(tmp_path), "MUDLARK_CONFIG": str(tmp_path / "c.toml"), "LC_ALL": "C"}
    done = subprocess.run(
        [PROGRAM, "haul", "http://127.0.0.1:9/"], env=environment, capture_output=True, text=True, check=False
    )
    assert done.returncode == 2 and said in done.stderr, done.stderr


def test_our_own_files_are_read_under_any_locale() -> None:
    environment = {**os.environ, "LC_ALL": "C", "PYTHONUTF8": "0", "PYTHONCOERCECLOCALE": "0"}
    done = subprocess.run([PROGRAM, "guises"], env=environment, capture_output=True, check=False)
    assert done.returncode == 0, done.stderr


@pytest.mark.program
@pytest.mark.parametrize("address", ["http://[::1/film.mp4", "http://[", "https://m.example:99999/"])
def test_an_address_that_is_none_is_said(mudlark: Run, address: str) -> None:
    for command in ("sift", "haul", "tracks"):
        ran = mudlark(command, address, "--json")
        assert (ran.status, [problem["code"] for problem in errors_of(ran)]) == (2, ["usage"]), ran.err


@pytest.mark.program
def test_https_on_a_port_that_has_none_is_said_as_such(mudlark: Run, trouble: Trouble) -> None:
    ran = mudlark("sift", trouble.url.replace("http:", "https:"), "--tries", 1)
    assert ran.status == 5 and "does not speak HTTPS" in ran.err and "--trust" not in ran.err


@pytest.mark.program
def test_a_capture_can_be_listed_in_its_own_order(mudlark: Run, tmp_path: Path) -> None:
    from tests.captures import entry, write

    addresses = [f"http://m.example/{name}.mp4" for name in ("b", "a")]
    write(tmp_path, [entry("http://m.example/", "text/html", "<p>x"), *(entry(one, "video/mp4") for one in addresses)])
    ran = mudlark("sift", "--har", "capture.har", "--no-probe", "--sort", "order", "--json")
    assert [find["url"] for find in ran.json["pages"][0]["finds"]] == addresses


# Progress


def gauge(planned: int, total: int | None) -> Gauge:
    return Gauge(planned, total, 0.0)


def test_progress_counts_bytes_where_the_size_is_known_or_can_be_estimated() -> None:
    known = gauge(1, 1_000_000)
    for step in range(1, 6):
        known.bytes_came(100_000, float(step))
    assert known.share == 0.5 and known.rate(5.0) == 100_000 and known.left(5.0) == pytest.approx(5.0)
    estimated = gauge(10, None)
    estimated.bytes_came(150, 1.0)
    estimated.piece_came(100, reused=False)
    assert estimated.estimate == 1000 and estimated.share == 0.15


def test_the_time_left_does_not_leap() -> None:
    steady = gauge(1, 10_000_000)
    said = []
    for step in range(1, 60):
        steady.bytes_came(150_000 if step % 2 else 50_000, step / 2)
        if step > 16:
            said.append(steady.left(step / 2) or 0.0)
    assert max(abs(after - before + 0.5) for before, after in itertools.pairwise(said)) < 4


@given(st.integers(1, 200), st.integers(0, 10**12), st.integers(1, 10**4))
def test_progress_is_one_line_at_any_width(width: int, count: int, planned: int) -> None:
    some = gauge(planned, None)
    some.bytes_came(count, 1.0)
    some.piece_came(max(1, count // planned), reused=False)
    some.retries = 3
    text = line(some, "Fetching", "segments", width, 2.0)
    assert text.cell_len <= width and "\n" not in text.plain
    assert "\n" not in plain_line(some, "segments", 2.0)


# Nothing unseen


@pytest.mark.program
def test_what_cannot_be_seen_reaches_neither_terminal_nor_json_nor_names(
    mudlark: Run, trouble: Trouble, tmp_path: Path
) -> None:
    source = f"<title>{ODD}</title><a href='/a.mp4' title='{ODD}'>{ODD}</a>".replace("\0", "&#0;")
    url = trouble.say("/p", Answer(source.encode(), type="text/html; charset=utf-8"))
    served = {"Content-Disposition": "attachment; filename*=UTF-8''a%00b%C2%9Bc%E2%80%AEgpj.mp4"}
    trouble.say("/a.mp4", Answer(SHOP, type="video/mp4", headers=served))
    shown: list[tuple[str, ...]] = [
        ("sift", url),
        ("sift", url, "--why"),
        ("haul", url),
        ("assay", "mudlark", "--verbose"),
    ]
    for arguments in shown:
        ran = mudlark(*arguments)
        assert not UNSEEN.search(ran.out + ran.err), ran.out
    for documented in (("sift", url, "--json"), ("haul", url, "--again", "--json"), ("assay", "mudlark", "--json")):
        assert not UNSEEN.search(mudlark(*documented).out)
    made = list((tmp_path / "mudlark").rglob("*"))
    assert made and not any(UNSEEN.search(path.name) for path in made)
    record = next(tmp_path.glob("mudlark/*/record.json"))
    assert not UNSEEN.search(record.read_text())
    edited = json.loads(record.read_text())
    edited["title"], edited["problems"] = ODD, [{"code": "loss", "message": ODD}]
    record.write_text(json.dumps(edited))
    assert not UNSEEN.search(mudlark("assay", str(record.parent)).out)


@given(st.text(max_size=100))
def test_text_is_made_fit_character_by_character(text: str) -> None:
    assert len(visible(text)) == len(text) and all(char.isprintable() or char == " " for char in printable(text))
    document = escaped_json(json.dumps({"a": text}, ensure_ascii=False).replace("\x7f", "\\u007f"))
    if not any(unicodedata.category(char) == "Cs" for char in text):
        assert json.loads(document)["a"] == text and not UNSEEN.search(document)


def test_the_console_shows_nothing_unseen(capsys: pytest.CaptureFixture[str]) -> None:
    from rich.text import Text

    console().print(Text(ODD, style="bold"), ODD)
    assert not UNSEEN.search(capsys.readouterr().out)


@pytest.mark.program
def test_a_cookie_file_that_has_expired_is_named(mudlark: Run, trouble: Trouble, tmp_path: Path) -> None:
    url = trouble.say("/page", Answer(b"<!doctype html><a href=/film.mp4>film</a>", type="text/html"))
    line = "127.0.0.1\tFALSE\t/\tFALSE\t{}\tsid\tlantern\n"
    (tmp_path / "old.txt").write_text(line.format(1_000_000) * 2)
    (tmp_path / "new.txt").write_text(line.format(1_000_000) + line.format(99_999_999_999))
    assert "old.txt: all 2 cookies have expired" in mudlark("sift", url, "--cookie-file", "old.txt", "--no-probe").err
    assert "expired" not in mudlark("sift", url, "--cookie-file", "new.txt", "--no-probe").err


@pytest.mark.parametrize(
    ("words", "place", "offered"),
    [("mudlark sift --guise desk", "3", "plain,desktop-windows"), ("mudlark sweep ", "2", "file,")],
)
def test_guises_and_lists_are_completed(words: str, place: str, offered: str) -> None:
    environment = {**os.environ, "_MUDLARK_COMPLETE": "bash_complete", "COMP_WORDS": words, "COMP_CWORD": place}
    ran = subprocess.run([str(PROGRAM)], env=environment, capture_output=True, text=True, check=False)
    assert offered in ran.stdout.splitlines()


@pytest.mark.program
def test_a_terminal_of_few_characters_is_written_to_all_the_same(mudlark: Run, site: DemoSite, tmp_path: Path) -> None:
    environment = {**own_environment(tmp_path), "PYTHONIOENCODING": "ascii"}

    def run(*words: str) -> bytes:
        command = [str(PROGRAM), *words]
        ran = subprocess.run(command, cwd=tmp_path, env=environment, capture_output=True, check=False)
        assert ran.returncode == 0, ran.stderr
        return ran.stdout

    assert b"640x360" in run("haul", site.address("foghorn"), "--into", "kept", "--title", "P\u00e8re \u6771")
    assert b"Pere ?" in run("assay", "kept")
    document = run("ledger", "kept", "--json")
    assert document.isascii() and json.loads(document)["items"][0]["title"] == "P\u00e8re \u6771"


@pytest.mark.program
@pytest.mark.parametrize("proxy", ["http://127.0.0.1:9", "socks5://127.0.0.1:9"])
def test_a_dead_proxy_is_named_as_one(mudlark: Run, trouble: Trouble, proxy: str) -> None:
    ran = mudlark("sift", trouble.url, "--proxy", proxy, "--tries", "1")
    assert ran.status == 5 and "proxy" in ran.err.splitlines()[0] and "Is it running?" in ran.err

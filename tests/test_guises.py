"""Guises: that each is one piece, what differs between them and what is only noise, and what comes of it."""

import csv
from collections.abc import Callable
from pathlib import Path

import pytest

from mudlark.demo.asked import HELPER, PLAIN_GUIDES, POCKET
from mudlark.demo.site import DemoSite
from mudlark.find.compare import Mark, mark
from mudlark.web.guise import PLAIN, Guise, built_in
from tests.conftest import Answer, Ran, Trouble

Run = Callable[..., Ran]
_GUISES = list(built_in().values())
_SYSTEMS = {
    # what scripts read: what the string says
    "Win32": "Windows NT",
    "MacIntel": "Macintosh",
    "iPad": "iPad",
    "iPhone": "iPhone",
    "Linux x86_64": "X11; Linux x86_64",
    "Linux armv81": "Android",
    "Linux armv7l": "Linux armv7l",
}
_HINTED = {"Windows": "Windows NT", "Android": "Android", "Linux": "Linux"}
_NONE: frozenset[Mark] = frozenset()


def test_there_are_enough_of_each_kind() -> None:
    kinds = [name.partition("-")[0] for name in built_in()]
    least = {"desktop": 3, "tablet": 2, "phone": 2, "television": 1, "plain": 1, "feed": 1, "search": 1}
    assert {kind: kinds.count(kind) for kind in least} == least


@pytest.mark.parametrize("guise", _GUISES, ids=lambda guise: guise.name)
def test_a_guise_is_of_one_piece(guise: Guise) -> None:
    agent = guise.user_agent
    if guise.platform:
        assert _SYSTEMS[guise.platform] in agent
    if guise.hints:
        version = dict(guise.hints.brands)["Chromium"]
        assert f"Chrome/{version}." in agent
        assert _HINTED[guise.hints.platform] in agent
        assert guise.mobile == ("Mobile" in agent)
    assert bool(guise.hints) == ("Chrome/" in agent)
    assert (guise.touch > 0) == guise.name.startswith(("tablet", "phone"))
    assert not guise.touch or min(guise.viewport) < 900
    assert bool(guise.language) == bool(guise.platform)


def test_hints_go_over_secure_connections_and_more_of_them_when_they_are_asked_for() -> None:
    guise = built_in()["phone-android"]
    assert not [name for name in guise.headers("http://museum.test/") if name.startswith("Sec-")]
    sent = guise.headers("https://museum.test/")
    assert (sent["Sec-CH-UA-Mobile"], sent["Sec-CH-UA-Platform"]) == ("?1", '"Android"')
    assert "Sec-CH-UA-Model" not in sent
    assert guise.headers("https://museum.test/", frozenset({"sec-ch-ua-model"}))["Sec-CH-UA-Model"] == '"K"'
    assert PLAIN.headers("https://museum.test/") == {"Accept": "*/*"}


@pytest.mark.parametrize(
    ("one", "other"),
    [
        ("http://a.test/f.mp4?utm_source=x", "http://a.test/f.mp4?utm_source=y&fbclid=2"),
        ("http://a.test/f.mp4?b=2&a=1", "http://a.test/f.mp4?a=1&b=2"),
        ("http://a.test/f.mp4?at=1795436429", "http://a.test/f.mp4"),
    ],
)
def test_tracking_and_order_are_no_difference(one: str, other: str) -> None:
    assert mark(one, _NONE) == mark(other, _NONE)


def test_what_looks_random_differs_unless_it_changes_by_itself() -> None:
    one, other = "http://a.test/stored/8842ab12/f.mp4", "http://a.test/stored/7701cd99/f.mp4"
    assert mark(one, _NONE) != mark(other, _NONE)
    changing = frozenset([("a.test", "/stored/#/f.mp4")])
    assert mark(one, changing) == mark(other, changing)


def test_an_edition_is_a_difference() -> None:
    assert mark("http://a.test/guide-x86.zip?e=1", _NONE) != mark("http://a.test/guide-x64.zip?e=1", _NONE)
    assert mark("http://a.test/f.zip?edition=1", _NONE) != mark("http://a.test/f.zip?edition=2", _NONE)


@pytest.mark.program
def test_what_only_some_get_comes_first_with_the_command_that_hauls_it(
    mudlark: Run, site: DemoSite, tmp_path: Path
) -> None:
    url = site.address("guide")
    ran = mudlark("guises", url, "--json", "--csv", "matrix.csv")
    assert ran.status == 0, ran.err
    assert ran.json["differs"]
    finds = {find["url"].rpartition("/")[2]: find for find in ran.json["finds"]}
    assert finds[HELPER]["guises"] == ["desktop-windows"]
    others = [name for name in built_in() if name != "desktop-windows"]
    assert all(finds[name]["guises"] == others for name in PLAIN_GUIDES)
    assert finds[PLAIN_GUIDES[1]]["plainest"] == "plain"
    assert {"user-agent"} == {name for guise in ran.json["guises"] for name in guise["vary"]}
    command = finds[HELPER]["command"].split()[1:]
    assert mudlark(*command).status == 0
    with (tmp_path / "matrix.csv").open(newline="") as file:
        rows = list(csv.DictReader(file))
    assert [row["desktop-windows"] for row in rows if row["find"].endswith(HELPER)] == ["yes"]
    assert "only as desktop-windows" in mudlark("guises", url).out


@pytest.mark.program
def test_a_page_that_differs_only_in_noise_is_the_same_for_all(mudlark: Run, site: DemoSite) -> None:
    ran = mudlark("guises", site.address("noise"), "--json")
    assert not ran.json["differs"]
    assert len(ran.json["finds"]) == 4
    assert all(find["all"] for find in ran.json["finds"])


@pytest.mark.program
def test_a_title_that_changes_by_itself_is_no_difference(mudlark: Run, trouble: Trouble) -> None:
    answers = [
        Answer(f'<!doctype html><title>At {n}</title><video src="/a.mp4?t={n}"></video>'.encode(), type="text/html")
        for n in range(6)
    ]
    url = trouble.say("/page", *answers)
    assert not mudlark("guises", url, "--json", "--as", "plain", "--as", "tablet-ios").json["differs"]


@pytest.mark.program
@pytest.mark.browser
def test_a_script_that_decides_sees_each_guise_whole_and_the_best_is_hauled(
    mudlark: Run, site: DemoSite, tmp_path: Path
) -> None:
    names = ("desktop-windows", "phone-android")
    asked = [part for name in names for part in ("--as", name)]
    ran = mudlark("guises", site.address("pocket-guide"), "--listen", "--settle", "0.5", "--json", *asked)
    assert ran.status == 0, ran.err
    finds = {find["url"].rpartition("/")[2]: find["guises"] for find in ran.json["finds"]}
    assert finds == {POCKET: ["phone-android"], "guide-helper.exe": ["desktop-windows"]}


@pytest.mark.program
def test_haul_takes_the_find_from_the_guise_that_gets_the_best_and_records_it(mudlark: Run, trouble: Trouble) -> None:
    class ByAgent(list[Answer]):
        """Gives the film to tablets only."""

        def __getitem__(self, at: object) -> Answer:  # type: ignore[override]
            told = trouble.headers[-1]["User-Agent"]
            inside = '<a href="/film.zip">it</a>' if "iPad" in told else '<a href="/helper.exe">helper</a>'
            return Answer(f"<!doctype html><title>t</title><p>{inside}</p>".encode(), type="text/html")

    trouble.say("/film.zip", Answer(b"PK\x05\x06" + bytes(18), type="application/zip"))
    trouble.say("/helper.exe", Answer(b"MZ" + bytes(600), type="application/octet-stream"))
    trouble.answers["/page"] = ByAgent([Answer()])
    item = mudlark("haul", f"{trouble.url}/page", "--guise", "all", "--into", "kept", "--json").json["items"][0]
    assert item["source"]["request"]["guise"] == "tablet-ios"
    assert item["source"]["address"] == f"{trouble.url}/film.zip"
    told = [h["User-Agent"] for p, h in zip(trouble.asked, trouble.headers, strict=True) if p == "/film.zip"]
    assert all("iPad" in agent for agent in told)


@pytest.mark.program
def test_a_guise_that_is_refused_is_said_and_the_others_go_on(mudlark: Run, trouble: Trouble) -> None:
    class ByAgent(list[Answer]):
        def __getitem__(self, at: object) -> Answer:  # type: ignore[override]
            agent = trouble.headers[-1]["User-Agent"]
            if "searchbot" in agent:
                return Answer(b"no", 406, "text/plain")
            if "Firefox" in agent:
                return Answer(b"<!doctype html><title>Wait</title><p>Verify you are human.</p>", type="text/html")
            return Answer(b'<!doctype html><title>t</title><video src="/a.mp4"></video>', type="text/html")

    trouble.answers["/page"] = ByAgent([Answer()])
    ran = mudlark(
        "guises", f"{trouble.url}/page", "--json", "--as", "plain", "--as", "search-robot", "--as", "desktop-linux"
    )
    assert ran.status == 0, ran.err
    plain, robot, linux = ran.json["guises"]
    assert (plain["status"], plain["finds"], robot["status"], robot["finds"]) == (200, 1, 406, None)
    assert (linux["challenge"], "robots" in linux["problem"]) == (True, True)
    assert ran.json["finds"][0]["guises"] == ["plain"]
    assert "406" in mudlark("guises", f"{trouble.url}/page", "--as", "search-robot", "--as", "plain").out


@pytest.mark.program
def test_own_guises_and_options_come_from_the_configuration(
    mudlark: Run, trouble: Trouble, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    url = trouble.say("/page", Answer(b'<!doctype html><a href="/a.zip">a</a><a href="/b.zip">b</a>', type="text/html"))
    config = tmp_path / "config.toml"
    config.write_text(
        'no-probe = true\n[sift]\nmost = 1\nheader = ["X-One: 1"]\n'
        '[guises.mine]\nuser_agent = "Mine/1.0"\nlanguage = "cy"\n'
    )
    monkeypatch.setenv("MUDLARK_CONFIG", str(config))
    assert "1 more" in mudlark("sift", url, "--guise", "mine").out
    (told,) = trouble.headers
    assert (told["User-Agent"], told["Accept-Language"], told["X-One"]) == ("Mine/1.0", "cy", "1")
    assert "Mine/1.0" in mudlark("guises").out
    for wrong in ("[nonsense]\nx = 1\n", "[sift]\nnonsense = 1\n", "[guises.mine]\nagent = 1\n", "x ="):
        config.write_text(wrong)
        ran = mudlark("sift", url, "--guise", "plain")
        assert (ran.status, str(config) in ran.err) == (2, True)


@pytest.mark.program
def test_a_guise_that_there_is_not_is_said_with_those_there_are(mudlark: Run) -> None:
    ran = mudlark("sift", "http://127.0.0.1:9/", "--guise", "toaster")
    assert ran.status == 2
    assert "tablet-ios" in ran.err

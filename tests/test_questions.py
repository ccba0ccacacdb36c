"""Questions that stand before a link: reading forms, answering them as a browser would, and walking again."""

import time
from collections.abc import Callable
from pathlib import Path

import pytest

from mudlark.demo.site import DemoSite
from mudlark.errors import Refused, UsageError
from mudlark.find.questions import Answer as Given
from mudlark.find.questions import Option, read_forms, step_of
from tests.conftest import Answer, Ran, Trouble

Run = Callable[..., Ran]
_URL = "http://museum.test/guide/choose?from=menu"

_FORM = """<form action="next" method="post"><input type="hidden" name="token" value="t1">
<label for="e">Edition:</label><select id="e" name="edition"><option value="">Choose</option>
<option value="c">The Coast</option><option value="b">Sea Birds</option><option disabled value="x">No</option></select>
<label>Words <input name="words" value="plain"></label>
<fieldset><legend>Size</legend><label><input type="radio" name="size" value="s"> Small</label>
<label><input type="radio" name="size" value="l" checked> Large</label></fieldset>
<label><input type="checkbox" name="maps" value="1" checked> With maps</label>
<label><input type="checkbox" name="notes" value="1"> With notes</label>
<input type="text" name="off" disabled value="x"><button name="go" value="on">Go</button></form>"""


def _given(*texts: str) -> list[Given]:
    return [Given.of(text) for text in texts]


def test_a_form_is_read_with_what_each_question_takes() -> None:
    (form,) = read_forms(_FORM, _URL)
    assert (form.action, form.method, form.hidden) == ("http://museum.test/guide/next", "POST", [("token", "t1")])
    asked = {question.name: question for question in form.questions}
    assert list(asked) == ["edition", "words", "size", "maps", "notes"]
    assert (asked["edition"].label, asked["edition"].given) == ("Edition:", None)
    assert asked["edition"].options == [Option("The Coast", "c"), Option("Sea Birds", "b")]
    assert (asked["size"].label, asked["size"].given) == ("Size", "l")
    assert asked["words"].label == "Words"


def test_a_form_is_sent_with_hidden_fields_defaults_and_its_button() -> None:
    found = step_of(read_forms(_FORM, _URL), _given("edition=sea birds", "Size=small", "notes=yes", "later=1"))
    assert found
    step, left = found
    assert (step.method, step.url) == ("POST", "http://museum.test/guide/next")
    assert step.fields == (
        ("token", "t1"),
        ("edition", "b"),
        ("words", "plain"),
        ("size", "s"),
        ("maps", "1"),
        ("notes", "1"),
        ("go", "on"),
    )
    assert step.answered == (("edition", "Sea Birds"), ("size", "Small"), ("notes", "yes"))
    assert left == _given("later=1")


def test_a_form_by_get_puts_its_answers_into_the_address() -> None:
    source = '<form action="/find?old=1"><select name="q"><option>a b</option></select><input name="n"></form>'
    found = step_of(read_forms(source, _URL), _given("q=a b", "n=ü"))
    assert found
    assert found[0].url == "http://museum.test/find?q=a+b&n=%C3%BC"


def test_a_drop_down_that_leads_is_a_question_though_there_is_no_form() -> None:
    source = """<select id="jump" onchange="location=this.value"><option value="">Go to</option>
    <option value="/guide/a">First</option><option value="/guide/b">Second</option></select>
    <select id="colour"><option value="red">Red</option></select>"""
    (form,) = read_forms(source, _URL)
    found = step_of([form], _given("jump=second"))
    assert found
    assert (found[0].url, found[0].method) == ("http://museum.test/guide/b", "GET")


@pytest.mark.parametrize(
    ("answer", "said"),
    [
        ("edition=s", "'The Coast', 'Sea Birds'"),
        ("edition=moon", "It has 'The Coast', 'Sea Birds'"),
        ("words=x", "not answered yet"),
        ("e=c", "may be any of"),
    ],
)
def test_an_answer_that_does_not_fit_is_said_with_what_would(answer: str, said: str) -> None:
    with pytest.raises(UsageError) as caught:
        step_of(read_forms(_FORM, _URL), _given(answer))
    assert said in str(caught.value)


@pytest.mark.parametrize("kind", ["password", "file"])
def test_passwords_are_never_filled_in_and_files_never_sent(kind: str) -> None:
    source = f'<form><select name="a"><option>x</option></select><input type="{kind}" name="p"></form>'
    with pytest.raises(Refused):
        step_of(read_forms(source, _URL), _given("a=x"))


def test_a_group_without_a_default_holds_up_nothing_unless_it_must_be_answered() -> None:
    source = '<form><input name="q"><input type="radio" name="r" value="1"><input type="radio" name="r" value="2"{}>'
    found = step_of(read_forms(source.format(""), _URL), _given("q=a"))
    assert found and found[0].url.endswith("?q=a")
    with pytest.raises(UsageError, match="'r' is not answered yet"):
        step_of(read_forms(source.format(" required"), _URL), _given("q=a"))


def test_what_stands_in_a_disabled_fieldset_is_not_sent() -> None:
    source = """<form><input name="q"><fieldset disabled><legend><input name="in" value="1"></legend>
    <input type="hidden" name="out" value="2"><p><input name="far" value="3"></p></fieldset></form>"""
    found = step_of(read_forms(source, _URL), _given("q=a"))
    assert found and found[0].url.endswith("?q=a&in=1")


def test_one_answer_sets_one_control() -> None:
    source = '<form><input name="q" value="first"><input name="q" value="second"></form>'
    found = step_of(read_forms(source, _URL), _given("q=mine"))
    assert found and found[0].url.endswith("?q=mine&q=second")


@pytest.mark.parametrize("action", ["javascript:send()", "mailto:keeper@museum.test", "http://[", "file:///etc/hosts"])
def test_a_form_that_leads_to_what_cannot_be_sent_to_is_not_sent_to_the_page_instead(action: str) -> None:
    with pytest.raises(Refused, match="cannot be sent to"):
        step_of(read_forms(f'<form action="{action}"><input name="q"></form>', _URL), _given("q=a"))


def test_an_answer_needs_a_name() -> None:
    with pytest.raises(UsageError, match="--choose NAME=VALUE"):
        Given.of("coast")


@pytest.mark.program
def test_three_questions_lead_to_a_link_that_is_hauled_with_the_way_in_the_record(mudlark: Run, site: DemoSite) -> None:
    url = site.address("chooser")
    first = mudlark("sift", url, "--json")
    assert first.status == 3
    (choice,) = first.json["pages"][0]["forms"][0]["choices"]
    assert (choice["name"], choice["label"]) == ("edition", "Edition")
    assert choice["options"][0] == {"label": "The Coast", "value": "coast"}
    second = mudlark("sift", url, "--choose", "edition=birds")
    assert "--choose language=…" in second.out
    answers = ("--choose", "edition=Sea Birds", "--choose", "language=cy", "--choose", "processor=64 bit")
    find = mudlark("sift", url, "--json", *answers).json["pages"][0]["finds"][0]
    assert 10 < find["expires"] - time.time() <= 20
    item = mudlark("haul", url, "--into", "kept", "--json", *answers).json["items"][0]
    assert item["verdict"] == "sound"
    assert item["files"][0]["path"] == "field guide birds cy x64.zip" or item["files"][0]["path"].endswith(".zip")
    assert [step["answered"] for step in item["source"]["walk"]] == [
        [["edition", "Sea Birds"]],
        [["language", "Cymraeg"]],
        [["processor", "64 bit"]],
    ]
    missing = mudlark("haul", url, "--into", "kept", "--choose", "edition=coast")
    assert missing.status == 3
    assert "--choose language=… with one of 'English'" in missing.err


@pytest.mark.program
def test_every_option_in_turn_gives_one_table_of_links(mudlark: Run, site: DemoSite) -> None:
    url = site.address("chooser")
    answers = ("--choose", "edition=*", "--choose", "language=en", "--choose", "processor=*")
    pages = mudlark("sift", url, "--json", *answers).json["pages"]
    names = [page["finds"][0]["url"].rpartition("/")[2].partition("?")[0] for page in pages]
    assert names == [f"field-guide-{e}-en-{p}.zip" for e in ("coast", "birds") for p in ("x86", "x64")]
    table = mudlark("sift", url, *answers).out
    assert table.count("expires in") == 4
    assert "Sea Birds  English" in table


@pytest.mark.program
@pytest.mark.browser
def test_a_script_that_asks_is_answered_in_the_browser(mudlark: Run, site: DemoSite) -> None:
    url = site.address("dispenser")
    answers = ("--choose", "guide=birds", "--choose", "licence=yes", "--settle", "0.5")
    page = mudlark("sift", "--listen", url, "--json", *answers).json["pages"][0]
    assert [find["url"].rpartition("/")[2] for find in page["finds"]] == ["field-guide-birds-x64.zip"]
    assert page["walk"] == [{"guide": "Birds, 64 bit"}, {"licence": "Yes"}]
    wrong = mudlark("sift", "--listen", url, "--choose", "guide=moon", "--settle", "0.5")
    assert (wrong.status, "'Coast, 32 bit'" in wrong.err) == (2, True)


def _chooser(trouble: Trouble, *links: str) -> str:
    """A page that asks once; each walk leads to the next of the links."""
    form = b'<!doctype html><form method="get" action="/link"><select name="a"><option>x</option></select></form>'
    pages = [
        Answer(f'<!doctype html><title>G</title><a href="{link}">it</a>'.encode(), type="text/html") for link in links
    ]
    trouble.say("/link", *pages)
    return trouble.say("/ask", Answer(form, type="text/html"))


@pytest.mark.program
def test_a_link_that_has_died_is_walked_to_again(mudlark: Run, trouble: Trouble) -> None:
    url = _chooser(trouble, "/guide.zip?pass=1", "/guide.zip?pass=2")
    package = Answer(b"PK\x05\x06" + bytes(18), type="application/zip")
    trouble.say("/guide.zip", Answer(b"gone", 410, "text/plain"), Answer(b"gone", 410, "text/plain"), package)
    ran = mudlark("haul", url, "--choose", "a=x", "--into", "kept", "--json")
    assert ran.json["items"][0]["verdict"] == "sound", ran.err
    assert "/guide.zip?pass=2" in trouble.asked[-1]


@pytest.mark.program
def test_an_expired_link_is_walked_to_again_before_it_is_asked(mudlark: Run, trouble: Trouble) -> None:
    old, new = int(time.time()) - 60, int(time.time()) + 600
    url = _chooser(trouble, f"/guide.zip?expires={old}", f"/guide.zip?expires={new}")
    trouble.say("/guide.zip", Answer(b"PK\x05\x06" + bytes(18), type="application/zip"))
    item = mudlark("haul", url, "--choose", "a=x", "--into", "kept", "--json").json["items"][0]
    assert item["source"]["address"].endswith(str(new))


@pytest.mark.program
def test_links_that_die_every_time_end_the_haul(mudlark: Run, trouble: Trouble, tmp_path: Path) -> None:
    url = _chooser(trouble, "/guide.zip?pass=1")
    trouble.say("/guide.zip", Answer(b"no", 403, "text/plain"))
    ran = mudlark("haul", url, "--choose", "a=x", "--into", "kept")
    assert ran.status == 3
    assert not list((tmp_path / "kept").glob("[!.]*"))


@pytest.mark.program
def test_a_link_that_will_not_live_long_enough_is_warned_of(mudlark: Run, trouble: Trouble) -> None:
    url = trouble.say("/film.bin", Answer(b"PK" + bytes(150_000)))
    ran = mudlark("haul", f"{url}?expires={int(time.time()) + 1}", "--rate", "60k", "--into", "kept")
    assert "fetching needs about" in ran.err


@pytest.mark.program
def test_forms_that_lead_in_circles_end_with_the_answers(mudlark: Run, trouble: Trouble) -> None:
    form = b'<!doctype html><title>G</title><form action="/ask"><select name="a"><option>x</option></select></form>'
    url = trouble.say("/ask", Answer(form, type="text/html"))
    ran = mudlark("sift", url, *["--choose", "a=x"] * 5)
    assert ran.status == 3
    assert len(trouble.asked) == 6
    other = mudlark("sift", url, "--choose", "a=x", "--choose", "b=y")
    assert (other.status, "does not ask for 'b'" in other.err) == (2, True)


@pytest.mark.program
def test_more_ways_than_are_walked_are_said_before_any_is(mudlark: Run, trouble: Trouble) -> None:
    options = "".join(f"<option>{n}</option>" for n in range(65))
    form = f'<!doctype html><form action="/link"><select name="a">{options}</select></form>'
    url = trouble.say("/ask", Answer(form.encode(), type="text/html"))
    ran = mudlark("sift", url, "--choose", "a=*")
    assert (ran.status, "more than 64 ways" in ran.err) == (2, True)
    assert trouble.asked == ["/ask"]

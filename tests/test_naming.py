"""Names of items, and addresses as they are sent and shown."""

from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from mudlark.archive.naming import folder_for, safe_name, title_for
from mudlark.errors import UsageError
from mudlark.web.address import as_sent, resolve


@pytest.mark.parametrize(
    ("title", "name"),
    [
        ("The Tide Mill: at Work", "The Tide Mill - at Work"),
        ("Mills/Tides | Museum", "Mills - Tides - Museum"),
        ('What "is" a tide?', "What is a tide"),
        ("CON", "CON_"),
        ("...hidden", "hidden"),
        ("Mérë  naïve", "Mérë naïve"),
    ],
)
def test_titles_become_names_that_every_file_system_takes(title: str, name: str) -> None:
    assert safe_name(title) == name


@given(st.text(max_size=400))
def test_any_title_gives_a_name_that_can_be_made(title: str) -> None:
    name = safe_name(title)
    assert len(name.encode()) <= 125
    assert not set(name) & set('/\\:*?"<>|\0') and not name.startswith(".") and name == name.strip(" .")


def test_without_a_title_the_name_comes_from_a_telling_part_of_the_address() -> None:
    assert title_for(None, "http://m.example/tide-mill/720p/master.m3u8?id=99") == "720p"
    assert title_for(None, "http://m.example/films/harbour_talk.mp4") == "harbour talk"
    assert title_for(None, "http://m.example/84736251/0a1b2c3d4e5f") == "From m.example"


def test_a_folder_of_another_target_is_left_alone(tmp_path: Path) -> None:
    (tmp_path / "The Mill").mkdir()
    assert folder_for(tmp_path, "The Mill", "http://m.example/")[0].name == "The Mill (2)"


def test_signed_addresses_are_sent_as_they_stand() -> None:
    address = "http://m.example/a%2Fb/c.m3u8?sig=x%2By%2F==&p=a+b"
    assert as_sent(address) == address


def test_only_what_is_illegal_in_an_address_is_encoded() -> None:
    assert as_sent("http://m.example/a b/é.mp4#part") == "http://m.example/a%20b/%C3%A9.mp4"
    assert as_sent("http://bücher.example/") == "http://xn--bcher-kva.example/"


@pytest.mark.parametrize(
    "address", ["ftp://m.example/a", "m.example/a", "http://", "http://[::1", "javascript:1", "\x1b[2J"]
)
def test_what_is_no_web_address_is_said(address: str) -> None:
    with pytest.raises(UsageError, match="not a web address"):
        as_sent(address)


@given(st.text(max_size=60))
def test_any_reference_is_resolved_or_left(reference: str) -> None:
    found = resolve("http://m.example/a/b", reference)
    assert found is None or found.startswith(("http://", "https://"))

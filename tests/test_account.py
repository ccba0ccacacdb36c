"""The account: what it takes to be sound, and that the page which says so is the table that the code uses."""

import pytest

from make_verification import PAGE, made
from mudlark.media.forms import FORMS
from mudlark.verify.account import BYTES, END, Account


def test_the_page_is_made_of_the_table() -> None:
    page = PAGE.read_text()
    assert made(page) == page, "run tools/make_verification.py"


def test_every_form_that_is_looked_into_says_what_proves_its_end() -> None:
    assert all(form.covers for form in FORMS.values() if form.end)
    assert all(form.end for form in FORMS.values() if form.covers and not form.covers.startswith("none of"))


def account_of(*, covered: int, size: int = 100, unknown: str = "", open_ended: bool = False) -> Account:
    account = Account()
    account.cover("structure", 10)
    account.cover("samples", covered - 10)
    if unknown:
        account.leave_out(unknown)
    if open_ended:
        account.leave_open("a chain")
    account.close(size)
    return account


def test_a_passed_check_alone_proves_nothing() -> None:
    account = Account()
    account.passed("samples", "all 10 samples lie inside the media data")
    assert account.verdict == "unproven"


@pytest.mark.parametrize(
    ("account", "verdict", "words"),
    [
        (account_of(covered=100), "sound", "each of its 100 bytes"),
        (account_of(covered=90), "unproven", "10 of 100 bytes are not accounted for"),
        (account_of(covered=110), "unproven", "are not accounted for"),
        (account_of(covered=90, unknown="10 packets"), "unproven", "10 packets"),
        (account_of(covered=100, open_ended=True), "unproven", "nothing states where it ends"),
    ],
)
def test_all_bytes_and_the_end_are_accounted_for_or_not(account: Account, verdict: str, words: str) -> None:
    assert account.verdict == verdict and words in " ".join([account.reason, *(one.detail for one in account.checks)])


def test_whoever_states_the_end_proves_it() -> None:
    for name in (END, "length"):
        for covered, verdict in ((100, "sound"), (90, "unproven")):
            account = account_of(covered=covered, open_ended=True)
            account.passed(name, "as it was announced")
            assert account.verdict == verdict


def test_one_file_of_several_that_is_not_covered_leaves_all_unproven() -> None:
    account = account_of(covered=100)
    account.cover("structure", 5)
    account.close(6)
    assert account.verdict == "unproven" and [check.name for check in account.checks] == [BYTES, BYTES]


def test_a_digest_proves_what_no_one_looks_into() -> None:
    account = Account()
    account.skipped("content", "not looked into")
    assert not account.proven
    account.passed("expected-digest", "the SHA-256 is the one that you expect")
    assert account.verdict == "sound"

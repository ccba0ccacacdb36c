"""RFC 9309: what a host asks programs not to read."""

import pytest

from mudlark.web.robots import Rules

TEXT = b"""\xef\xbb\xbf
User-agent: other
User-agent: mudlark  # by name
Disallow: /
Allow: /talks/
Disallow: /talks/*.zip$
Allow: /talks/free*.zip

User-agent: *
Disallow: /private
Allow: /private/open
Disallow: /*?draft=
Disallow: /caf%C3%A9
"""


@pytest.mark.parametrize(
    ("agent", "path", "allowed"),
    [
        ("Mudlark", "/", False),
        ("Mudlark", "/robots.txt", True),
        ("Mudlark", "/talks/1", True),
        ("Mudlark", "/talks/1.zip", False),
        ("Mudlark", "/talks/1.zip?x", True),
        ("Mudlark", "/talks/free1.zip", True),
        ("Gull", "/", True),
        ("Gull", "/private", False),
        ("Gull", "/privateer", False),
        ("Gull", "/private/open/1", True),
        ("Gull", "/a?draft=1", False),
        ("Gull", "/caf\u00e9/1", False),
        ("Gull", "/caf%c3%a9", False),
    ],
)
def test_the_longest_rule_that_fits_decides(agent: str, path: str, allowed: bool) -> None:
    assert Rules(TEXT, agent).allow(f"http://tidewrack.example{path}") is allowed


def test_many_rules_and_odd_bytes_are_read() -> None:
    rules = Rules(b"user-agent:*\n" + b"".join(b"disallow:/%d/\n" % n for n in range(40_000)), "Mudlark")
    assert not rules.allow("http://a.example/77/x") and rules.allow("http://a.example/nowhere")
    assert all(rules.allow(f"http://a.example/x/{n}") for n in range(20_000))
    for odd in (b"", b"\xff\xfe\x00", b":::\n\n: x", b"disallow: /\n", b"user-agent\nallow"):
        assert Rules(odd, "Mudlark").allow("http://a.example/x")


def test_a_group_for_a_crowd_costs_no_more_than_its_lines() -> None:
    crowd = b"".join(b"user-agent:a%d\n" % n for n in range(15_000))
    rules = b"".join(b"disallow:/%d/\n" % n for n in range(15_000))
    assert Rules(crowd + rules, "Mudlark").allow("http://a.example/77/x")
    assert not Rules(crowd + b"user-agent: mudlark\n" + rules, "Mudlark").allow("http://a.example/77/x")

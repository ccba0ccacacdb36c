"""Broadcasts by a simulated clock: what is new in a list, when to look again, what was missed. Nothing here waits."""

import asyncio
import random
from collections.abc import Callable, Sequence
from dataclasses import dataclass, field

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from msgspec.structs import replace

from mudlark.errors import ManifestError, NetworkError
from mudlark.manifest.dash.document import parse_document, read_moment
from mudlark.manifest.dash.patch import patched
from mudlark.manifest.dash.presentation import open_mpd
from mudlark.manifest.hls import parse
from mudlark.manifest.live.broadcast import Arrival, Broadcast, EarlierRun, State
from mudlark.manifest.live.follow import Follower, Stretches
from mudlark.manifest.live.lists import Listing, _completed
from mudlark.manifest.live.pace import Airtime, LookPace, as_moment, first_of, moment_of
from mudlark.manifest.model import Segment
from mudlark.manifest.radio import Splice, Titles, is_endless
from mudlark.manifest.radio import listed as listed_in
from mudlark.web.answer import Content
from mudlark.web.resource import Resource
from mudlark.web.resource import Span as Bytes

NOON = 1_900_000_000.0


def listed(first: int, count: int, name: str = "a", stretch: int = 0, duration: float = 4.0) -> list[Segment]:
    return [
        Segment(number, Resource(f"http://a.example/{name}-{number}.ts"), number * duration, duration, stretch)
        for number in range(first, first + count)
    ]


def moved(segment: Segment, begin: float) -> Segment:
    """The segment with its moment stated."""
    return replace(segment, moment=as_moment(begin + segment.begin))


def numbers(pairs: Sequence[tuple[Segment, Segment]]) -> list[int | None]:
    return [None if placed.gap else placed.sequence for placed, _ in pairs]


# What is new in a list (RFC 8216 §6.2.1, §6.3.4)


def test_each_segment_comes_once_in_its_place() -> None:
    follower = Follower(Stretches())
    first = follower.update(listed(10, 5), NOON, 4).pairs
    second = follower.update(listed(11, 6), NOON + 4).pairs
    assert numbers(first) == [14] and numbers(second) == [15, 16]
    assert [placed.begin for placed, _ in (*first, *second)] == [0.0, 4.0, 8.0] and follower.length == 12.0
    assert not follower.update(listed(11, 6), NOON + 8).pairs


def test_what_the_window_has_left_behind_is_a_hole_of_its_length() -> None:
    follower = Follower(Stretches())
    follower.update(listed(10, 5), NOON, 0)
    fresh = follower.update(listed(18, 3), NOON + 24)
    assert numbers(fresh.pairs) == [None, 18, 19, 20] and fresh.missed == 12.0
    assert fresh.pairs[1][0].begin == 32.0 and fresh.pairs[0][0].resource.url == ""


def test_an_older_copy_of_a_list_brings_nothing() -> None:
    follower = Follower(Stretches())
    follower.update(listed(10, 5), NOON, 0)
    assert not follower.update(listed(8, 5), NOON + 4).pairs
    assert numbers(follower.update(listed(11, 5), NOON + 8).pairs) == [15]


@pytest.mark.parametrize(("first", "name"), [(0, "b"), (12, "b"), (3_000_000, "a")])
def test_numbers_that_begin_anew_are_a_new_stretch(first: int, name: str) -> None:
    follower = Follower(Stretches())
    follower.update(listed(10, 5), NOON, 0)
    fresh = follower.update(listed(first, 3, name), NOON + 8)
    assert fresh.restarted and [placed.sequence for placed, _ in fresh.pairs if not placed.gap] == [
        first,
        first + 1,
        first + 2,
    ]
    assert {placed.stretch for placed, _ in fresh.pairs} == {1}


def test_a_list_that_grows_anew_under_the_same_names_is_a_new_beginning() -> None:
    durations = Follower(Stretches())
    durations.update(listed(0, 5), NOON, 0)
    assert durations.update(listed(0, 2, duration=3.5), NOON + 30).restarted  # other segments, by what is said of them
    later = Follower(Stretches())
    later.update(listed(0, 5), NOON, 0, NOON)
    assert not later.update(listed(0, 3), NOON + 30, modified=NOON - 10).pairs  # an older copy
    fresh = later.update(listed(0, 2), NOON + 30, modified=NOON + 29)
    assert fresh.restarted and [placed.sequence for placed, _ in fresh.pairs if not placed.gap] == [0, 1]
    grown = Follower(Stretches())
    for number in range(50):
        grown.update(listed(number, 5), NOON + 4 * number, 0)
    looks = [grown.update(listed(0, count), NOON + 300 + 4 * count) for count in (1, 2, 3)]
    assert [look.restarted for look in looks] == [False, False, True]
    assert [placed.sequence for placed, _ in looks[2].pairs if not placed.gap] == [0, 1, 2]


def test_how_long_a_source_was_away_before_it_began_anew_is_a_hole() -> None:
    follower = Follower(Stretches())
    follower.update(listed(10, 5), NOON, 0)
    fresh = follower.update(listed(0, 2, "b"), NOON + 100)
    assert fresh.restarted and fresh.missed == 88.0
    follower = Follower(Stretches())
    follower.update([moved(one, NOON) for one in listed(0, 2)], NOON + 8, 0)
    assert follower.update([moved(one, NOON + 30) for one in listed(0, 2, "b")], NOON + 40).missed == 22.0


def test_renditions_share_the_numbers_of_their_stretches() -> None:
    stretches = Stretches()
    one, other = Follower(stretches), Follower(stretches)
    one.update(listed(0, 2), NOON, 0)
    later = one.update(listed(1, 2, stretch=7)[:0] + listed(2, 1, stretch=7), NOON + 4).pairs
    assert later[0][0].stretch == 1
    assert other.update(listed(0, 2, "s", stretch=7), NOON, 0).pairs[0][0].stretch == 1


def test_in_dash_a_segment_is_known_by_its_time() -> None:
    follower = Follower(Stretches(), by_time=True)
    follower.update(listed(5, 2), NOON, 0)
    again = [Segment(number, one.resource, one.begin, 4.0) for number, one in enumerate(listed(6, 2))]
    assert [placed.begin for placed, _ in follower.update(again, NOON).pairs] == [8.0]
    fresh = follower.update(listed(10, 1), NOON)
    assert numbers(fresh.pairs) == [None, 10] and fresh.missed == 8.0


def test_a_day_of_segments_takes_no_more_room_than_an_hour() -> None:
    follower = Follower(Stretches())
    for number in range(43_200):
        follower.update(listed(number, 3, duration=2.0), NOON + 2 * number, 0)
    assert follower.length == pytest.approx(43_202 * 2.0) and len(follower._known) <= 5_000


# When to look again, and where to begin


def test_a_list_is_asked_for_after_a_target_and_sooner_where_it_has_not_changed() -> None:
    pace = LookPace()
    assert pace.after(6.0, 6.0, changed=True, took=0.5) == 5.5
    assert [pace.after(6.0, 6.0, changed=False, took=0.0) for _ in range(2)] == [3.0, 3.0]
    assert pace.after(6.0, 2.0, changed=True, took=0.0) == 2.0
    for target in (0.0, 31_536_000.0, None):
        assert 0.5 <= pace.after(target, 4.0, changed=True, took=9.0) <= 30.0
    assert max(pace.after(6.0, 6.0, changed=False, took=0.0) for _ in range(100)) == 30.0
    waits = [pace.after_failure() for _ in range(20)]
    assert waits == sorted(waits) and waits[-1] == 30.0


def test_a_recording_begins_now_at_the_earliest_or_at_a_time() -> None:
    window = listed(0, 10)
    assert (first_of(window, "earliest", NOON), first_of(window, "now", NOON)) == (0, 9)
    assert first_of(window, NOON - 10, NOON) == 7 and first_of(window, NOON - 1_000, NOON) == 0
    stated = [
        Segment(one.sequence, one.resource, one.begin, 4.0, moment=as_moment(NOON + 4 * one.sequence)) for one in window
    ]
    assert first_of(stated, NOON + 21, NOON + 60) == 5
    assert moment_of(stated[3]) == NOON + 12 and moment_of(window[0]) is None
    assert read_moment("2031-05-17T12:00:00.5+02:00") == read_moment("2031-05-17T10:00:00.5Z")


# A whole broadcast


@dataclass
class Time:
    """A clock that is set forward instead of waiting."""

    at: float = NOON

    def now(self) -> float:
        return self.at

    async def sleep(self, seconds: float) -> None:
        self.at += seconds
        await asyncio.sleep(0)


@dataclass
class Scripted:
    """What a server lists at a time."""

    clock: Time
    script: Callable[[float], Listing]
    names: tuple[str, ...] = ("v1",)
    by_time: bool = False
    looks: list[float] = field(default_factory=list)

    async def look(self) -> dict[str, Listing]:
        self.looks.append(self.clock.now())
        return dict.fromkeys(self.names, self.script(self.clock.now() - NOON))


def running(since: float, *, ended: bool = False, window: int = 5) -> Listing:
    last = int(since // 4) + 10
    return Listing(listed(last - window + 1, window), ended, 4.0)


def recorded(
    script: Callable[[float], Listing], span: Airtime, earlier: dict[str, EarlierRun] | None = None
) -> tuple[list[Arrival], State, Time]:
    clock = Time()

    async def work() -> tuple[list[Arrival], State]:
        broadcast = Broadcast([Scripted(clock, script)], span, clock, earlier=earlier)
        return [arrival async for arrival in broadcast.arrivals()], broadcast.state

    return *asyncio.run(work()), clock


def sequences(arrivals: list[Arrival]) -> list[int | None]:
    return [None if one.segment.gap else one.segment.sequence for one in arrivals]


def test_a_recording_is_as_long_as_was_wanted() -> None:
    arrivals, state, _ = recorded(running, Airtime(length=18.0))
    assert sequences(arrivals) == [10, 11, 12, 13, 14] and "as long as was wanted" in state.why
    assert [one.number for one in arrivals] == [0, 1, 2, 3, 4]
    arrivals, _, clock = recorded(running, Airtime("earliest", until=NOON + 13))
    assert sequences(arrivals)[0] == 6 and clock.now() - NOON <= 14


def test_a_time_to_come_is_waited_for() -> None:
    arrivals, _, clock = recorded(running, Airtime(NOON + 100, length=4.0))
    assert sequences(arrivals) == [35] and clock.now() >= NOON + 100


def test_a_broadcast_that_ends_is_finished() -> None:
    arrivals, state, _ = recorded(lambda since: running(min(since, 20), ended=since >= 20), Airtime())
    assert sequences(arrivals) == list(range(10, 16)) and state.why == "the broadcast has ended"


def test_a_list_that_never_changes_is_taken_for_ended() -> None:
    arrivals, state, clock = recorded(lambda _: running(0), Airtime("earliest"))
    assert len(arrivals) == 5 and "has not changed for" in state.why and clock.now() - NOON < 200


def test_a_list_that_is_out_of_reach_is_asked_on_and_what_was_missed_is_a_hole() -> None:
    def script(since: float) -> Listing:
        if 8 <= since < 60:
            raise NetworkError("gone for a while")
        return running(since)

    arrivals, state, _ = recorded(script, Airtime(length=80.0))
    assert None in sequences(arrivals) and state.gaps == 1 and state.missed > 20
    begins = [one.segment.begin + one.segment.duration for one in arrivals]
    assert begins == sorted(begins) and arrivals[-1].segment.sequence - arrivals[0].segment.sequence == 19


def test_a_list_that_stays_away_ends_the_recording_and_one_that_never_came_is_an_error() -> None:
    def script(since: float) -> Listing:
        if since > 10:
            raise NetworkError("gone for good")
        return running(since)

    arrivals, state, _ = recorded(script, Airtime())
    assert arrivals and "out of reach" in state.why

    def never(_since: float) -> Listing:
        raise ManifestError("no list")

    with pytest.raises(ManifestError, match="no list"):
        recorded(never, Airtime())


def test_a_run_that_was_killed_goes_on_where_it_was() -> None:
    earlier = {"v1": EarlierRun(last=listed(8, 1)[0], stretch=0, count=3, length=12.0)}
    arrivals, _, _ = recorded(running, Airtime(length=24.0), earlier)
    assert sequences(arrivals) == [9, 10, 11] and [one.number for one in arrivals] == [3, 4, 5]
    assert arrivals[0].segment.begin == 12.0
    gone = {"v1": EarlierRun(last=listed(1, 1)[0], stretch=0, count=1, length=4.0)}
    assert sequences(recorded(running, Airtime(length=40.0), gone)[0])[0] is None


@pytest.mark.parametrize("ends", [True, False])
def test_parts_of_a_segment_that_never_became_whole_are_taken_at_the_end_and_none_twice(ends: bool) -> None:
    def script(since: float) -> Listing:
        since = min(since, 9.0)
        whole = running(since, ended=ends and since >= 9.0)
        following = whole.segments[-1].sequence + 1
        count = int(since % 4)
        parts = [
            Segment(following + n, Resource(f"http://a.example/{following}.{n}.mp4"), 0.0, 1.0) for n in range(count)
        ]
        return Listing([*whole.segments, *parts] if whole.ended else whole.segments, whole.ended, 4.0, parts=parts)

    arrivals, state, _ = recorded(script, Airtime())
    names = [one.segment.resource.url.rpartition("/")[2] for one in arrivals]
    assert names == ["a-10.ts", "a-11.ts", "a-12.ts", "13.0.mp4"], state.why
    assert [one.segment.begin for one in arrivals] == [0.0, 4.0, 8.0, 12.0]


def test_a_dash_encoder_that_begins_anew_is_a_new_stretch() -> None:
    follower = Follower(Stretches(), by_time=True)
    follower.update(listed(0, 20), NOON, 0, origin=NOON - 80)
    again = follower.update(listed(0, 2, "b"), NOON + 20, origin=NOON + 12)
    assert again.restarted and numbers(again.pairs)[-2:] == [0, 1] and again.pairs[-1][0].stretch == 1
    assert not follower.update(listed(0, 3, "b"), NOON + 24, origin=NOON + 12).restarted


def test_it_ends_when_it_is_told_to() -> None:
    clock = Time()

    async def work() -> int:
        broadcast = Broadcast([Scripted(clock, running)], Airtime(), clock)
        count = 0
        async for _ in broadcast.arrivals():
            count += 1
            if count == 3:
                broadcast.stop.set()
        assert broadcast.state.why == "it was ended here"
        return count

    assert asyncio.run(work()) <= 5


# DASH by the clock (ISO/IEC 23009-1 §5.3.9.5.3, Annex A.3)


def _mpd(inside: str, attributes: str = 'timeShiftBufferDepth="PT20S"') -> bytes:
    begun = f'type="dynamic" availabilityStartTime="{as_moment(NOON)}" {attributes}'
    return f"""<MPD xmlns="urn:mpeg:dash:schema:mpd:2011" {begun}>
<Period id="1" start="PT0S"><AdaptationSet mimeType="video/mp4">{inside}<Representation id="v" bandwidth="1"/>
</AdaptationSet></Period></MPD>""".encode()


NUMBERED = '<SegmentTemplate duration="4" startNumber="7" media="$Number$.m4s"/>'


def at(seconds: float, body: bytes) -> list[Segment]:
    presentation = open_mpd(
        parse_document(body, "http://a.example/x.mpd"), "http://a.example/x.mpd", (), NOON + seconds
    )
    return list(presentation.renditions[0].segments or ())


def test_segments_by_number_are_there_when_they_are_whole_and_until_the_window_has_gone_by() -> None:
    assert [one.sequence for one in at(3.9, _mpd(NUMBERED))] == []
    assert [one.sequence for one in at(8.1, _mpd(NUMBERED))] == [7, 8]
    assert [one.sequence for one in at(42, _mpd(NUMBERED))] == [12, 13, 14, 15, 16]
    assert len(at(42, _mpd(NUMBERED, ""))) == 10
    assert at(42, _mpd(NUMBERED))[0].begin == 20.0


def test_a_timeline_is_repeated_up_to_now() -> None:
    timeline = '<SegmentTimeline><S t="0" d="4" r="-1"/></SegmentTimeline>'
    template = f'<SegmentTemplate media="$Time$.m4s">{timeline}</SegmentTemplate>'
    assert [one.resource.url.rpartition("/")[2] for one in at(9, _mpd(template))][:2] == ["0.m4s", "4.m4s"]


def test_what_is_over_by_its_own_clock_is_finished() -> None:
    body = _mpd(NUMBERED, 'mediaPresentationDuration="PT20S"')
    for seconds, live in ((10.0, True), (30.0, False)):
        known = open_mpd(parse_document(body, "http://a.example/x"), "http://a.example/x", (), NOON + seconds)
        assert (known.live is not None) is live
    assert len(at(30, body)) == 5


def test_a_period_that_has_not_begun_is_not_asked_for() -> None:
    body = _mpd(NUMBERED).replace(b"</Period>", b'</Period><Period id="2" start="PT1000S"/>')
    assert [one.sequence for one in at(8.1, body)] == [7, 8]
    assert len(at(2_000, body)) == 0


def test_a_server_that_waits_for_the_next_segment_says_so() -> None:
    text = "#EXTM3U\n#EXT-X-SERVER-CONTROL:CAN-BLOCK-RELOAD=YES,PART-HOLD-BACK=1.0\n#EXT-X-MEDIA-SEQUENCE:5\n"
    playlist = parse(f"{text}#EXT-X-SKIP:SKIPPED-SEGMENTS=3\n#EXTINF:4,\na.ts\n".encode(), "http://a.example/l.m3u8")
    assert playlist.can_block and playlist.segments[0].sequence == 8
    before = parse(text.encode() + b"".join(b"#EXTINF:4,\n%d.ts\n" % n for n in range(5)), "http://a.example/l.m3u8")
    whole = _completed(playlist, before)
    assert [one.sequence for one in whole.segments] == [5, 6, 7, 8]
    with pytest.raises(ManifestError, match="has not told of before"):
        _completed(playlist, None)


def test_a_manifest_changes_as_its_patch_says() -> None:
    timeline = '<SegmentTimeline><S t="0" d="4" r="1"/></SegmentTimeline>'
    text = _mpd(f'<SegmentTemplate media="$Time$.m4s">{timeline}</SegmentTemplate>', 'publishTime="1"').decode()
    root = parse_document(text.replace("<AdaptationSet ", '<AdaptationSet id="7" ').encode(), "http://a.example/x.mpd")
    patch = b"""<p:Patch xmlns:p="urn:mpeg:dash:schema:mpd-patch:2020" xmlns="urn:mpeg:dash:schema:mpd:2011"
originalPublishTime="1"><p:replace sel="/MPD/@publishTime">2</p:replace>
<p:remove sel="/MPD/Period[@id='1']/AdaptationSet[@id='7']/SegmentTemplate/SegmentTimeline/S[1]"/>
<p:add sel="/MPD/Period[1]/AdaptationSet/SegmentTemplate/SegmentTimeline"><S t="8" d="4"/></p:add>
<p:add sel="/MPD" type="@minimumUpdatePeriod">PT2S</p:add></p:Patch>"""
    changed = patched(root, patch, "http://a.example/p")
    assert (changed.get("publishTime"), changed.get("minimumUpdatePeriod"), root.get("publishTime")) == (
        "2",
        "PT2S",
        "1",
    )
    made = open_mpd(changed, "http://a.example/x.mpd", (), NOON + 60)
    assert [one.resource.url for one in made.renditions[0].segments or ()] == ["http://a.example/8.m4s"]
    with pytest.raises(ManifestError, match="another version"):
        patched(changed, patch, "http://a.example/p")
    with pytest.raises(ManifestError, match="not one element"):
        patched(root, patch.replace(b"SegmentTimeline/S[1]", b"Nothing"), "http://a.example/p")


# Radio


@given(st.lists(st.integers(1, 40), max_size=30), st.lists(st.sampled_from(["", "One", "Fog & Sea", "Ä"]), max_size=8))
def test_titles_come_out_of_a_body_however_it_is_cut(cuts: list[int], names: list[str]) -> None:
    sound = bytes(range(256)) * 2
    body, expected = b"", []
    for number, name in enumerate(names):
        text = f"StreamTitle='{name}';StreamUrl='';".encode() if name else b""
        block = bytes([-(-len(text) // 16)]) + text.ljust(-(-len(text) // 16) * 16, b"\0")
        body += sound[number * 10 : number * 10 + 10] + block
        expected += [name] if name else []
    titles, at = Titles(10), 0
    parts: list[bytes | str] = []
    for cut in [*cuts, len(body)]:
        parts += titles.split(body[at : at + cut])
        at += cut
    assert [part for part in parts if isinstance(part, str)] == expected
    assert b"".join(part for part in parts if isinstance(part, bytes)) == sound[: 10 * len(names)]


@given(st.binary(min_size=1, max_size=60), st.integers(0, 60), st.lists(st.integers(1, 20), max_size=30))
def test_a_body_that_is_asked_for_again_goes_on_where_it_was(new: bytes, burst: int, cuts: list[int]) -> None:
    sound = bytes(range(200))
    body, splice, at = sound[200 - max(burst, 8) :] + new, Splice(sound[-8:]), 0
    got: list[bytes | str] = []
    for cut in [*cuts, len(body)]:
        got += splice.take(body[at : at + cut], 1000.0)
        at += cut
    assert splice.joined and b"".join(part for part in got if isinstance(part, bytes)) == new


def test_silence_is_no_place_to_go_on_at() -> None:
    chance = np.random.default_rng(7)
    first, second, third = (chance.bytes(20_000) for _ in range(3))
    silence = bytes(6_000)
    elsewhere = Splice(first + silence)  # the second sound was never heard, and its silence is another
    assert elsewhere.take(second + silence + third, 0.0) == [] and elsewhere.joined is None
    assert elsewhere.take(b"", 9.0) == [second + silence + third, b""] and elsewhere.joined is False
    here = Splice(first + silence)
    assert here.take(first[15_000:] + silence + third, 0.0) == [third] and here.joined
    lost = Splice(first + silence)  # nothing but silence is the same
    assert lost.take(silence + third, 0.0) == [] and lost.joined is None
    tune = first[:9_000]  # which is played again and again, a thousand bytes a second
    for away, joins in ((8.0, True), (8.6, False), (7.4, True)):  # seconds; the last was sent later than it should
        again = Splice(second + tune, 100.0, 1_000.0)
        assert again.take(tune[3_000:] + third[:5_000], 100.0 + away - 3.0) == [] and again.joined is None
        later = again.take(third[5_000:8_000], 100.0 + away + 0.1)
        assert (b"".join(later) == third[:8_000], again.joined) == (joins, joins)
    wavering = Splice(second + tune, 100.0, 1_000.0, wavers=True)  # a tenth of the time more, or less
    assert wavering.take(tune[3_000:] + third[:8_000], 108.6) == [] and wavering.joined is None
    assert b"".join(wavering.take(b"", 112.0)) == third[:8_000] and wavering.joined
    for played, new in ((tune, third), (2 * tune, 2 * tune + third)):  # the second does not tell which of them it was
        again = Splice(second + tune, 100.0, 1_000.0)
        assert again.take(played + third, 100.0) == [] and again.joined is None
        assert again.take("A title", 103.1) == [new, "A title"] and again.joined is (new is third)
    behind_an_opening = Splice(first + silence)
    assert behind_an_opening.take(second + first[9_000:] + silence + third, 0.0) == [third]


def test_a_body_that_goes_on_elsewhere_is_kept_whole() -> None:
    splice, got = Splice(b"12345678"), []
    for second in range(6):
        got += splice.take(b"abcdefgh", second)
        got += splice.take("A title", second)
    assert splice.joined is False and splice.since == 0
    assert got == [b"abcdefgh", "A title"] * 6
    assert Splice(b"").take(b"all", 0.0) == [b"all"]


def _content(body: bytes, kind: str, url: str = "http://a.example/x", length: int | None = None) -> Content:
    return Content(url, 200, kind, None, length, body, complete=length is not None)


def test_plain_lists_lead_to_what_they_list() -> None:
    for body, kind in (
        (b"[playlist]\nNumberOfEntries=1\nFile1=http://b.example/stream\nTitle1=Fog\n", "audio/x-scpls"),
        (b"\xef\xbb\xbf#EXTM3U\r\n#EXTINF:-1,Fog\r\nhttp://b.example/stream\r\n", "audio/x-mpegurl"),
        (b"http://b.example/stream\n", "audio/mpegurl"),
        (b"http://b.example/stream\r\n--stop--\r\n", "audio/x-pn-realaudio"),
        (b'<ASX Version="3"><Entry><Ref HREF = "http://b.example/stream"></Entry></ASX>', "video/x-ms-asf"),
    ):
        assert listed_in(_content(body, kind, length=len(body))) == ["http://b.example/stream"]
    beside = b"[playlist]\nFile1=stream\n", b"#EXTM3U\nstream\n", b"<asx><entry><ref href=stream></entry></asx>"
    for body in beside:
        assert listed_in(_content(body, "audio/x-scpls", length=len(body))) == ["http://a.example/stream"]
    playlist = b"#EXTM3U\n#EXT-X-TARGETDURATION:4\n#EXTINF:4,\nhttp://b.example/a.ts\n"
    finished = b"#EXTM3U\n#EXTINF:4,\nhttp://b.example/a.ts\n"
    for body in (
        playlist,
        finished,
        b"#EXTM3U\nfile:///etc/passwd\n",
        b"<html><p>Gone</p>",
        b"rtsp://b.example/a",
        b"Gone",
    ):
        assert listed_in(_content(body, "audio/x-mpegurl", length=len(body))) == []


def test_sound_of_which_nobody_says_how_much_there_is_has_no_end() -> None:
    assert is_endless(_content(b"ID3", "audio/mpeg")) and not is_endless(_content(b"ID3", "audio/mpeg", length=3))
    assert not is_endless(_content(b"<html>", "text/html"))


@pytest.mark.soak
@pytest.mark.parametrize("seed", range(5))
def test_a_day_of_all_faults_is_recorded_with_nothing_twice_and_every_second_accounted_for(seed: int) -> None:
    """A server that fails, lags, sends old copies, forgets, begins anew, states no moments, moments of a thousand years
    away, and lists of nothing: over a day, every segment comes once, in order, and what was missed is said."""
    chance = random.Random(seed)
    day, restart_at = 86_400.0, sorted(chance.uniform(0, 86_400.0) for _ in range(6))
    begins = [slot * 288.0 + chance.uniform(0, 240.0) for slot in range(300)]
    trouble = [(begin, begin + min(40.0, chance.expovariate(1 / 20))) for begin in begins]
    kinds = [chance.choice(("down", "old", "empty", "odd")) for _ in trouble]

    def script(since: float) -> Listing:
        epoch = sum(at <= since for at in restart_at)
        begun = restart_at[epoch - 1] if epoch else 0.0
        for (begin, end), kind in zip(trouble, kinds, strict=True):
            if begin <= since < end:
                if kind == "down":
                    raise NetworkError("a moment of rest")
                if kind == "empty":
                    return Listing([], False, 4.0)
                if kind == "old":
                    since = max(begun, begin - 8)
        last = int((since - begun) // 4)
        segments = [
            replace(one, moment=as_moment(NOON + begun + one.begin)) if epoch % 2 else one
            for one in listed(max(0, last - 4), min(5, last + 1), name=f"e{epoch}")
        ]
        if "odd" in (kind for (begin, end), kind in zip(trouble, kinds, strict=True) if begin <= since < end):
            segments = [replace(one, moment="3031-05-17T10:00:00Z") for one in segments]
        return Listing(segments, False, 4.0)

    arrivals, state, clock = recorded(script, Airtime(until=NOON + day))
    assert clock.now() - NOON == pytest.approx(day, abs=120) and "last until now" in state.why
    names = [one.segment.resource.url for one in arrivals if not one.segment.gap]
    assert len(names) == len(set(names)) and [one.number for one in arrivals] == list(range(len(arrivals)))
    at = 0.0
    for one in arrivals:
        assert one.segment.begin == pytest.approx(at, abs=1e-3) and one.segment.duration <= 43_200
        at += one.segment.duration
    assert at == pytest.approx(day, rel=0.02), "what came and what was missed are not a day together"
    assert state.restarts == len(restart_at)
    print(f"{len(names):,} segments, {state.gaps} gaps of {state.missed:.0f} s, {state.looks:,} looks")


def test_a_list_that_leaves_out_counts_its_discontinuities_once() -> None:
    head = b"#EXTM3U\n#EXT-X-TARGETDURATION:4\n#EXT-X-MEDIA-SEQUENCE:10\n#EXT-X-DISCONTINUITY-SEQUENCE:3\n"
    whole = head + b"#EXTINF:4,\n10.ts\n#EXT-X-DISCONTINUITY\n#EXTINF:4,\n11.ts\n#EXTINF:4,\n12.ts\n"
    short = head + b"#EXT-X-SKIP:SKIPPED-SEGMENTS=3\n#EXT-X-DISCONTINUITY\n#EXTINF:4,\n13.ts\n#EXTINF:4,\n14.ts\n"
    joined = _completed(parse(short, "http://a.example/l.m3u8"), parse(whole, "http://a.example/l.m3u8"))
    assert [(one.sequence, one.stretch) for one in joined.segments] == [(10, 3), (11, 4), (12, 4), (13, 5), (14, 5)]


LOW_LATENCY = """#EXTM3U
#EXT-X-TARGETDURATION:4
#EXT-X-PART-INF:PART-TARGET=1.0
#EXT-X-SERVER-CONTROL:CAN-BLOCK-RELOAD=YES,PART-HOLD-BACK=3.0
#EXT-X-MEDIA-SEQUENCE:7
#EXT-X-MAP:URI="init.mp4"
#EXT-X-PART:DURATION=2.0,URI="7.0.m4s",INDEPENDENT=YES
#EXT-X-PART:DURATION=2.0,URI="7.1.m4s"
#EXTINF:4.0,
7.m4s
#EXT-X-DISCONTINUITY
#EXT-X-PROGRAM-DATE-TIME:2031-05-17T10:00:00Z
#EXT-X-PART:DURATION=1.0,URI="8.m4s",BYTERANGE="500@0"
#EXT-X-PART:DURATION=0.5,URI="8.m4s",BYTERANGE="300"
#EXT-X-PRELOAD-HINT:TYPE=PART,URI="8.m4s",BYTERANGE-START=800
#EXT-X-RENDITION-REPORT:URI="../low.m3u8",LAST-MSN=8,LAST-PART=1
"""


def test_parts_of_whole_segments_are_passed_over_and_those_of_the_next_are_known() -> None:
    """draft-pantos-hls-rfc8216bis §4.4.4.9."""
    running = parse(LOW_LATENCY.encode(), "http://a.example/l.m3u8")
    assert [one.resource.url.rpartition("/")[2] for one in running.segments] == ["7.m4s"]
    first, second = running.parts
    assert (first.resource.span, second.resource.span) == (Bytes(0, 500), Bytes(500, 300))
    assert (first.begin, second.begin, first.stretch, first.moment) == (4.0, 5.0, 1, "2031-05-17T10:00:00Z")
    over = parse(f"{LOW_LATENCY}#EXT-X-ENDLIST".encode(), "http://a.example/l.m3u8")
    assert [one.sequence for one in over.segments] == [7, 8, 9] and not over.parts
    sealed = LOW_LATENCY.replace("#EXT-X-MAP", '#EXT-X-KEY:METHOD=AES-128,URI="k"\n#EXT-X-MAP')
    assert not parse(sealed.encode(), "http://a.example/l.m3u8").parts

"""DASH manifests: addresses, timelines, Periods, choices; a rule of ISO/IEC 23009-1 a test."""

import gzip
from itertools import islice

import pytest
from hypothesis import given
from hypothesis import strategies as st

from mudlark.errors import ManifestError, MudlarkError, NothingFound
from mudlark.manifest.choose import choose
from mudlark.manifest.dash.document import parse_document
from mudlark.manifest.dash.presentation import open_mpd
from mudlark.manifest.model import IndexedFile, Presentation, Rendition, Segment
from mudlark.manifest.wish import Wish
from mudlark.media.sniff import sniff

BASE = "http://media.example/films/mill.mpd?key=1"
SPACE = "urn:mpeg:dash:schema:mpd:2011"


def opened(text: str | bytes) -> Presentation:
    body = text.encode() if isinstance(text, str) else text
    return open_mpd(parse_document(body, BASE), BASE, ())


def mpd(*periods: str, attributes: str = 'mediaPresentationDuration="PT20S"', more: str = "") -> str:
    return f'<MPD xmlns="{SPACE}" type="static" {attributes}>{more}{"".join(periods)}</MPD>'


def picture(inside: str, identifier: str = "v", attributes: str = "", set_attributes: str = "") -> str:
    return (
        f'<AdaptationSet mimeType="video/mp4" codecs="avc1.64001f"{set_attributes}>'
        f'<Representation id="{identifier}" bandwidth="1000"{attributes}>{inside}</Representation></AdaptationSet>'
    )


def sound(language: str, inside: str = "", identifier: str = "a", bandwidth: int = 64) -> str:
    return (
        f'<AdaptationSet contentType="audio" lang="{language}" mimeType="audio/mp4" codecs="mp4a.40.2">{inside}'
        f'<SegmentTemplate duration="4" media="{identifier}-$Number$.m4s"/>'
        f'<Representation id="{identifier}" bandwidth="{bandwidth}"/></AdaptationSet>'
    )


def period(*sets: str, attributes: str = "", more: str = "") -> str:
    return f"<Period{attributes}>{more}{''.join(sets)}</Period>"


NUMBERED = '<SegmentTemplate duration="4" media="$Number$.m4s"/>'


def segments(text: str) -> list[Segment]:
    listed = opened(text).renditions[0].segments
    assert listed is not None
    return list(listed)


def urls(text: str) -> list[str]:
    return [segment.resource.url.removeprefix("http://media.example/films/") for segment in segments(text)]


def named(presentation: Presentation) -> dict[str, Rendition]:
    return {rendition.name: rendition for rendition in presentation.renditions}


# 5.3.9.4.4: identifiers of templates


def test_identifiers_are_put_into_the_address() -> None:
    template = (
        '<SegmentTemplate timescale="2" duration="8" startNumber="7" initialization="v/i-$Bandwidth$.mp4"'
        ' media="$RepresentationID$/$Bandwidth%06d$-$Number%03d$-$$.m4s"/>'
    )
    assert urls(mpd(period(picture(template))))[:2] == ["v/001000-007-$.m4s", "v/001000-008-$.m4s"]
    init = segments(mpd(period(picture(template))))[0].init
    assert init and init.resource.url == "http://media.example/films/v/i-1000.mp4"


@pytest.mark.parametrize("media", ["$Name$.m4s", "a$Number.m4s", "file:///etc/passwd", "seg.m4s"])
def test_templates_that_cannot_be_are_said_with_their_line(media: str) -> None:
    with pytest.raises(ManifestError, match="line 1: <SegmentTemplate>"):
        opened(mpd(period(picture(f'<SegmentTemplate duration="4" media="{media}"/>'))))


def test_segments_of_one_duration_fill_the_period() -> None:
    listed = segments(mpd(period(picture(NUMBERED), attributes=' duration="PT10S"')))
    assert [(one.sequence, one.begin, one.duration) for one in listed] == [(1, 0.0, 4.0), (2, 4.0, 4.0), (3, 8.0, 2.0)]
    assert not any(one.rest for one in listed)
    rest = segments(mpd(period(picture(NUMBERED), attributes=' duration="PT8.03S"')))
    assert [one.rest for one in rest] == [False, False, True]  # two roundings, most likely
    last = '<SegmentTemplate duration="4" startNumber="0" endNumber="9" media="$Number$.m4s"/>'
    assert len(segments(mpd(period(picture(last)), attributes=""))) == 10


def test_a_template_of_ten_million_takes_no_memory() -> None:
    template = '<SegmentTemplate timescale="1000" duration="100" media="$Number$.m4s"/>'
    listed = opened(mpd(period(picture(template), attributes=' duration="P11DT13H46M40S"'))).renditions[0].segments
    assert listed is not None and len(listed) == 10_000_000
    assert listed[9_999_999].resource.url.endswith("/10000000.m4s")
    assert [one.sequence for one in islice(listed, 3)] == [1, 2, 3]


def test_more_segments_than_any_presentation_has_are_refused() -> None:
    timeline = '<SegmentTimeline><S d="1" r="1099511627776"/></SegmentTimeline>'
    template = f'<SegmentTemplate media="$Time$.m4s">{timeline}</SegmentTemplate>'
    with pytest.raises(ManifestError, match="more than any presentation has"):
        opened(mpd(period(picture(template)), attributes=""))


# 5.3.9.6: timelines


def test_a_timeline_repeats_and_leaves_gaps() -> None:
    timeline = '<S t="100" d="20" r="1"/><S d="10"/><S t="160" d="20" r="-1"/><S t="200" d="20"/>'
    template = (
        '<SegmentTemplate timescale="10" presentationTimeOffset="100" startNumber="5" media="$Number$-$Time$.m4s">'
        f"<SegmentTimeline>{timeline}</SegmentTimeline></SegmentTemplate>"
    )
    text = mpd(period(picture(template)))
    assert urls(text) == ["5-100.m4s", "6-120.m4s", "7-140.m4s", "8-160.m4s", "9-180.m4s", "10-200.m4s"]
    assert [one.begin for one in segments(text)] == [0.0, 2.0, 4.0, 6.0, 8.0, 10.0]
    assert {one.offset for one in segments(text)} == {-10.0}


def test_a_timeline_is_repeated_to_the_end_of_the_period() -> None:
    template = (
        '<SegmentTemplate timescale="90000" media="$Time$.m4s" presentationTimeOffset="8589934592">'
        '<SegmentTimeline><S t="8589934592" d="360000" r="-1"/></SegmentTimeline></SegmentTemplate>'
    )
    assert urls(mpd(period(picture(template))))[-1] == f"{8589934592 + 4 * 360000}.m4s"
    with pytest.raises(ManifestError, match="until an end"):
        opened(mpd(period(picture(template)), attributes=""))


def test_numbers_and_sequences_of_a_timeline() -> None:
    template = (
        '<SegmentTemplate media="$Number$-$SubNumber$.m4s"><SegmentTimeline>'
        '<S n="9" t="0" d="4" k="2"/><S d="4"/></SegmentTimeline></SegmentTemplate>'
    )
    text = mpd(period(picture(template)))
    assert urls(text) == ["9-1.m4s", "9-2.m4s", "10-1.m4s"]
    assert [(one.begin, one.duration) for one in segments(text)] == [(0, 2), (2, 2), (4, 4)]


@pytest.mark.parametrize("entry", ["<S/>", '<S d="0"/>', '<S d="4" r="x"/>', '<S t="-1" d="4"/>', ""])
def test_entries_that_cannot_be_are_said(entry: str) -> None:
    template = f'<SegmentTemplate media="$Time$.m4s"><SegmentTimeline>{entry}</SegmentTimeline></SegmentTemplate>'
    with pytest.raises(ManifestError, match="line 1: <S"):
        opened(mpd(period(picture(template))))


# 5.3.9.3 and 5.3.9.2: lists and indexes


def test_a_list_with_ranges() -> None:
    listed = (
        '<SegmentList timescale="10" duration="40"><Initialization sourceURL="i.mp4" range="0-99"/>'
        '<SegmentURL media="a.mp4" mediaRange="100-199"/><SegmentURL mediaRange="200-299"/></SegmentList>'
    )
    first, second = segments(mpd(period(picture(f"<BaseURL>b.mp4</BaseURL>{listed}"))))
    assert first.resource.span and (first.resource.span.start, first.resource.span.length) == (100, 100)
    assert second.resource.url.endswith("/films/b.mp4") and (second.begin, second.duration) == (4.0, 4.0)
    assert first.init and first.init.resource.span and first.init.resource.span.length == 100


def test_what_one_file_holds_is_found_by_its_index_later() -> None:
    base = '<SegmentBase indexRange="700-799" timescale="1000" presentationTimeOffset="500"/>'
    for inside, index in ((f"<BaseURL>v.mp4</BaseURL>{base}", 700), ("<BaseURL>v.mp4</BaseURL>", None)):
        rendition = opened(mpd(period(picture(inside)))).renditions[0]
        assert rendition.segments is None and rendition.duration == 20.0
        (piece,) = rendition.pieces
        assert isinstance(piece, IndexedFile) and piece.resource.url == "http://media.example/films/v.mp4"
        assert (piece.index.start if piece.index else None) == index
        assert piece.offset == (-0.5 if index else 0.0)


def test_segment_information_is_inherited_attribute_by_attribute() -> None:
    text = mpd(
        period(
            '<AdaptationSet mimeType="video/mp4">'
            '<SegmentTemplate timescale="10" media="$RepresentationID$-$Number$.m4s"/>'
            '<Representation id="v" bandwidth="1"><SegmentTemplate duration="50" startNumber="0"/></Representation>'
            "</AdaptationSet>",
            more='<SegmentTemplate timescale="5" duration="10"/>',
        )
    )
    assert urls(text) == ["v-0.m4s", "v-1.m4s", "v-2.m4s", "v-3.m4s"]


# 5.6: base addresses


def test_several_base_addresses_are_other_addresses_of_the_same() -> None:
    bases = (
        '<BaseURL xmlns:dvb="urn:dvb:dash:dash-extensions:2014-1" dvb:priority="2">http://b.example/x/</BaseURL>'
        "<BaseURL>http://c.example/</BaseURL>"
    )
    resource = segments(mpd(period(picture(f"<BaseURL>v/</BaseURL>{NUMBERED}")), more=bases))[0].resource
    assert (resource.url, resource.others) == ("http://c.example/v/1.m4s", ("http://b.example/x/v/1.m4s",))


def test_addresses_that_are_not_of_the_web_are_refused() -> None:
    with pytest.raises(ManifestError, match="no address of the web"):
        opened(mpd(period(picture(NUMBERED)), more="<BaseURL>file:///srv/</BaseURL>"))


# 5.3.2: Periods


def test_a_period_is_a_stretch_and_begins_where_the_last_one_ends() -> None:
    text = mpd(
        period(picture(NUMBERED), attributes=' duration="PT8S"'),
        period(picture(NUMBERED), attributes=' duration="PT4S"'),
        period(picture(NUMBERED), attributes=' start="PT12S"'),
        attributes='mediaPresentationDuration="PT16S"',
    )
    presentation = opened(text)
    assert len(presentation.renditions) == 1 and presentation.duration == 16.0
    assert [(one.stretch, one.begin) for one in segments(text)] == [(0, 0.0), (0, 4.0), (1, 8.0), (2, 12.0)]


def test_a_period_without_a_length_lasts_as_long_as_its_segments() -> None:
    timeline = '<SegmentTimeline><S t="0" d="4" r="1"/></SegmentTimeline>'
    template = f'<SegmentTemplate media="$Time$.m4s">{timeline}</SegmentTemplate>'
    text = mpd(period(picture(template)), period(picture(template)), attributes="")
    assert [one.begin for one in segments(text)] == [0.0, 4.0, 8.0, 12.0]


def test_a_language_that_one_period_lacks_is_not_taken_from_another_language() -> None:
    first = period(picture(NUMBERED), sound("en"), sound("cy", identifier="c"), attributes=' duration="PT12S"')
    second = period(picture(NUMBERED), sound("en"), attributes=' duration="PT8S"')
    known = named(opened(mpd(first, second)))
    assert {one.stretch for one in known["a1"].segments or ()} == {0, 1}
    assert {one.stretch for one in known["a2"].segments or ()} == {0}


def test_the_default_sound_goes_on_in_whatever_language_an_advert_has() -> None:
    film, advert = period(picture(NUMBERED), sound("en")), period(picture(NUMBERED), sound("und"))
    film, advert = film.replace("d>", 'd duration="PT12S">', 1), advert.replace("d>", 'd duration="PT4S">', 1)
    text = mpd(film, advert)
    assert {one.stretch for one in named(opened(text))["a1"].segments or ()} == {0, 1}


def test_the_closest_representation_of_another_period_goes_on() -> None:
    sizes = "".join(
        f'<Representation id="p{height}" bandwidth="{height}" width="1" height="{height}"/>' for height in (180, 360)
    )
    other = (
        '<Representation id="x" bandwidth="300" width="1" height="300"/>'
        '<Representation id="y" bandwidth="9" height="90"/>'
    )
    template = '<SegmentTemplate duration="4" media="$RepresentationID$-$Number$.m4s"/>'
    head = f'<AdaptationSet mimeType="video/mp4">{template}'
    first = period(f"{head}{sizes}</AdaptationSet>", attributes=' duration="PT8S"')
    second = period(f"{head}{other}</AdaptationSet>", attributes=' duration="PT4S"')
    listed = named(opened(mpd(first, second)))["v2"].segments or ()
    assert [one.resource.url.rpartition("/")[2] for one in listed] == ["p360-1.m4s", "p360-2.m4s", "x-1.m4s"]


def test_periods_of_another_asset_are_kept_and_said() -> None:
    def part(asset: str, length: int) -> str:
        identifier = f'<AssetIdentifier schemeIdUri="urn:x" value="{asset}"/>'
        return period(picture(NUMBERED), attributes=f' duration="PT{length}S"', more=identifier)

    notes = opened(mpd(part("film", 8), part("shop", 4), part("film", 8))).notes
    said = [note.value for note in notes if note.name == "advert"]
    assert said == ["Period 2 (8.0–12.0 s) is of another asset; kept"]


# 5.3.3, 5.3.7, 5.8: what sets and representations say of themselves, and what is chosen


ROLE = '<Role schemeIdUri="urn:mpeg:dash:role:2011" value="{}"/>'
DESCRIBED = (
    ROLE.format("alternate") + '<Accessibility schemeIdUri="urn:tva:metadata:cs:AudioPurposeCS:2007" value="1"/>'
)


def test_the_main_sound_is_the_default_and_its_best_version_is_taken() -> None:
    two = (
        f'<AdaptationSet contentType="audio" lang="en" mimeType="audio/mp4">{ROLE.format("main")}{NUMBERED}'
        '<Representation id="low" bandwidth="64"/><Representation id="high" bandwidth="128"/></AdaptationSet>'
    )
    presentation = opened(mpd(period(sound("en", DESCRIBED), picture(NUMBERED), two, sound("cy"))))
    assert [one.rendition.name for one in choose(presentation)] == ["v1", "a3"]
    both = choose(presentation, Wish(languages=("cy", "en")))
    assert [one.rendition.name for one in both] == ["v1", "a4", "a1", "a3"]
    everything = choose(presentation, Wish(languages=("all",)))
    assert [(one.rendition.name, one.default) for one in everything][1:] == [("a3", True), ("a1", False), ("a4", False)]
    assert named(presentation)["a1"].characteristics == ("public.accessibility.describes-video",)
    with pytest.raises(NothingFound, match="no sound in ga"):
        choose(presentation, Wish(languages=("ga",)))


def test_size_and_bit_rate_are_chosen_as_in_a_playlist() -> None:
    versions = "".join(
        f'<Representation id="{height}" bandwidth="{height * 1000}" width="{height}" height="{height}"/>'
        for height in (180, 720, 360)
    )
    text = mpd(period(f'<AdaptationSet mimeType="video/mp4" codecs="avc1.64001f">{NUMBERED}{versions}</AdaptationSet>'))
    for wish, height in ((Wish(), 720), (Wish(within=(None, 400)), 360), (Wish(under=200_000), 180)):
        assert choose(opened(text), wish)[0].rendition.height == height


def test_the_maker_s_priority_decides_between_sets() -> None:
    text = mpd(
        period(
            picture(NUMBERED, attributes=' width="1920" height="1080"', set_attributes=' selectionPriority="1"'),
            picture(NUMBERED, attributes=' width="640" height="360"', set_attributes=' selectionPriority="5"'),
        )
    )
    assert choose(opened(text))[0].rendition.height == 360


def test_sound_alone_is_chosen_by_language() -> None:
    presentation = opened(mpd(period(sound("en"), sound("cy"))))
    assert [one.rendition.language for one in choose(presentation)] == ["en"]
    assert [one.rendition.language for one in choose(presentation, Wish(languages=("cy",)))] == ["cy"]
    assert len(choose(presentation, Wish(languages=("all",)))) == 2


def test_trick_modes_thumbnails_and_layers_are_set_aside() -> None:
    trick = '<EssentialProperty schemeIdUri="http://dashif.org/guidelines/trickmode" value="1"/>'
    tiles = (
        '<AdaptationSet contentType="image" mimeType="image/jpeg">'
        '<SegmentTemplate duration="20" media="t$Number$.jpg"/>'
        '<Representation id="t" bandwidth="1" width="1600" height="900"/></AdaptationSet>'
    )
    tricky = (
        f'<AdaptationSet mimeType="video/mp4">{trick}{NUMBERED}'
        '<Representation id="k" bandwidth="9" height="2160"/></AdaptationSet>'
    )
    above = '<Representation id="l" bandwidth="9" dependencyId="v"/></AdaptationSet>'
    layer = picture(NUMBERED).replace("</AdaptationSet>", above)
    presentation = opened(mpd(period(tricky, tiles, layer)))
    assert [one.rendition.name for one in choose(presentation)] == ["v1"]
    assert any("depends on 'v'" in note.value for note in presentation.notes)


def test_what_it_says_of_itself_and_its_events_go_into_the_record() -> None:
    events = (
        '<EventStream schemeIdUri="urn:x" timescale="10">'
        '<Event id="3" presentationTime="20" duration="10">bell</Event></EventStream>'
    )
    about = "<ProgramInformation><Title>The Mill</Title><Copyright>Tidewrack</Copyright></ProgramInformation>"
    notes = {note.name: note.value for note in opened(mpd(period(picture(NUMBERED), more=events), more=about)).notes}
    assert notes == {"title": "The Mill", "copyright": "Tidewrack", "event 3": "2.000 s, 1.000 s, urn:x: bell"}


def test_protection_is_named() -> None:
    guard = (
        '<ContentProtection schemeIdUri="urn:mpeg:dash:mp4protection:2011" value="cenc"/>'
        '<ContentProtection schemeIdUri="urn:uuid:EDEF8BA9-79D6-4ACE-A3C8-27DCD51D21ED"/>'
    )
    clear, locked = picture(NUMBERED), picture(guard + NUMBERED)
    assert [one.protected for one in opened(mpd(period(clear, locked))).renditions] == [(), ("Widevine",)]
    only = picture('<ContentProtection schemeIdUri="urn:mpeg:dash:mp4protection:2011"/>' + NUMBERED)
    assert opened(mpd(period(only))).renditions[0].protected == ("common encryption",)


def test_subtitles_are_known_by_type_and_codec() -> None:
    def words(attributes: str) -> str:
        return f'<AdaptationSet {attributes}>{NUMBERED}<Representation id="w" bandwidth="1"/></AdaptationSet>'

    sets = (
        words('mimeType="text/vtt" lang="cy"'),
        words('contentType="text" mimeType="application/ttml+xml"'),
        words('mimeType="application/mp4" codecs="wvtt"'),
    )
    presentation = opened(mpd(period(picture(NUMBERED), *sets)))
    assert [one.rendition.name for one in choose(presentation)] == ["v1", "s1", "s2", "s3"]
    assert len(choose(presentation, Wish(subtitles=("cy",)))) == 2


# what a manifest is known by, and what is wrong with one


@pytest.mark.parametrize(
    "body",
    [
        mpd(period(picture(NUMBERED))).encode(),
        b"\xef\xbb\xbf<?xml version='1.0'?>\n<!-- a --><!DOCTYPE MPD>" + mpd(period(picture(NUMBERED))).encode(),
        ("<?xml version='1.0' encoding='UTF-16'?>" + mpd(period(picture(NUMBERED)))).encode("utf-16"),
        mpd(period(picture(NUMBERED)))
        .replace("<", "<d:")
        .replace("<d:/", "</d:")
        .replace("xmlns=", "xmlns:d=")
        .encode(),
    ],
)
def test_a_manifest_is_known_by_its_root_element(body: bytes) -> None:
    assert sniff(body) == "dash" and len(opened(body).renditions) == 1
    assert len(opened(gzip.compress(body)).renditions) == 1


def test_entities_are_not_resolved() -> None:
    bomb = '<!DOCTYPE MPD [<!ENTITY a "aaaaaaaaaa">' + "".join(
        f'<!ENTITY {chr(98 + n)} "{f"&{chr(97 + n)};" * 10}">' for n in range(9)
    )
    titled = "<ProgramInformation><Title>{}</Title></ProgramInformation>"
    text = f"{bomb}]>" + mpd(period(picture(NUMBERED)), more=titled.format("&j;"))
    try:
        assert not opened(text).notes
    except ManifestError as problem:
        assert "well-formed" in str(problem)
    outside = '<!DOCTYPE MPD [<!ENTITY a SYSTEM "file:///etc/passwd">]>'
    text = outside + mpd(period(picture(NUMBERED)), more=titled.format("&a;"))
    assert not opened(text).notes


@pytest.mark.parametrize(
    ("text", "words"),
    [
        ("<MPD", "well-formed"),
        (mpd(), "has no Period"),
        (mpd(period()), "neither picture nor sound"),
        (mpd(period(picture(NUMBERED), attributes=' duration="4s"')), "no duration"),
        (mpd(period(picture('<SegmentTemplate duration="4" timescale="0" media="$Number$"/>'))), "timescale of 0"),
        (mpd(period(picture('<SegmentTemplate media="$Number$.m4s" duration="0"/>'))), "no duration"),
        (mpd(period(picture('<SegmentTemplate duration="4"/>'))), "has no @media"),
        (mpd(period(picture("<SegmentList/>"))), "lists no segments"),
        (mpd(period(picture('<SegmentBase indexRange="9-1"/>'))), "no range of bytes"),
        (mpd(period(picture(NUMBERED)) * 2_001), "2,001 Periods"),
    ],
)
def test_what_cannot_be_made_sense_of_is_said(text: str, words: str) -> None:
    with pytest.raises(ManifestError, match=words):
        opened(text)


def test_what_is_still_running_says_so_and_how_far_back_it_reaches() -> None:
    running = mpd(period(picture(NUMBERED)), attributes='timeShiftBufferDepth="PT30S" maxSegmentDuration="PT4S"')
    live = opened(running.replace("static", "dynamic")).live
    assert live and (live.depth, live.target) == (30.0, 4.0) and opened(mpd(period(picture(NUMBERED)))).live is None


_PIECES = st.sampled_from(
    ['"', "<", ">", "/", "=", "S", "d", "t", "r", "-1", "0", "9" * 20, "$Number$", "$", "PT4S", "Period", "&", "\0"]
)


@given(st.lists(st.tuples(st.integers(0, 900), st.integers(0, 12), _PIECES), max_size=6))
def test_whatever_a_manifest_says_the_errors_are_ours(changes: list[tuple[int, int, str]]) -> None:
    timeline = '<SegmentTimeline><S t="0" d="4" r="3"/><S d="2"/></SegmentTimeline>'
    template = f'<SegmentTemplate timescale="1" media="$Time$.m4s">{timeline}</SegmentTemplate>'
    text = mpd(period(picture(template), sound("en", DESCRIBED)), period(picture(NUMBERED)))
    for at, count, piece in changes:
        text = text[:at] + piece + text[at + count :]
    try:
        for rendition in opened(text).renditions:
            list(islice(rendition.segments or (), 5))
    except MudlarkError:
        pass

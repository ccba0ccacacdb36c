"""Messages beside picture and sound in transport streams, by hand (ID3 2.4 §4, ANSI/SCTE 35 §9.6, SMPTE ST 336)."""

from hypothesis import given
from hypothesis import strategies as st

from mudlark.demo.streamed import MEDIA
from mudlark.media.samples import Event
from mudlark.media.sound.packed import READERS
from mudlark.media.ts import TransportReader
from mudlark.media.ts_messages import marker, metadata
from tests.bytes.transport import Counters, association, crc32, packet, program_map, timed
from tests.streams import access_unit

_MAP, _PICTURE, _ID3, _MARKS = 0x1000, 0x100, 0x101, 0x102


def frame(name: bytes, content: bytes) -> bytes:
    return name + len(content).to_bytes(4, "big") + b"\0\0" + content


def tag(*frames: bytes) -> bytes:
    body = b"".join(frames)
    return b"ID3\4\0\0\0\0" + bytes([len(body) >> 7, len(body) & 127]) + body


def insert(event: int, *, out: bool, ticks: int, adjustment: int = 0) -> bytes:
    """A splice_insert (§9.7.3) at a time, of a whole program."""
    command = event.to_bytes(4, "big") + b"\x7f" + bytes([(0x80 if out else 0) | 0x40 | 0x0F])
    command += (0xFE << 32 | ticks).to_bytes(5, "big") + b"\0\1\0\0"
    body = (
        b"\0" + adjustment.to_bytes(5, "big") + b"\0" + b"\xff\xf0" + bytes([len(command)]) + b"\5" + command + b"\0\0"
    )
    section = b"\xfc" + (0x3000 | len(body) + 4).to_bytes(2, "big") + body
    return section + crc32(section).to_bytes(4, "big")


def stream() -> bytes:
    pack = Counters()
    data = pack.packets(0, association())
    data += pack.packets(_MAP, program_map((0x1B, _PICTURE), (0x15, _ID3), (0x86, _MARKS)))
    for number in range(50):
        ticks = 900_000 + number * 3600
        data += pack.packets(_PICTURE, timed(access_unit(300 + number, instant=True), ticks))
        if number == 10:
            data += packet(
                _ID3,
                0,
                timed(tag(frame(b"TIT2", b"\3Fog Bell\0")), ticks).replace(b"\0\0\1\xe0", b"\0\0\1\xbd"),
                starts=True,
            )
            data += packet(_MARKS, 0, b"\0" + insert(7, out=True, ticks=900_000 + 90_000 * 3), starts=True)
    return data


def test_tags_of_packed_sound_are_lines_too_where_they_say_something_new() -> None:
    """RFC 8216 §3.4: each segment begins with a tag; most say the time alone."""
    time = b"com.apple.streaming.transportStreamTimestamp\0"
    sound = (MEDIA / "fog-signals.mp3").read_bytes()[: 26 * 209]
    reader = READERS["mp3"]()
    for number, title in enumerate((b"", b"Fog", b"Fog", b"Bell")):
        frames = [frame(b"PRIV", time + (900_000 + number * 90_000).to_bytes(8, "big"))]
        frames += [frame(b"TIT2", b"\3" + title)] if title else []
        reader.feed(memoryview(tag(*frames) + sound))
    assert [(one.value, one.message) for one in reader.events()] == [("TIT2", "Fog"), ("TIT2", "Bell")]
    assert reader.events() == []


def test_messages_come_with_their_times_and_lose_nothing() -> None:
    reader = TransportReader()
    samples = [one for batch in (reader.feed(memoryview(stream())), reader.flush()) for one in batch]
    assert sum(len(one) for one in samples) == 50
    song, splice = sorted(reader.events(), key=lambda event: event.scheme)
    assert (song.scheme, song.value, song.begin, song.message) == ("ID3", "TIT2", 0.4, "Fog Bell")
    assert (splice.scheme, splice.value, splice.begin) == ("SCTE 35", "splice_insert", 3.0)
    assert splice.message.startswith("event 7 out fc30") and reader.events() == []
    assert not [loss for loss in reader.losses() if "left-out" not in loss.code]


def test_messages_that_reach_into_the_next_segment_are_read_with_that() -> None:
    section = insert(7, out=True, ticks=900_000 + 90_000 * 3)
    long = section[:1] + (0x3000 | len(section) - 3 + 250).to_bytes(2, "big") + section[3:-4] + bytes(250)
    long += crc32(long).to_bytes(4, "big")
    words = timed(
        tag(frame(b"TIT2", b"\3" + b"Fog Bell " * 12), frame(b"TPE1", b"\3" + b"Buoy " * 20)), 900_000
    ).replace(b"\0\0\1\xe0", b"\0\0\1\xbd")
    words = words[:4] + (len(words) - 6).to_bytes(2, "big") + words[6:]
    pack = Counters()
    head = pack.packets(0, association())
    head += pack.packets(_MAP, program_map((0x1B, _PICTURE), (0x15, _ID3), (0x86, _MARKS)))
    head += pack.packets(_PICTURE, timed(access_unit(300, instant=True), 900_000))
    marks, songs = pack.packets(_MARKS, b"\0" + long), pack.packets(_ID3, words)
    assert len(marks) > 188 and len(songs) > 188
    for cut in (True, False):
        reader = TransportReader()
        at = 188 if cut else len(marks)
        reader.feed(memoryview(head + marks[:at] + songs[: 188 if cut else None]))
        before = len(reader.events())
        again = head + marks[at:] + (songs[188:] if cut else b"")
        reader.feed(memoryview(again))
        after = sorted(reader.events(), key=lambda event: event.scheme)
        assert (before, len(after)) == ((0, 3) if cut else (3, 0))
        if cut:
            assert [one.value for one in after] == ["TIT2", "TPE1", "splice_insert"]
            assert (after[0].message.count("Bell"), after[1].message.count("Buoy")) == (12, 20)


def test_frames_in_words() -> None:
    frames = frame(b"PRIV", b"museum.example\0\1\2"), frame(b"TXXX", b"\1\xff\xfeh\0i\0"), frame(b"GEOB", b"\0\1")
    made = [(event.value, event.message) for event in metadata(tag(*frames), 1.0)]
    assert made == [("PRIV", "museum.example 0102"), ("TXXX", "hi"), ("GEOB", "0001")]
    (keyed,) = metadata(b"\x06\x0e\x2b\x34\2\x0b\1\1\3", 2.5)
    assert (keyed.scheme, keyed.begin, keyed.message[:8]) == ("SMPTE ST 336 (KLV)", 2.5, "060e2b34")


def found(section: bytes) -> Event | None:
    return marker(section, 8.0, 0, lambda ticks: ticks)


def test_markers_in_words() -> None:
    moved = found(insert(9, out=False, ticks=90_000, adjustment=45_000))
    assert moved is not None and (moved.begin, moved.message[:10]) == (1.5, "event 9 in")
    nothing = found(b"\xfc\x30\x11" + bytes(10) + b"\0" + bytes(8))
    assert nothing is not None and (nothing.value, nothing.begin) == ("splice_null", 8.0)
    assert found(b"\x02" + bytes(20)) is None and found(b"\xfc") is None


@given(st.binary(max_size=80))
def test_whatever_chance_writes_is_a_message_or_none(data: bytes) -> None:
    list(metadata(data, 0.0))
    list(metadata(b"ID3\4\0\0" + data, 0.0))
    found(b"\xfc" + data)

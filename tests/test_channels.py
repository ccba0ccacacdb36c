"""Channels as streams state them: dependent substreams of E-AC-3, Opus in transport streams, blocks of ADTS."""

from pathlib import Path

import numpy as np
import pytest

from mudlark.media.samples import Samples
from mudlark.media.sound.ac3 import AC3
from mudlark.media.sound.framed import FramedStream
from mudlark.media.sound.mpeg_audio import MPEG_AUDIO
from mudlark.media.ts import TransportReader
from mudlark.verify.account import Account
from mudlark.verify.media import check_file
from tests import sounds
from tests.bytes.transport import Counters, packet, table
from tests.streams import aac_frame

_SIZE = 128  # bytes of a frame


def packed(*fields: tuple[int, int], size: int = _SIZE) -> bytes:
    """Fields as value and number of bits, filled up with zeros."""
    bits = "".join(f"{value:0{width}b}" for value, width in fields)
    return int(bits.ljust(size * 8, "0"), 2).to_bytes(size, "big")


def enhanced(*, kind: int = 0, mode: int = 7, low: int = 1, channel_map: int | None = None) -> bytes:
    """A frame of E-AC-3 (ETSI TS 102 366 §E.1.2.2): six blocks at 48 kHz. kind: 0 independent, 1 dependent."""
    head = [(0x0B77, 16), (kind, 2), (0, 3), (_SIZE // 2 - 1, 11), (0, 2), (3, 2), (mode, 3), (low, 1), (16, 5)]
    head += [(31, 5), (0, 1)]  # dialnorm, compre
    if kind == 1:
        head += [(1, 1), (channel_map or 0, 16)] if channel_map is not None else [(0, 1)]
    return packed(*head)


def read(stream: FramedStream, data: bytes) -> Samples:
    samples, _ = stream.samples(np.frombuffer(data, np.uint8), np.zeros(1, np.int64), np.zeros(1, np.int64))
    assert samples is not None
    return samples


def test_dependent_substreams_add_their_channels() -> None:
    """§E.1.3.1.8: the left and right surrounds anew, and a pair behind them: 7.1. §F.6: one, in place 1 of chan_loc."""
    frames = (enhanced() + enhanced(kind=1, mode=6, low=0, channel_map=0b0001_1010_0000_0000)) * 3
    samples = read(FramedStream(2, AC3), frames)
    assert samples.format.channels == 8 and samples.sizes.tolist() == [2 * _SIZE] * 3
    described = int.from_bytes(samples.format.config[2:], "big")
    assert len(samples.format.config) == 6 and described >> 9 & 15 == 1 and described & 0x1FF == 0b10
    assert described >> 17 & 7 == 7 and described >> 16 & 1 == 1  # acmod and lfeon of the independent one


def test_sound_without_dependent_substreams_is_as_it_was() -> None:
    samples = read(FramedStream(2, AC3), enhanced() * 3)
    assert samples.format.channels == 6 and len(samples.format.config) == 5
    only = read(FramedStream(2, AC3), (enhanced() + enhanced(kind=1, mode=2, low=0)) * 3)
    assert only.format.channels == 6  # one that says of no channels where they are


@pytest.mark.parametrize(("channels", "mapping"), [(2, b""), (6, bytes([4, 2, 0, 4, 1, 2, 3, 5]))])
def test_opus_in_a_transport_stream_has_the_channels_of_its_program_map(channels: int, mapping: bytes) -> None:
    """ETSI TS 103 491: a registration and an extension with the channel configuration, then units behind headers."""
    described = b"\x05\x04Opus\x7f\x02\x80" + bytes([channels])
    entry = b"\x06\xe1\x01" + (0xF000 | len(described)).to_bytes(2, "big") + described
    association = table(0, b"\0\1\xf0\0")
    program = table(2, b"\xe1\x01\xf0\0" + entry)
    stamp = b"\0\0\1\xbd\0\0\x80\x80\5\x21\0\1\0\1"
    unit = b"\x7f\xe0\x03\xf8ab"
    data = packet(0, 0, association, starts=True) + packet(0x1000, 0, program, starts=True)
    data += Counters().packets(0x101, stamp + unit * 20)
    reader = TransportReader()
    (samples, *_) = [*reader.feed(memoryview(data)), *reader.flush()]
    assert samples.format.channels == channels and len(samples) == 20
    assert samples.format.config[10:] == (b"\1" + mapping if mapping else b"\0")


def test_frames_of_several_blocks_last_as_long_as_all_of_them(tmp_path: Path) -> None:
    """ISO/IEC 14496-3 §1.A.3.2: number_of_raw_data_blocks_in_frame."""
    frame = bytearray(aac_frame(bytes([33]) * 199 + b"\7"))
    frame[6] |= 1
    path = tmp_path / "sound.aac"
    path.write_bytes(bytes(frame) * 50)
    account = Account()
    assert check_file(path, None, account).length == pytest.approx(50 * 2 * 1024 / 48_000)
    assert account.verdict == "unproven" and not account.problems


def test_layer_two_is_read_whatever_it_is_called(tmp_path: Path) -> None:
    """ISO/IEC 11172-3 §2.4.1.3: layer II at 48 kHz and 192 kbit/s is 576 bytes a frame."""
    frame = b"\xff\xfd\xa4\x04" + bytes([1]) * 572
    path = tmp_path / "sound.mp3"
    path.write_bytes(frame * 40)
    account = Account()
    assert check_file(path, None, account).length == pytest.approx(40 * 1152 / 48_000) and not account.problems
    assert read(FramedStream(2, MPEG_AUDIO), frame * 3).sizes.tolist() == [576] * 3


def test_a_sound_that_begins_late_is_as_long_as_what_it_holds(tmp_path: Path) -> None:
    """RFC 3533 §6: granules count from wherever a stream was cut out of a longer one."""
    late = 3 * 3600 * 48_000
    pages = [sounds.ogg_page(7, 0, 0, [b"OpusHead\1\2\x38\1" + bytes(7)], 2), sounds.ogg_page(7, 1, 0, [b"OpusTags"])]
    pages += [
        sounds.ogg_page(7, n + 2, late + (n + 1) * 48_000, [b"\xf8abc"] * 50, 4 if n == 9 else 0) for n in range(10)
    ]
    path = tmp_path / "sound.ogg"
    path.write_bytes(b"".join(pages))
    account = Account()
    assert check_file(path, None, account).length == pytest.approx(10.0, abs=0.05) and account.verdict == "sound"

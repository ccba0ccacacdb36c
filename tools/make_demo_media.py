"""Make the media of the demo site: pictures and sound of our own, encoded, cut into segments and written as MP4.

Needs Debian's x264, x265, vpx-tools, opus-tools, lame and libvo-aacenc0. Run it only to change the media; its output is
committed.
"""

import ctypes
import subprocess
import tempfile
from collections.abc import Callable
from itertools import pairwise, zip_longest
from pathlib import Path

import numpy as np
from msgspec.structs import replace
from PIL import Image

from mudlark.demo.pictures import FRAME_RATE, SAMPLE_RATE, picture, planar, sound
from mudlark.demo.transport import AUDIO_PID, VIDEO_PID, MappedStream, TransportWriter, Unit
from mudlark.media.bits import Bits
from mudlark.media.matroska.formats import format_of
from mudlark.media.matroska.write import MatroskaBuilder
from mudlark.media.mp4.write import Mp4Builder
from mudlark.media.picture.avc import DELIMITER, IDR, SPS
from mudlark.media.picture.nal import nal_units, unescape
from mudlark.media.picture.vp import read_vp9, vp9_configuration
from mudlark.media.samples import Format, Samples, batches
from mudlark.media.sound import opus
from mudlark.media.sound.adts import ADTS, FRAME
from mudlark.media.sound.framed import frames
from mudlark.media.ts import TransportReader

MEDIA = Path(__file__).parent.parent / "src/mudlark/demo/media"
SEGMENT = 4  # seconds
START = 126_000  # ticks of 90 kHz: streams seldom begin at zero
REORDERED = 2  # frames by which presentation lags behind decoding
DELAY = 1600  # samples from a sound in the encoder's input to the same sound in the decoder's output
FRAME_TICKS = 90_000 // FRAME_RATE


def encode_pictures(title: str, width: int, height: int, seconds: int, kilobits: int) -> bytes:
    """An H.264 stream with B-frames, closed groups of one segment and access unit delimiters."""
    with tempfile.TemporaryDirectory() as folder:
        target = Path(folder) / "stream.264"
        keep = FRAME_RATE * SEGMENT
        command = ["x264", "--demuxer", "raw", "--input-res", f"{width}x{height}", "--fps", str(FRAME_RATE)]
        command += ["--preset", "slow", "--bframes", "3", "--keyint", str(keep), "--min-keyint", str(keep)]
        command += ["--no-scenecut", "--aud", "--bitrate", str(kilobits), "--threads", "1"]
        command += ["--no-progress", "--log-level", "error"]
        command += ["--vbv-maxrate", str(kilobits * 2), "--vbv-bufsize", str(kilobits * 2), "-o", str(target), "-"]
        with subprocess.Popen(command, stdin=subprocess.PIPE) as encoder:
            assert encoder.stdin
            for number in range(seconds * FRAME_RATE):
                encoder.stdin.write(planar(picture(number, width, height, title)))
            encoder.stdin.close()
        assert encoder.returncode == 0
        return target.read_bytes()


class _Interface(ctypes.Structure):
    _fields_ = [(name, ctypes.c_void_p) for name in ("init", "put", "get", "set", "ask", "end")]


class _Buffer(ctypes.Structure):
    _fields_ = [("data", ctypes.c_void_p), ("length", ctypes.c_ulong), ("time", ctypes.c_longlong)]


class _Memory(ctypes.Structure):
    _fields_ = [("kind", ctypes.c_int), ("operator", ctypes.c_void_p), ("reserved", ctypes.c_ulong * 2)]


class _Parameters(ctypes.Structure):
    _fields_ = [
        ("rate", ctypes.c_int),
        ("bits", ctypes.c_int),
        ("channels", ctypes.c_short),
        ("adts", ctypes.c_short),
    ]


def encode_sound(samples: bytes, bits: int = 48_000) -> bytes:
    """AAC-LC in ADTS frames of stereo 16-bit samples."""
    library = ctypes.CDLL("libvo-aacenc.so.0")
    interface = _Interface()
    library.voGetAACEncAPI(ctypes.byref(interface))
    pointer, word = ctypes.c_void_p, ctypes.c_ulong
    init = ctypes.CFUNCTYPE(word, pointer, ctypes.c_int, pointer)(interface.init)
    put = ctypes.CFUNCTYPE(word, pointer, pointer)(interface.put)
    get = ctypes.CFUNCTYPE(word, pointer, pointer, pointer)(interface.get)
    set_ = ctypes.CFUNCTYPE(word, pointer, ctypes.c_long, pointer)(interface.set)
    names = ("Alloc", "Free", "Set", "Copy", "Check", "Compare", "Move")
    table = (pointer * len(names))(*(ctypes.cast(getattr(library, f"cmnMem{name}"), pointer) for name in names))
    memory = _Memory(0, ctypes.cast(table, pointer))
    handle = pointer()
    assert init(ctypes.byref(handle), 0, ctypes.byref(memory)) == 0
    parameters = _Parameters(SAMPLE_RATE, bits, 2, 1)
    assert set_(handle, 0x42211040, ctypes.byref(parameters)) == 0
    result = bytearray()
    block = FRAME * 4
    output, information = ctypes.create_string_buffer(8192), (ctypes.c_long * 8)()
    for at in range(0, len(samples) - block + 1, block):
        source = ctypes.create_string_buffer(samples[at : at + block], block)
        given = _Buffer(ctypes.addressof(source), block, 0)
        assert put(handle, ctypes.byref(given)) == 0
        taken = _Buffer(ctypes.addressof(output), len(output), 0)
        assert get(handle, ctypes.byref(taken), ctypes.byref(information)) == 0
        result += output.raw[: taken.length]
    return bytes(result)


def picture_units(stream: bytes) -> list[Unit]:
    """The access units with their times: decoding times in coding order, presentation times by the order counts."""
    array = np.frombuffer(stream, np.uint8)
    begins, ends = nal_units(array)
    kinds = array[begins] & 0x1F
    starts = [*(begins[kinds == DELIMITER] - 4).tolist(), len(stream)]
    set_ = int(np.flatnonzero(kinds == SPS)[0])
    counter = OrderCounter(stream[begins[set_] : ends[set_]])
    slices = [stream[at : at + 40] for at in begins[(kinds == 1) | (kinds == IDR)].tolist()]
    units = []
    for index, (begin, end, head) in enumerate(zip(starts, starts[1:], slices, strict=False)):
        shown = counter.place(head, index) + REORDERED
        units.append(Unit(VIDEO_PID, stream[begin:end], START + shown * FRAME_TICKS, START + index * FRAME_TICKS))
    return units


class OrderCounter:
    """Reads pic_order_cnt_lsb (ITU-T H.264 §7.3.3, §8.2.1.1) of frames with one slice each, in the High profile."""

    def __init__(self, sps: bytes) -> None:
        bits = Bits(unescape(sps)[1:])
        assert bits.take(8) == 100
        bits.take(16)
        for _ in range(4):
            bits.unsigned()
        bits.take(2)
        self._frame_bits = bits.unsigned() + 4
        assert bits.unsigned() == 0
        self._order_bits = bits.unsigned() + 4
        self._base = 0
        self._count = 0

    def place(self, head: bytes, index: int) -> int:
        """The place in presentation order of the frame that is coded as number `index`."""
        bits = Bits(unescape(head)[1:])
        for _ in range(3):
            bits.unsigned()
        bits.take(self._frame_bits)
        if head[0] & 0x1F == IDR:
            bits.unsigned()
            self._base, self._count = index, 0
        half = 1 << self._order_bits - 1
        self._count += (bits.take(self._order_bits) - self._count + half) % (2 * half) - half
        return self._base + self._count // 2


def sound_units(stream: bytes) -> list[Unit]:
    """About a quarter of a second of sound in each unit."""
    found = frames(np.frombuffer(stream, np.uint8), ADTS)
    # the encoder delays the sound, so its frames are presented that much earlier; those before the picture are left out
    begin = START + REORDERED * FRAME_TICKS - round(DELAY / SAMPLE_RATE * 90_000)
    units = []
    for first in range(2, len(found.positions), 12):
        last = min(first + 12, len(found.positions)) - 1
        data = stream[found.positions[first] : found.positions[last] + found.lengths[last]]
        time = begin + round(first * FRAME / SAMPLE_RATE * 90_000)
        units.append(Unit(AUDIO_PID, data, time, time))
    return units


def segments(pictures: list[Unit], sounds: list[Unit], writer: TransportWriter | None = None) -> list[bytes]:
    """Segments of SEGMENT seconds: pictures, with the sounds of the same time between them."""
    writer = writer or TransportWriter()
    per = SEGMENT * FRAME_RATE
    result = []
    for first in range(0, len(pictures), per):
        part = pictures[first : first + per]
        final = first + per >= len(pictures)
        until = part[-1].dts + FRAME_TICKS if not final else 1 << 40
        since = part[0].dts if first else -1
        spoken = [unit for unit in sounds if since <= unit.dts < until]
        result.append(writer.segment(sorted([*part, *spoken], key=lambda unit: unit.dts)))
    return result


def make(title: str, width: int, height: int, seconds: int, kilobits: int) -> list[bytes]:
    """All segments of one film."""
    print(title, f"{width}x{height}", flush=True)
    encoded = encode_pictures(title, width, height, seconds, kilobits)
    audio = encode_sound(sound(seconds).tobytes())
    return segments(picture_units(encoded), sound_units(audio))


def film(name: str, parts: list[bytes]) -> None:
    """One progressive MP4, written by Mudlark's own writer."""
    builder = Mp4Builder()
    media = b"".join(bytes(p) for batch in batches(TransportReader(), parts) for p in builder.add(batch))
    head = builder.head(builder.room_needed())
    assert head is not None
    (MEDIA / name).write_bytes(head + media)


def make_hevc(title: str, width: int, height: int, seconds: int, kilobits: int) -> list[bytes]:
    """Segments of a film in HEVC, without reordered pictures, and without sound."""
    with tempfile.TemporaryDirectory() as folder:
        raw, target = Path(folder) / "raw.yuv", Path(folder) / "stream.265"
        with raw.open("wb") as file:
            for number in range(seconds * FRAME_RATE):
                file.write(planar(picture(number, width, height, title)))
        keep = str(FRAME_RATE * SEGMENT)
        command = ["x265", "--input", str(raw), "--input-res", f"{width}x{height}", "--fps", str(FRAME_RATE)]
        command += ["--bframes", "0", "--keyint", keep, "--min-keyint", keep, "--no-scenecut", "--no-open-gop"]
        command += ["--aud", "--repeat-headers", "--bitrate", str(kilobits), "--no-info", "--log-level", "error"]
        subprocess.run([*command, "--output", str(target)], check=True)
        stream = target.read_bytes()
    array = np.frombuffer(stream, np.uint8)
    begins, _ = nal_units(array)
    starts = [*(begins[array[begins] >> 1 & 63 == 35] - 4).tolist(), len(stream)]
    units = [
        Unit(VIDEO_PID, stream[begin:end], START + index * FRAME_TICKS, START + index * FRAME_TICKS)
        for index, (begin, end) in enumerate(pairwise(starts))
    ]
    return segments(units, [], TransportWriter(MappedStream(VIDEO_PID, 0x24)))


def make_mp3(seconds: int, kilobits: int) -> bytes:
    """MPEG layer 3 without tags."""
    rate = str(SAMPLE_RATE / 1000)
    command = ["lame", "--quiet", "-r", "-s", rate, "--resample", rate, "--cbr", "-b", str(kilobits), "-t", "-", "-"]
    return subprocess.run(command, input=sound(seconds).tobytes(), check=True, capture_output=True).stdout


Frames = Callable[[int], Image.Image]


def make_vp9(
    title: str, width: int, height: int, seconds: int, kilobits: int, frames_of: Frames | None = None
) -> list[Samples]:
    """Pictures in VP9, one that stands alone at the beginning of each segment. frames_of: draws them, by number."""
    draw = frames_of or (lambda number: picture(number, width, height, title))
    with tempfile.TemporaryDirectory() as folder:
        raw, target = Path(folder) / "raw.yuv", Path(folder) / "stream.ivf"
        with raw.open("wb") as file:
            for number in range(seconds * FRAME_RATE):
                file.write(planar(draw(number)))
        keep = str(FRAME_RATE * SEGMENT)
        command = ["vpxenc", "--codec=vp9", "--ivf", "--i420", f"--width={width}", f"--height={height}", "--quiet"]
        command += [f"--fps={FRAME_RATE}/1", f"--target-bitrate={kilobits}", f"--kf-max-dist={keep}"]
        command += [f"--kf-min-dist={keep}", "--passes=1", "--cpu-used=2", "--lag-in-frames=0", "-o", str(target)]
        subprocess.run([*command, str(raw)], check=True)
        data = target.read_bytes()
    frames, at = [], int.from_bytes(data[6:8], "little")
    while at < len(data):
        size = int.from_bytes(data[at : at + 4], "little")
        frames.append(data[at + 12 : at + 12 + size])
        at += 12 + size
    format = Format("video", "vp09", 1000, vp9_configuration(frames[0], {}, (width, height)), 40, width, height)
    sync = [read_vp9(frame) is not None for frame in frames]
    return _cut(format, frames, [40 * number for number in range(len(frames))], sync, 1)


def make_opus(seconds: int, kilobits: int, *, silent: bool = False) -> list[Samples]:
    """Sound in Opus."""
    spoken = sound(seconds)
    command = ["opusenc", "--quiet", "--raw", "--raw-rate", str(SAMPLE_RATE), "--bitrate", str(kilobits), "-", "-"]
    heard = np.zeros_like(spoken) if silent else spoken
    data = subprocess.run(command, input=heard.tobytes(), check=True, capture_output=True).stdout
    packets, rest, at = [], b"", 0
    while at < len(data):  # pages of Ogg (RFC 3533 §6)
        laces = data[at + 27 : at + 27 + data[at + 26]]
        at += 27 + len(laces)
        for lace in laces:
            rest += data[at : at + lace]
            at += lace
            if lace < 255:
                packets.append(rest)
                rest = b""
    head, frames = packets[0], packets[2:]
    format = replace(opus.audio_format(head[9]), config=format_of({0x86: b"A_OPUS", 0x63A2: head}, 2).config)
    times = [960 * number - int.from_bytes(head[10:12], "little") for number in range(len(frames))]
    return _cut(format, frames, times, [True] * len(frames), 2)


def _cut(format: Format, frames: list[bytes], times: list[int], sync: list[bool], track: int) -> list[Samples]:
    """Frames as samples, an entry a segment."""
    which = np.maximum(np.array(times), 0) // (SEGMENT * format.timescale)
    parts = []
    for number in range(int(which.max()) + 1):
        own = np.flatnonzero(which == number).tolist()
        ticks = np.array([times[at] for at in own], np.int64)
        sizes = np.array([len(frames[at]) for at in own], np.int64)
        flags = np.array([sync[at] for at in own], np.bool_)
        body = memoryview(b"".join(frames[at] for at in own))
        parts.append(Samples(track, format, sizes, ticks, ticks, flags, [body]))
    return parts


def webm(name: str, parts: list[Samples]) -> None:
    """One WebM, written by Mudlark's own writer."""
    builder = MatroskaBuilder(kind="webm")
    media = b"".join(bytes(piece) for part in parts for piece in builder.add([part]))
    (MEDIA / name).write_bytes(builder.head() + media + builder.tail())


def flawed() -> None:
    """Films with something wrong that only playing shows: black, frozen, silent."""
    size, seconds = (160, 90), 6
    films: dict[str, tuple[Frames | None, bool]] = {
        "dark.webm": (lambda _: Image.new("RGB", size), False),
        "still.webm": (lambda _: picture(40, *size, "The Still"), False),
        "mute.webm": (None, True),
    }
    for name, (frames_of, silent) in films.items():
        pictures = make_vp9("The Mute", *size, seconds, 60, frames_of)
        sounds = make_opus(seconds, 24, silent=silent)
        builder = MatroskaBuilder(kind="webm")
        batches_of = zip_longest(pictures, sounds)
        media = b"".join(bytes(piece) for both in batches_of for piece in builder.add([one for one in both if one]))
        (MEDIA / name).write_bytes(builder.head() + media + builder.tail())


def streams() -> None:
    """What the streams of other kinds need beside the tide mill."""
    (MEDIA / "tide-mill" / "cy.aac").write_bytes(encode_sound(sound(24, 1500.0).tobytes()))
    for number, data in enumerate(make_hevc("The Slipway in HEVC", 320, 180, 12, 60)):
        (MEDIA / f"slipway-{number}.ts").write_bytes(data)
    (MEDIA / "fog-signals.mp3").write_bytes(make_mp3(12, 64))
    webm("ferry.webm", make_vp9("The Ferry", 640, 360, 24, 160))
    webm("ferry-sound.webm", make_opus(24, 48))


def main() -> None:
    MEDIA.mkdir(parents=True, exist_ok=True)
    for height, kilobits in ((180, 90), (360, 200), (720, 480)):
        folder = MEDIA / "tide-mill" / f"{height}p"
        folder.mkdir(parents=True, exist_ok=True)
        for number, data in enumerate(make("The Tide Mill at Work", height * 16 // 9, height, 24, kilobits)):
            (folder / f"part-{number:03d}.ts").write_bytes(data)
    film("foghorn-demonstration.mp4", make("The Foghorn Demonstration", 640, 360, 12, 180))
    film("harbour-talk.mp4", make("A Talk on the Harbour Wall", 640, 360, 20, 180))
    film("gift-shop.mp4", make("Visit the Gift Shop", 320, 180, 5, 90))
    film("fog-bell.m4a", [TransportWriter().segment(sound_units(encode_sound(sound(12).tobytes())))])
    streams()
    flawed()
    print(f"{sum(path.stat().st_size for path in MEDIA.rglob('*') if path.is_file()) / 1e6:.2f} MB")


if __name__ == "__main__":
    main()

"""What describes a picture or a sound goes along into the file that is made, or is named as lost."""

from pathlib import Path

import numpy as np
import pytest
from msgspec.structs import replace

from mudlark.assemble.film import Assembled, Voice, assemble
from mudlark.assemble.output import ChosenFile
from mudlark.demo.repacked import fragments, section
from mudlark.media.index import movie_in
from mudlark.media.matroska import names
from mudlark.media.matroska.ebml import element, real, unsigned
from mudlark.media.movie import TrackIndex
from mudlark.media.mp4.about import About
from mudlark.media.picture.colour import Colour, Mastering, from_boxes, to_boxes
from mudlark.media.samples import LossCode, Samples
from tests.bytes.fragmented import box
from tests.test_film import Parts, _demo
from tests.test_webm import OPUS, VP9_KEY, block, cluster, opened, sound, tracks

_DISPLAY = Mastering((0.708, 0.292), (0.17, 0.797), (0.131, 0.046), (0.3127, 0.329), 1000.0, 0.005)
_HDR = Colour(9, 16, 9, False, _DISPLAY, (1000, 400))
# ISO/IEC 14496-12 §12.1.5: nclx, BT.2020, PQ, its matrix, limited range; then the display in steps of 0.00002 (green,
# blue, red, white) and of 0.0001 cd/m²; then the light levels
_COLR = b"nclx\0\x09\0\x10\0\x09\0"
_MDCV = bytes.fromhex("2134 9baa 1996 08fc 8a48 3908 3d13 4042 00989680 00000032")
_CLLI = bytes.fromhex("03e8 0190")
# RFC 9559 §5.1.4.1.28: elements inside of Video
_PLACES = 0.708, 0.292, 0.17, 0.797, 0.131, 0.046, 0.3127, 0.329
_MASTERED = element(
    0x55D0, *(real(0x55D1 + n, place) for n, place in enumerate(_PLACES)), real(0x55D9, 1000.0), real(0x55DA, 0.005)
)
_STATED = (0x55B1, 9), (0x55B9, 1), (0x55BA, 16), (0x55BB, 9), (0x55BC, 1000), (0x55BD, 400)
_COLOUR = element(0x55B0, *(unsigned(*one) for one in _STATED), _MASTERED)


def make(tmp_path: Path, parts: Parts, container: str | None = None) -> tuple[list[TrackIndex], Assembled]:
    def output(target: Path, planned: float, labels: dict) -> ChosenFile:  # type: ignore[type-arg]
        return ChosenFile(target, planned, labels, About(), container)

    made = assemble(parts.all, [Voice()], tmp_path / "film", 4.0, output)
    return movie_in(made.path).tracks, made


def lost(made: Assembled) -> list[str]:
    return [loss.detail for loss in made.losses if loss.code in (LossCode.LEFT_OUT, LossCode.FORMAT)]


def with_boxes(samples: Samples, *more: bytes) -> Samples:
    """The samples with a sample entry that holds these boxes, too."""
    init = section([samples])
    at = init.index(b"avc1", init.index(b"stsd")) - 4
    entry = init[at : at + int.from_bytes(init[at : at + 4], "big")] + b"".join(more)
    return replace(samples, format=replace(samples.format, entry=len(entry).to_bytes(4, "big") + entry[4:]))


def vp9(tmp_path: Path, *inside: bytes, more: tuple[bytes, ...] = ()) -> Parts:
    """A film of two seconds in WebM whose picture says these things of itself. more: blocks."""
    size = unsigned(names.PIXEL_WIDTH, 320), unsigned(names.PIXEL_HEIGHT, 180)
    head = unsigned(names.TRACK_NUMBER, 1), unsigned(names.TRACK_TYPE, 1), element(names.CODEC_ID, b"V_VP9")
    entry = element(names.TRACK_ENTRY, *head, element(names.VIDEO, *size, *inside))
    parts = Parts(tmp_path)
    blocks = [block(1, n * 40, VP9_KEY) for n in range(50)]
    parts.add(opened(tracks(entry), cluster(0, *blocks, *more)))
    return parts


def test_colours_are_read_and_written_as_the_boxes_have_them() -> None:
    assert from_boxes({"colr": _COLR, "mdcv": _MDCV, "clli": _CLLI}) == _HDR
    assert to_boxes(_HDR) == {"colr": _COLR, "mdcv": _MDCV, "clli": _CLLI}
    assert from_boxes({}) is None and from_boxes({"colr": b"prof" + bytes(40)}) is None


def test_colours_go_along_within_mp4_and_from_there_into_matroska(tmp_path: Path) -> None:
    video = with_boxes(_demo("video")[0], box(b"colr", _COLR), box(b"mdcv", _MDCV), box(b"clli", _CLLI))
    for container in ("mp4", "mkv"):
        parts = Parts(tmp_path)
        parts.add(fragments(1, [video]), init=parts.section(section([video])), seconds=4.0)
        (track,), made = make(tmp_path, parts, container)
        assert track.format.colour == _HDR and not lost(made), container


def test_colours_go_along_within_webm_and_from_there_into_mp4(tmp_path: Path) -> None:
    for container in (None, "mp4"):
        (track,), made = make(tmp_path, vp9(tmp_path, _COLOUR), container)
        assert track.format.colour == _HDR and not lost(made), container
        assert made.path.suffix == (".mp4" if container else ".webm")


def test_what_mp4_has_no_place_for_is_named(tmp_path: Path) -> None:
    inside = unsigned(names.STEREO_MODE, 1), unsigned(names.ALPHA_MODE, 1)
    (track,), made = make(tmp_path, vp9(tmp_path, *inside))
    assert track.format.elements == b"".join(inside) and not lost(made)
    _, made = make(tmp_path, vp9(tmp_path, *inside), "mp4")
    assert [word for words in lost(made) for word in ("StereoMode", "AlphaMode") if word in words] == [
        "StereoMode",
        "AlphaMode",
    ]


def test_what_matroska_has_no_place_for_is_named(tmp_path: Path) -> None:
    turned = bytes.fromhex("00000000 00010000 00000000 ffff0000 00000000 00000000 00000000 00000000 40000000")
    video = with_boxes(_demo("video")[0], box(b"clap", bytes(32)), box(b"st3d", bytes(5)))
    video = replace(video, format=replace(video.format, matrix=turned))
    parts = Parts(tmp_path)
    parts.add(fragments(1, [video]), init=parts.section(section([video])), seconds=4.0)
    (track,), made = make(tmp_path, parts, "mp4")
    assert track.format.matrix == turned and not lost(made)
    _, made = make(tmp_path, parts, "mkv")
    assert len(lost(made)) == 3


def test_what_blocks_add_is_named(tmp_path: Path) -> None:
    frame = bytes([0x81]) + (2000).to_bytes(2, "big") + b"\0" + VP9_KEY
    added = element(names.BLOCK_ADDITIONS, element(0xA6, unsigned(0xEE, 1), element(0xA5, b"alpha")))
    group = element(names.BLOCK_GROUP, element(names.BLOCK, frame), added)
    _, made = make(tmp_path, vp9(tmp_path, more=(group,)))
    assert any("transparency" in words for words in lost(made))


def test_sound_whose_format_changes_goes_on_in_a_track_of_its_own_in_matroska(tmp_path: Path) -> None:
    mono = element(names.AUDIO, real(names.SAMPLING_FREQUENCY, 48_000.0), unsigned(names.CHANNELS, 1))
    head = unsigned(names.TRACK_NUMBER, 2), unsigned(names.TRACK_TYPE, 2), element(names.CODEC_ID, b"A_OPUS")
    parts = Parts(tmp_path)
    blocks = [block(2, n * 20, OPUS) for n in range(100)]
    parts.add(opened(tracks(sound()), cluster(0, *blocks)), 0)
    parts.add(opened(tracks(element(names.TRACK_ENTRY, *head, mono)), cluster(0, *blocks)), 1)
    listed, made = make(tmp_path, parts)
    assert [(track.format.channels, len(track.sizes)) for track in listed] == [(2, 100), (1, 100)]
    assert [track.default for track in listed] == [True, False]
    assert any("1 channels" in words and "track 2" in words for words in lost(made))
    assert listed[1].presented()[0] == pytest.approx(2.0, abs=0.03)


def test_what_is_only_decoded_at_the_beginning_of_a_sound_is_not_presented(tmp_path: Path) -> None:
    """An edit list that begins at tick 2112 (ISO/IEC 14496-12 §8.6.6), as encoders of AAC have it."""
    heard = _demo("audio")[0]
    heard = replace(heard, dts=heard.dts - heard.dts[0], pts=heard.pts - heard.pts[0])
    init = section([heard])
    edit = box(
        b"edts", box(b"elst", bytes(4), (1).to_bytes(4, "big"), bytes(4), (2112).to_bytes(4, "big"), b"\0\1\0\0")
    )
    parts = Parts(tmp_path)
    parts.add(fragments(1, [heard]), init=parts.section(_with_edit(init, edit)), seconds=4.0)
    (track,), _ = make(tmp_path, parts, "mp4")
    length = len(heard) * 1024 / 48_000
    assert track.presented() == pytest.approx((0.0, length - 2112 / 48_000), abs=0.001)
    assert np.array_equal(track.sizes, heard.sizes)


def _with_edit(init: bytes, edit: bytes) -> bytes:
    """The section with an edit list behind the header of its track, and the boxes around it as much longer."""
    at = init.index(b"mdia") - 4
    for kind in (b"moov", b"trak"):
        place = init.index(kind) - 4
        size = int.from_bytes(init[place : place + 4], "big") + len(edit)
        init = init[:place] + size.to_bytes(4, "big") + init[place + 4 :]
    return init[:at] + edit + init[at:]


def test_a_film_plays_upright_without_a_word(tmp_path: Path) -> None:
    (track,), made = make(tmp_path, vp9(tmp_path))
    assert not track.format.matrix and track.format.colour is None and not lost(made)

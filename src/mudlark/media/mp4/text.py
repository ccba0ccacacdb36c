"""Subtitles in fragmented MP4: samples that are WebVTT cues or TTML documents.

Follows ISO/IEC 14496-30: `wvtt` samples hold a box for each cue that is shown while the sample lasts (§6), `stpp`
samples hold a document each, whose times are on the track's own clock (§5).
"""

from collections.abc import Iterator

from msgspec.structs import replace

from mudlark.errors import FormatError
from mudlark.media.mp4.boxes import children
from mudlark.media.mp4.fragments import FragmentReader
from mudlark.media.samples import Samples
from mudlark.media.webvtt import Cue, joined, shifted

_SLACK = 1.0  # seconds that a cue may stand outside of its sample


class TextReader:
    """Reads the segments of one rendition of subtitles. Raises FormatError, as the reader of fragments does."""

    def __init__(self) -> None:
        self._reader = FragmentReader(handlers=frozenset({"text", "subt", "sbtl"}))

    def begin(self, init: bytes | None) -> None:
        """Take the initialization section of what follows."""
        self._reader.begin(init)

    def feed(self, data: bytes) -> list[Cue]:
        """The cues of a segment, on the track's clock, in seconds."""
        cues: list[Cue] = []
        for samples in self._reader.feed(memoryview(data)):
            codec = samples.format.codec
            for begin, end, body in _bodies(samples, self._reader.ends()[samples.track]):
                if codec == "stpp":
                    from mudlark.media.ttml import parse_ttml  # its XML library is needed for nothing else

                    cues += _on_track(parse_ttml(body, end).cues, begin, end)
                elif codec == "wvtt":
                    cues += _cues(body, begin, end)
                else:
                    raise FormatError(f"Subtitles in the form '{codec}' are not read")
        return joined(cues)


def _on_track(cues: tuple[Cue, ...], begin: float, end: float) -> list[Cue]:
    """The cues of a document, on the track's clock; those of some writers count from the sample's own begin."""
    outside = [cue for cue in cues if cue.end < begin - _SLACK or cue.begin > end + _SLACK]
    if cues and len(outside) == len(cues) and all(cue.begin <= end - begin + _SLACK for cue in cues):
        return [replace(cue, end=min(cue.end, end)) for cue in shifted(cues, begin)]
    return list(cues)


def _bodies(samples: Samples, last: int) -> Iterator[tuple[float, float, bytes]]:
    """When each sample is shown, and its bytes. last: until when the last one is, in ticks."""
    data, at = b"".join(samples.pieces), 0
    scale = samples.format.timescale
    ends = [*samples.pts[1:].tolist(), last]
    for begin, end, size in zip(samples.pts.tolist(), ends, samples.sizes.tolist(), strict=True):
        yield begin / scale, end / scale, data[at : at + size]
        at += size


def _cues(data: bytes, begin: float, end: float) -> Iterator[Cue]:
    """The cues of one sample; one that goes on in the next sample is there again, and joined later."""
    for box in children(data, 0, 0, len(data)):
        if box.kind != "vttc":
            continue
        inside = {
            inner.kind: data[inner.content : inner.end].decode("utf-8", "replace")
            for inner in children(data, 0, box.content, box.end)
        }
        text = inside.get("payl", "").strip("\n")
        if text and end > begin:
            yield Cue(begin, end, text, inside.get("sttg", "").strip(), inside.get("iden", "").strip())

"""Which reader reads what: a table by what the bytes are.

What a segment is, its own first bytes say (behind ID3 tags), and those of its initialization section.
"""

from collections.abc import Callable

from mudlark.errors import FormatError
from mudlark.media.matroska.stream import ClusterReader
from mudlark.media.mp4.fragments import FragmentReader
from mudlark.media.samples import SampleReader
from mudlark.media.sniff import sniff
from mudlark.media.sound.packed import READERS as PACKED
from mudlark.media.sound.packed import skip_tags
from mudlark.media.ts import TransportReader

READERS: dict[str, Callable[[], SampleReader]] = {
    "ts": TransportReader,
    "mp4": FragmentReader,
    "matroska": ClusterReader,
    **PACKED,
}
_HEAD = 65536


def container(data: bytes | memoryview) -> str:
    """What a segment is: a name of READERS, or what else it is (`sniff`)."""
    behind, _ = skip_tags(data)
    return sniff(bytes(data[behind : behind + _HEAD]))


def reader_for(form: str, *, in_band: bool = False) -> SampleReader:
    """A new reader. in_band: one that takes parameter sets out of the samples leaves them in. Raises FormatError for
    what nothing reads."""
    if form not in READERS:
        named = "bytes of no format that is known" if form == "unknown" else form.upper()
        raise FormatError(f"It is {named}, which is no media segment")
    return TransportReader(in_band=in_band) if form == "ts" else READERS[form]()

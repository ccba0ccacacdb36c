"""AV1: its name by its configuration (av1C, AV1 codec in ISO base media files §2.3), and its units (AV1 §5.3)."""

from collections.abc import Iterator

SEQUENCE_HEADER, FRAME_HEADER, FRAME = 1, 3, 6  # kinds of units (§6.2.2)


def units(data: bytes) -> Iterator[tuple[int, int]]:
    """The open bitstream units of a sample or a configuration: the kind of each, and where it begins behind its
    header."""
    at = 0
    while at < len(data):
        kind, extended, sized = data[at] >> 3 & 15, data[at] >> 2 & 1, data[at] & 2
        at += 1 + extended
        length = shift = 0
        while sized and at < len(data) and shift < 56:  # leb128 (§4.10.5)
            length, shift, more, at = length | (data[at] & 127) << shift, shift + 7, data[at] & 128, at + 1
            if not more:
                break
        yield kind, at
        at += length if sized else len(data)


def label(config: bytes, kind: str) -> str:
    """The RFC 6381 name of a configuration, in a sample entry of a kind."""
    if len(config) < 4:
        return kind
    depth = (12 if config[2] & 0x20 else 10) if config[2] & 0x40 else 8
    tier = "H" if config[2] & 0x80 else "M"
    return f"{kind}.{config[1] >> 5}.{config[1] & 31:02d}{tier}.{depth:02d}"

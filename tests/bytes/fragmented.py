"""An MP4 in fragments (ISO/IEC 14496-12): a picture of four seconds in each, described by an entry of a file."""

from mudlark.demo.streamed import MEDIA

PICTURE = (5).to_bytes(4, "big") + b"\x65" + bytes(range(1, 5))  # one NAL unit, an IDR slice, behind its length


def box(kind: bytes, *parts: bytes) -> bytes:
    """§4.2."""
    body = b"".join(parts)
    return (8 + len(body)).to_bytes(4, "big") + kind + body


def full(kind: bytes, *parts: bytes, flags: int = 0, version: int = 0) -> bytes:
    """§4.2, a box with a version and flags."""
    return box(kind, bytes([version]) + flags.to_bytes(3, "big"), *parts)


def _long(value: int) -> bytes:
    return value.to_bytes(4, "big")


def entry_of_avc() -> bytes:
    """A sample entry (§8.5.2) as a file of the demo has it."""
    data = (MEDIA / "gift-shop.mp4").read_bytes()
    at = data.index(b"avc1", data.index(b"stsd")) - 4
    return data[at : at + int.from_bytes(data[at : at + 4], "big")]


def film(
    count: int,
    *,
    stated: int = 0,
    entries: tuple[bytes, ...] = (),
    based: int | None = None,
    own: int = 0,
    timed: bool = True,
) -> bytes:
    """stated: seconds in mehd (§8.8.2), none for 0. entries: of stsd. based: bytes to add to the place of the fragment
    for the base_data_offset (§8.8.7), from which data_offset is counted; None for default-base-is-moof. own: pictures
    of four seconds that the index lists, before those of fragments; its edit list and header know of no others. timed:
    fragments say when they begin (§8.8.12)."""
    entries = entries or (entry_of_avc(),)
    kinds = box(b"ftyp", b"iso5", bytes(4)) + box(b"mdat", *[PICTURE] * own)
    tables = [
        full(b"stts", _long(1), _long(own), _long(4000)) if own else full(b"stts", _long(0)),
        full(b"stsc", _long(1), _long(1), _long(own), _long(1)) if own else full(b"stsc", _long(0)),
        full(b"stsz", _long(len(PICTURE)), _long(own)) if own else full(b"stsz", bytes(8)),
        full(b"stco", _long(1), _long(len(kinds) - own * len(PICTURE))) if own else full(b"stco", _long(0)),
    ]
    edits = box(b"edts", full(b"elst", _long(1), _long(own * 4000), bytes(4), b"\0\1\0\0")) if own else b""
    stsd = full(b"stsd", _long(len(entries)), *entries)
    handler = full(b"hdlr", bytes(4), b"vide", bytes(13))
    head = full(b"mdhd", bytes(8), _long(1000), bytes(8))
    media = box(b"mdia", head, handler, box(b"minf", box(b"stbl", stsd, *tables)))
    track = box(b"trak", full(b"tkhd", bytes(8), _long(1), bytes(68)), edits, media)
    length = [full(b"mehd", _long(stated * 1000))] if stated else []
    extends = box(b"mvex", *length, full(b"trex", _long(1), _long(1), bytes(12)))
    header = full(b"mvhd", bytes(8), _long(1000), _long(own * 4000), bytes(80))
    data = (kinds if own else kinds[:-8]) + box(b"moov", header, track, extends)
    for number in range(count):
        data += _fragment(len(data), own + number, based, timed=timed)
    return data


def _fragment(at: int, number: int, based: int | None, *, timed: bool) -> bytes:
    """§8.8.4 to §8.8.8: one run of one sample, and its data behind it."""

    def made(offset: int) -> bytes:
        where = b"" if based is None else (at + based).to_bytes(8, "big")
        head = full(b"tfhd", _long(1), where, flags=0x20000 if based is None else 0x1)
        time = full(b"tfdt", _long(number * 4000)) if timed else b""
        run = full(
            b"trun", _long(1), offset.to_bytes(4, "big", signed=True), _long(4000), _long(len(PICTURE)), flags=0x301
        )
        return box(b"moof", full(b"mfhd", _long(number + 1)), box(b"traf", head, time, run))

    return made(len(made(0)) + 8 - (based or 0)) + box(b"mdat", PICTURE)

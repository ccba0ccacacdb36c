"""How the packets of a transport stream stand in a file (ISO/IEC 13818-1 §2.4.3.2): told from its first bytes."""

PACKET = 188  # bytes
SYNC = 0x47
_TIMED = 192
_GUARDED = 204  # bytes of a packet with its error correction


def looks_like_transport(head: bytes | memoryview) -> bool:
    """True if sync bytes stand a packet apart from the start, as far as `head` reaches."""
    marks = bytes(head[: PACKET * 20 : PACKET])
    return (len(head) >= PACKET and set(marks) == {SYNC}) or stands_in(head) is not None


def stands_in(head: bytes | memoryview) -> tuple[int, int] | None:
    """Where each packet stands in what is sent with it: how many bytes that is, and at which the packet begins. Behind
    four bytes of arrival time, as on discs; or before sixteen of error correction (ETSI EN 300 429 §4.4.3). None where
    nothing is."""
    if set(bytes(head[: PACKET * 20 : PACKET])) == {SYNC}:
        return None
    for size, at in ((_TIMED, _TIMED - PACKET), (_GUARDED, 0)):
        marks = bytes(head[at : size * 20 : size])
        if len(marks) > 2 and set(marks) == {SYNC}:
            return size, at
    return None

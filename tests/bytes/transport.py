"""A transport stream (ISO/IEC 13818-1): tables in sections of one packet, and pictures in PES packets."""


def crc32(data: bytes) -> int:
    """Annex A, bit by bit."""
    register = 0xFFFFFFFF
    for bit in (byte >> shift & 1 for byte in data for shift in range(7, -1, -1)):
        register = (register << 1 & 0xFFFFFFFF) ^ (0x04C11DB7 if (register >> 31) ^ bit else 0)
    return register


def packet(pid: int, counter: int, payload: bytes, *, starts: bool = False) -> bytes:
    """§2.4.3.2: a packet, filled up by an adaptation field of stuffing (§2.4.3.4)."""
    room = 184 - len(payload)
    head = bytes([0x47, (0x40 if starts else 0) | pid >> 8, pid & 255])
    if not room:
        return head + bytes([0x10 | counter & 15]) + payload
    field = bytes([room - 1]) + (b"\0" + b"\xff" * (room - 2) if room > 1 else b"")
    return head + bytes([0x30 | counter & 15]) + field + payload


def table(kind: int, body: bytes, *, version: int = 0, damaged: bool = False) -> bytes:
    """§2.4.4: a section behind its pointer."""
    inside = b"\0\1" + bytes([0xC1 | version << 1]) + b"\0\0" + body
    data = bytes([kind]) + (0xB000 | len(inside) + 4).to_bytes(2, "big") + inside
    return b"\0" + data + (crc32(data) ^ damaged).to_bytes(4, "big")


def association(program: int = 0x1000) -> bytes:
    """§2.4.4.3: program 1 is described on this PID."""
    return table(0x00, b"\0\1" + (0xE000 | program).to_bytes(2, "big"))


def program_map(*streams: tuple[int, int], version: int = 0, damaged: bool = False) -> bytes:
    """§2.4.4.8. streams: type and PID."""
    listed = b"".join(bytes([kind]) + (0xE000 | pid).to_bytes(2, "big") + b"\xf0\0" for kind, pid in streams)
    clock = (0xE000 | streams[0][1]).to_bytes(2, "big")
    return table(0x02, clock + b"\xf0\0" + listed, version=version, damaged=damaged)


def timed(picture: bytes, ticks: int) -> bytes:
    """§2.4.3.6: a PES packet of video with a PTS."""
    stamp = bytes(
        [0x21 | ticks >> 30 << 1, ticks >> 22 & 255, 1 | ticks >> 14 & 254, ticks >> 7 & 255, 1 | ticks << 1 & 254]
    )
    return b"\0\0\1\xe0\0\0\x80\x80\5" + stamp + picture


class Counters:
    """Packs payloads into packets whose counters run on, stream by stream (§2.4.3.3)."""

    def __init__(self) -> None:
        self._next: dict[int, int] = {}

    def packets(self, pid: int, payload: bytes) -> bytes:
        parts = []
        for at in range(0, len(payload), 184):
            counter = self._next.get(pid, 0)
            self._next[pid] = counter + 1
            parts.append(packet(pid, counter, payload[at : at + 184], starts=at == 0))
        return b"".join(parts)

"""The packets that a stream of Ogg begins with: without them, or with others, nothing decodes what follows.

Follows RFC 7845 §5 (Opus), Vorbis I §4.2 and Theora I §6.
"""

import msgspec

from mudlark.media.sound import opus, vorbis

_NEEDED: dict[str, tuple[bytes, ...]] = {
    "opus": (b"OpusHead", b"OpusTags"),
    "vorbis": vorbis.SIGNS,
    "theora": (b"\x80theora", b"\x81theora", b"\x82theora"),
}
_KEPT = 1024  # bytes of each that tell: what is longer are comments and tables


class Heads(msgspec.Struct):
    """What has come of them. packets: the first bytes of those that ended; begun: of the next."""

    codec: str
    packets: list[bytes] = msgspec.field(default_factory=list)
    begun: bytes = b""

    @property
    def complete(self) -> bool:
        """True if no more are needed."""
        return len(self.packets) >= len(_NEEDED.get(self.codec, ()))

    def take(self, lacing: bytes, body: bytes) -> None:
        """What the next page holds. lacing: its segment table (RFC 3533 §6)."""
        at = 0
        for length in lacing:
            self.begun = (self.begun + body[at : at + length])[:_KEPT]
            at += length
            if length < 255:
                self.packets.append(self.begun)
                self.begun = b""
                if self.complete:
                    return

    def fault(self) -> str:
        """What is wrong with them, in words; empty if a decoder can begin."""
        needed = _NEEDED.get(self.codec, ())
        for number, (packet, sign) in enumerate(zip(self.packets, needed, strict=False), 1):
            if not packet.startswith(sign):
                return f"packet {number} of the {self.codec} stream is none of its headers"
        if not self.complete:
            return f"{len(needed) - len(self.packets)} headers of its {self.codec} stream are missing"
        head = self.packets[0] if self.packets else b""
        if self.codec == "opus":
            return opus.fault(head[8:9], head[9:10], head[18:])
        return vorbis.fault(head) if self.codec == "vorbis" else ""

"""The headers of Vorbis, without which nothing of it can be decoded (Vorbis I §4.2)."""

SIGNS = (b"\x01vorbis", b"\x03vorbis", b"\x05vorbis")  # its description, its comments, its tables
_LEAST_BLOCK, _LARGEST_BLOCK = 6, 13  # as powers of two


def fault(head: bytes) -> str:
    """What is wrong with the first header (§4.2.2), in words; empty if nothing is."""
    if len(head) < 30 or any(head[7:11]):
        return "the header of its vorbis stream is of no version that is known"
    small, large = head[28] & 15, head[28] >> 4
    if not head[11] or not any(head[12:16]):
        return "its vorbis stream states no channels, or no sampling rate"
    if not _LEAST_BLOCK <= small <= large <= _LARGEST_BLOCK or not head[29] & 1:
        return "the header of its vorbis stream contradicts itself"
    return ""


def fault_of_headers(packed: bytes) -> str:
    """The same of all three, as Matroska packs them: how many more follow the first, the sizes of all but the last in
    bytes of 255 and a last one that is less, and the headers."""
    at, sizes = 1, list[int]()
    for _ in range(packed[0] if packed else 0):
        size = 0
        while at < len(packed) and packed[at] == 255:
            size, at = size + 255, at + 1
        sizes.append(size + (packed[at] if at < len(packed) else 0))
        at += 1
    headers = []
    for size in [*sizes, max(0, len(packed) - at - sum(sizes))]:
        headers.append(packed[at : at + size])
        at += size
    if len(headers) != len(SIGNS) or not all(map(bytes.startswith, headers, SIGNS)):
        return "its vorbis stream does not have its three headers"
    return fault(headers[0])

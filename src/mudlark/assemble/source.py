"""Segments from the disk into memory that is used again and again, decrypted on the way.

AES-128 in CBC mode with PKCS7 padding, as RFC 8216 §4.3.2.4 has it. What is on the disk stays as it was served.
"""

from mudlark.errors import FormatError
from mudlark.fetch.place import Place

_BLOCK = 16


class SectionReader:
    """Reads what is fetched. What it gives holds until it is asked again."""

    def __init__(self) -> None:
        self._memory = bytearray()
        self._clear = bytearray()

    def read(self, place: Place, key: bytes | None = None, iv: bytes = b"") -> memoryview:
        """The bytes of a segment. Raises FormatError where they are not encrypted as they should be."""
        data = self._load(place)
        return data if key is None else self._decrypt(data, key, iv)

    def whole(self, place: Place, key: bytes | None = None, iv: bytes = b"") -> bytes:
        """The same as bytes of their own, for what is small."""
        data = place.read()
        return data if key is None else bytes(SectionReader()._decrypt(memoryview(data), key, iv))

    def _load(self, place: Place) -> memoryview:
        size = place.length
        with place.path.open("rb", buffering=0) as file:
            file.seek(place.offset)
            if size > len(self._memory):
                self._memory = bytearray(size + size // 4)
            at, view = 0, memoryview(self._memory)
            while at < size and (got := file.readinto(view[at:size])):
                at += got
            return view[:at]

    def _decrypt(self, data: memoryview, key: bytes, iv: bytes) -> memoryview:
        from cryptography.hazmat.primitives.ciphers import Cipher, algorithms, modes  # films in clear need none of it

        if not len(data) or len(data) % _BLOCK:
            raise FormatError(f"It is {len(data):,} bytes long, and what is encrypted comes in blocks of {_BLOCK}")
        if len(data) + _BLOCK > len(self._clear):
            self._clear = bytearray(len(data) + len(data) // 4 + _BLOCK)
        decryptor = Cipher(algorithms.AES(key), modes.CBC(iv)).decryptor()
        length = decryptor.update_into(data, self._clear)
        clear = memoryview(self._clear)[:length]
        padding = clear[-1]
        if not 1 <= padding <= _BLOCK or any(byte != padding for byte in clear[-padding:]):
            raise FormatError("Its padding is wrong: it was cut off, or encrypted with another key")
        return clear[:-padding]

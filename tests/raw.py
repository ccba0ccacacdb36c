"""A server that says byte for byte what it is told."""

import socket
import threading
from collections.abc import Callable
from contextlib import suppress

Script = bytes | Callable[[socket.socket], None]


class Raw:
    """Says what it is told, connection by connection, and closes; the last word is repeated."""

    def __init__(self) -> None:
        self.script: list[Script] = []
        self.asked: list[bytes] = []
        self._server = socket.create_server(("127.0.0.1", 0))
        self.url = f"http://127.0.0.1:{self._server.getsockname()[1]}"
        threading.Thread(target=self._serve, daemon=True).start()

    def _serve(self) -> None:
        with suppress(OSError):
            while True:
                client, _ = self._server.accept()
                threading.Thread(target=self._answer, args=(client,), daemon=True).start()

    def _answer(self, client: socket.socket) -> None:
        with suppress(OSError), client:
            self.asked.append(client.recv(65536))
            word = self.script.pop(0) if len(self.script) > 1 else self.script[0]
            if isinstance(word, bytes):
                client.sendall(word)
                client.shutdown(socket.SHUT_WR)
                client.recv(65536)
            else:
                word(client)

    def close(self) -> None:
        self._server.close()


def head(*fields: str, status: str = "200 OK") -> bytes:
    return "\r\n".join([f"HTTP/1.1 {status}", *fields, "", ""]).encode()

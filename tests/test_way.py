"""The way to a server: certificates that the user trusts, and proxies."""

import asyncio
import ipaddress
import socket
import ssl
import threading
from collections.abc import Iterator
from contextlib import suppress
from datetime import UTC, datetime, timedelta
from http.client import HTTPConnection
from http.server import ThreadingHTTPServer
from pathlib import Path
from urllib.parse import urlsplit

import pytest
from cryptography import x509
from cryptography.hazmat.primitives import hashes, serialization
from cryptography.hazmat.primitives.asymmetric import ec
from cryptography.x509.oid import NameOID

from mudlark.errors import NetworkError
from mudlark.web.connection import Connection
from mudlark.web.passing import Backoff
from mudlark.web.session import Session
from tests.conftest import SOON, Answer, QuietHandler, Trouble

ONCE = Backoff(tries=1)


def get(url: str, **settings: object) -> bytes:
    async def work() -> bytes:
        connection = Connection(backoff=ONCE, **settings)  # type: ignore[arg-type]
        async with Session(connection) as session, session.open(url) as reply:
            return b"".join([chunk async for chunk in reply.chunks])

    return asyncio.run(work())


def certificate(folder: Path) -> Path:
    """A certificate for this machine, signed by itself, with its key."""
    key = ec.generate_private_key(ec.SECP256R1())
    name = x509.Name([x509.NameAttribute(NameOID.COMMON_NAME, "media.museum.example")])
    now = datetime.now(UTC)
    signed = (
        x509.CertificateBuilder()
        .subject_name(name)
        .issuer_name(name)
        .public_key(key.public_key())
        .serial_number(1)
        .not_valid_before(now - timedelta(days=1))
        .not_valid_after(now + timedelta(days=1))
        .add_extension(x509.SubjectAlternativeName([x509.IPAddress(ipaddress.ip_address("127.0.0.1"))]), critical=False)
        .sign(key, hashes.SHA256())
    )
    path = folder / "own.pem"
    path.write_bytes(
        key.private_bytes(serialization.Encoding.PEM, serialization.PrivateFormat.PKCS8, serialization.NoEncryption())
        + signed.public_bytes(serialization.Encoding.PEM)
    )
    return path


class _Safe(QuietHandler):
    def do_GET(self) -> None:
        body = b"film" * 100_000
        self.send_response(200)
        if self.path == "/short":  # neither a length nor an end that TLS would tell
            self.send_header("Content-Length", str(len(body)))
            self.end_headers()
            self.wfile.write(body[:1000])
            self.connection.shutdown(socket.SHUT_RDWR)
            return
        self.send_header("Content-Length", str(len(body)))
        self.end_headers()
        self.wfile.write(body)


@pytest.fixture
def safe(tmp_path: Path) -> Iterator[tuple[str, Path]]:
    path = certificate(tmp_path)
    context = ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER)
    context.load_cert_chain(path)
    server = ThreadingHTTPServer(("127.0.0.1", 0), _Safe)
    server.daemon_threads = True
    server.socket = context.wrap_socket(server.socket, server_side=True)
    threading.Thread(target=server.serve_forever, args=(SOON,), daemon=True).start()
    yield f"https://127.0.0.1:{server.server_port}", path
    server.shutdown()
    server.server_close()


def test_a_certificate_is_trusted_when_the_user_does(safe: tuple[str, Path]) -> None:
    url, path = safe
    with pytest.raises(NetworkError, match="does not prove its identity: its certificate is self-signed") as told:
        get(f"{url}/film")
    assert "--trust" in told.value.advice
    assert get(f"{url}/film", trust=str(path)) == b"film" * 100_000


def test_a_safe_connection_that_is_cut_gives_no_whole_body(safe: tuple[str, Path]) -> None:
    url, path = safe
    with pytest.raises(NetworkError):
        get(f"{url}/short", trust=str(path))


class _Proxy(QuietHandler):
    def do_GET(self) -> None:
        self.server.asked.append(self.path)  # type: ignore[attr-defined]
        parts = urlsplit(self.path)
        way = HTTPConnection(parts.netloc, timeout=10)
        way.request("GET", parts.path)
        answer = way.getresponse()
        body = answer.read()
        self.send_response(answer.status)
        self.send_header("Content-Length", str(len(body)))
        self.end_headers()
        self.wfile.write(body)


@pytest.fixture
def proxy() -> Iterator[tuple[str, list[str]]]:
    server = ThreadingHTTPServer(("127.0.0.1", 0), _Proxy)
    server.daemon_threads = True
    server.asked = []  # type: ignore[attr-defined]
    threading.Thread(target=server.serve_forever, args=(SOON,), daemon=True).start()
    yield f"http://127.0.0.1:{server.server_port}", server.asked  # type: ignore[attr-defined]
    server.shutdown()
    server.server_close()


def test_a_proxy_is_gone_through_when_it_is_named_or_the_environment_is_asked(
    proxy: tuple[str, list[str]], trouble: Trouble, monkeypatch: pytest.MonkeyPatch
) -> None:
    address, asked = proxy
    url = trouble.say("/film", Answer(b"film"))
    for name in ("no_proxy", "NO_PROXY", "all_proxy", "ALL_PROXY", "HTTP_PROXY", "https_proxy", "HTTPS_PROXY"):
        monkeypatch.delenv(name, raising=False)
    monkeypatch.setenv("http_proxy", address)
    assert get(url) == b"film" and asked == []
    assert get(url, proxy=address) == b"film" and asked == [url]
    assert get(url, proxy="env") == b"film" and asked == [url, url]


def _pump(source: socket.socket, target: socket.socket) -> None:
    with suppress(OSError):
        while data := source.recv(65536):
            target.sendall(data)
        target.shutdown(socket.SHUT_WR)


def _tunnel(client: socket.socket, wanted: list[tuple[str, int]]) -> None:
    """RFC 1928, as far as a client without a password needs it."""
    client.recv(2 + 255)
    client.sendall(b"\5\0")
    head = client.recv(262)
    host, port = socket.inet_ntoa(head[4:8]), int.from_bytes(head[8:10], "big")
    wanted.append((host, port))
    there = socket.create_connection((host, port))
    client.sendall(b"\5\0\0\1" + bytes(6))
    threading.Thread(target=_pump, args=(there, client), daemon=True).start()
    _pump(client, there)


@pytest.fixture
def socks() -> Iterator[tuple[str, list[tuple[str, int]]]]:
    wanted: list[tuple[str, int]] = []
    server = socket.create_server(("127.0.0.1", 0))

    def accept() -> None:
        with suppress(OSError):
            while True:
                client, _ = server.accept()
                threading.Thread(target=_tunnel, args=(client, wanted), daemon=True).start()

    threading.Thread(target=accept, daemon=True).start()
    yield f"socks5://127.0.0.1:{server.getsockname()[1]}", wanted
    server.close()


def test_a_socks_proxy_is_gone_through(
    socks: tuple[str, list[tuple[str, int]]], trouble: Trouble, monkeypatch: pytest.MonkeyPatch
) -> None:
    address, wanted = socks
    url = trouble.say("/film", Answer(b"film"))
    port = urlsplit(url).port
    assert get(url, proxy=address) == b"film" and wanted == [("127.0.0.1", port)]
    monkeypatch.setenv("all_proxy", address)
    assert get(url, proxy="env") == b"film" and len(wanted) == 2


def test_a_proxy_that_is_not_there_is_said() -> None:
    with pytest.raises(NetworkError):
        get("http://127.0.0.1:9/film", proxy="socks5://127.0.0.1:9")
    with pytest.raises(NetworkError):
        get("http://127.0.0.1:9/film", proxy="http://127.0.0.1:9")

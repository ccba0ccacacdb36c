"""A server for benchmarks, in a process of its own: bodies of zeros by path (/bytes/N?…), or files of a folder.

Usage: server.py DELAY_MS [FOLDER]. Prints its port. Plain asyncio, so that it costs little beside what is measured.
"""

import asyncio
import sys
from pathlib import Path

DELAY = float(sys.argv[1]) / 1000
FOLDER = Path(sys.argv[2]) if len(sys.argv) > 2 else None
BLOCK = bytes(range(256)) * 1024


async def serve(reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
    try:
        while (head := await reader.readuntil(b"\r\n\r\n")) != b"":
            path = head.split(b" ", 2)[1].partition(b"?")[0].decode()
            if DELAY:
                await asyncio.sleep(DELAY)
            if path.startswith("/bytes/"):
                size = int(path[7:])
                writer.write(b"HTTP/1.1 200 OK\r\nContent-Length: %d\r\n\r\n" % size)
                while size > 0:
                    writer.write(BLOCK[: min(size, len(BLOCK))])
                    size -= len(BLOCK)
                    await writer.drain()
            elif FOLDER and (body := (FOLDER / path.lstrip("/")).read_bytes()):
                writer.write(b"HTTP/1.1 200 OK\r\nContent-Length: %d\r\n\r\n" % len(body))
                writer.write(body)
                await writer.drain()
    except (asyncio.IncompleteReadError, ConnectionError):
        writer.close()


async def main() -> None:
    server = await asyncio.start_server(serve, "127.0.0.1", 0, limit=1 << 16)
    print(server.sockets[0].getsockname()[1], flush=True)
    await server.serve_forever()


asyncio.run(main())

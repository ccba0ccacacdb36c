"""Connections that go no further than a Reach: each hop is judged before a connection is taken or made."""

import asyncio
import socket
from typing import Any
from urllib.parse import urlsplit

from aiohttp.abc import AbstractResolver, ResolveResult

from mudlark.errors import NetworkError
from mudlark.text import printable
from mudlark.web.client import aiohttp
from mudlark.web.reach import Reach, is_public


class _Resolver(AbstractResolver):
    """Looks names up as usual, and gives only addresses that may be asked."""

    def __init__(self, reach: Reach) -> None:
        self._reach = reach
        self._usual = aiohttp.ThreadedResolver()

    async def resolve(
        self, host: str, port: int = 0, family: socket.AddressFamily = socket.AF_INET
    ) -> list[ResolveResult]:
        found = await self._usual.resolve(host, port, family)
        self._reach.admit(host, [one["host"] for one in found])
        return found

    async def close(self) -> None:
        await self._usual.close()


class BoundedConnector(aiohttp.TCPConnector):
    """A connector that asks a Reach first; redirects come by here as well. Raises Refused."""

    def __init__(self, reach: Reach, **given: Any) -> None:
        super().__init__(resolver=_Resolver(reach), **given)
        self._reach = reach

    async def connect(self, req: aiohttp.ClientRequest, *more: Any, **named: Any) -> aiohttp.connector.Connection:
        self._reach.enter(req.url.host or "")
        return await super().connect(req, *more, **named)


async def judge(reach: Reach, address: str) -> None:
    """Raises Refused for an address that a browser may not be let go to, NetworkError where its name leads nowhere."""
    host = urlsplit(address).hostname or ""
    reach.enter(host)
    reach.admit(host, await _addresses(host))


async def leads_to_private(address: str) -> bool:
    """True if the host of an address is on this machine or in a private network. Raises NetworkError where its name
    leads nowhere."""
    return not all(map(is_public, await _addresses(urlsplit(address).hostname or "")))


async def _addresses(host: str) -> list[str]:
    try:
        found = await asyncio.get_running_loop().getaddrinfo(host, None, type=socket.SOCK_STREAM)
    except (OSError, UnicodeError) as problem:
        raise NetworkError(f"The name {printable(host)} leads nowhere.", "Is the network there?") from problem
    return [str(entry[4][0]) for entry in found]

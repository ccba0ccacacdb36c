"""What a browser is served on this machine alone, as long as it is needed."""

from collections.abc import AsyncIterator, Awaitable, Callable, Mapping
from contextlib import asynccontextmanager

from aiohttp import web

Answer = Callable[[web.Request], Awaitable[web.StreamResponse]]


@asynccontextmanager
async def served(answers: Mapping[str, Answer]) -> AsyncIterator[str]:
    """Serve at a free port of loopback. answers: what gives what stands under a path. Gives the origin, without a slash
    at its end."""
    application = web.Application()
    for path, answer in answers.items():
        application.router.add_get(path, answer)
    runner = web.AppRunner(application, access_log=None)
    await runner.setup()
    try:
        await web.TCPSite(runner, "127.0.0.1", 0).start()
        yield f"http://127.0.0.1:{runner.addresses[0][1]}"
    finally:
        await runner.cleanup()

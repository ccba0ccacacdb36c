"""Trying again what failed in a way that may pass."""

import asyncio
import logging
from collections.abc import Awaitable, Callable
from typing import TypeVar

from mudlark.errors import NetworkError
from mudlark.web.passing import Backoff, Passing
from mudlark.web.redact import redacted

T = TypeVar("T")
_log = logging.getLogger(__name__)


async def persist(
    attempt: Callable[[], Awaitable[T]], backoff: Backoff, on_retry: Callable[[Passing], None] | None = None
) -> T:
    """Call `attempt` until it succeeds, fails for good, or the tries are used up."""
    failures = 0
    while True:
        try:
            return await attempt()
        except Passing as problem:
            failures += 1
            if failures >= backoff.tries:
                tries = "1 try" if failures == 1 else f"{failures} tries"
                what = f"{problem.what.rstrip('.')} ({tries})."
                raise NetworkError(what, problem.advice, problem.status, url=problem.url) from problem
            _log.info(
                "trying again", extra={"facts": {"url": problem.url and redacted(problem.url), "why": problem.what}}
            )
            if on_retry:
                on_retry(problem)
            await asyncio.sleep(backoff.wait(failures, problem.retry_after))

"""Several things at once: when one fails, the others are ended before the failure is raised."""

import asyncio
from collections.abc import Coroutine, Iterable
from typing import Any, TypeVar

T = TypeVar("T")


async def together(work: Iterable[Coroutine[Any, Any, T]]) -> list[T]:
    """The results, in the order given; or the first failure."""
    try:
        async with asyncio.TaskGroup() as group:
            tasks = [group.create_task(one) for one in work]
    except BaseExceptionGroup as failures:
        raise failures.exceptions[0] from failures
    return [task.result() for task in tasks]

"""Rows on the workers of a Dask cluster (the `distributed` package), which share the target folder.

Each row has its share of the lanes, of the rate and of the gap between two requests, so that all workers together treat
no host worse than one program would. A worker that dies has its row done by another, which goes on from what is in the
folder; a worker that does not see the folder is not used.

Who can talk to a scheduler can run code on its workers. That of `local:N` listens on loopback, at a port taken by
chance, and to nobody without the key that only this program and its workers know. What a shared scheduler means is said
in docs/collections.md.
"""

import asyncio
import logging
import secrets
from collections.abc import Iterator
from contextlib import AsyncExitStack, contextmanager
from pathlib import Path
from typing import Any, Self

from msgspec.structs import replace

from mudlark.errors import MudlarkError, StorageError, UsageError
from mudlark.fetch.store import WORKING
from mudlark.hauling.order import HaulWatch, Item, Order
from mudlark.hauling.steps import haul
from mudlark.web.connection import Connection
from mudlark.web.session import Session

_STARTING = 60.0  # seconds that the first worker may take to appear
_LOCAL = "local:"


class Cluster:
    """Use as `async with Cluster(address, connection, into) as cluster`; then each call hauls one order somewhere.

    address: of a scheduler (tcp://host:8786), or local:N for N workers on this machine. at_once: how many orders run
    side by side. without: workers that do not see the folder. Raises UsageError, or StorageError where none sees it.
    """

    def __init__(self, address: str, connection: Connection, into: Path) -> None:
        self._address = address
        self._connection = connection
        self._into = into
        self._real = into.absolute()
        self._stack = AsyncExitStack()
        self._client: Any = None
        self._workers: list[str] = []
        self.at_once = 1
        self.without: list[str] = []

    async def __aenter__(self) -> Self:
        try:
            import distributed
        except ImportError as problem:
            raise UsageError(
                "Sweeping with a cluster needs the `distributed` package.",
                "Install it with: python -m pip install 'mudlark[cluster]'",
            ) from problem
        logging.getLogger("distributed").setLevel(logging.CRITICAL)  # what matters is told by the rows
        try:
            self._client = await self._connected(distributed)
            await self._look_round()
        except BaseException:
            await self._stack.aclose()
            raise
        return self

    async def _connected(self, distributed: Any) -> Any:
        address: Any = self._address
        security = None
        if address.startswith(_LOCAL):
            count = address.removeprefix(_LOCAL)
            if not (count.isascii() and count.isdigit()) or not 1 <= int(count) <= 64:
                raise UsageError(f"{address!r} names no number of workers.", "Write it as local:4.")
            self._stack.enter_context(_without_pages())
            security = distributed.Security.temporary()  # a key that only this program and its workers know
            local = distributed.LocalCluster(
                n_workers=int(count),
                threads_per_worker=1,
                host="127.0.0.1",
                protocol="tls://",
                security=security,
                dashboard_address="127.0.0.1:0",
                worker_dashboard_address="127.0.0.1:0",
                silence_logs=logging.CRITICAL,
                asynchronous=True,
            )
            address = await self._stack.enter_async_context(local)
        try:
            client = distributed.Client(
                address, security=security, asynchronous=True, timeout=_STARTING, set_as_default=False
            )
            await self._stack.enter_async_context(client)
            await client.wait_for_workers(1, timeout=_STARTING)
        except (OSError, TimeoutError, ValueError) as problem:
            raise UsageError(
                f"There is no scheduler with workers at {self._address}: {problem}.",
                "Start one with `dask scheduler` and `dask worker`, or use --cluster local:4.",
            ) from problem
        return client

    async def _look_round(self) -> None:
        """Which workers see the folder."""
        with _token(self._real) as token:
            try:
                sees: dict[str, bool] = await self._client.run(_sees, str(token))
            except Exception as problem:  # whatever they lack
                raise UsageError(
                    f"The workers cannot run Mudlark: {problem}.", "Install the same version where they run."
                ) from problem
        self._workers = [worker for worker, there in sees.items() if there]
        self.without = [worker for worker, there in sees.items() if not there]
        if not self._workers:
            raise StorageError(
                f"None of {len(sees)} workers sees {self._real} as this machine does.",
                "Give a folder that they share, under the same path.",
            )
        threads = await self._client.nthreads()
        self.at_once = max(1, sum(threads.get(worker, 1) for worker in self._workers))

    async def __aexit__(self, *_: object) -> None:
        await self._stack.aclose()

    async def __call__(self, order: Order, watch: HaulWatch) -> list[Item]:
        """What an order leaves, hauled by any of the workers."""
        share = _share(self._connection, self.at_once)
        order = replace(order, into=self._real)
        future = self._client.submit(_haul, order, share, pure=False, retries=0, workers=self._workers)
        try:
            items, failures, problem = await future
        except asyncio.CancelledError:
            await future.cancel()
            raise
        except Exception as broken:
            if isinstance(broken, MudlarkError):
                raise
            raise MudlarkError(
                f"The workers that had this row ended: {broken}.", "Look into their logs, and sweep again."
            ) from broken
        for failure in failures:
            watch.on_failure(failure)
        if problem:
            raise problem
        return [replace(item, folder=self._here(item.folder), kept=self._here(item.kept)) for item in items]

    def _here(self, path: Path | None) -> Path | None:
        """A path as this program was given its folder."""
        return self._into / path.relative_to(self._real) if path and path.is_relative_to(self._real) else path


def _share(connection: Connection, rows: int) -> Connection:
    """How one of several rows may talk to servers."""
    return replace(
        connection,
        lanes=max(1, connection.lanes // rows),
        rate=connection.rate / rows if connection.rate else None,
        gap=connection.gap * rows,
    )


def _haul(order: Order, connection: Connection) -> tuple[list[Item], list[MudlarkError], MudlarkError | None]:
    """On a worker: what an order leaves, what failed of it, and why all of it did."""
    failures: list[MudlarkError] = []

    async def work() -> list[Item]:
        async with Session(connection) as session:
            return [item async for item in haul(session, order, HaulWatch(on_failure=failures.append))]

    if not order.into.is_dir():
        problem = StorageError(f"A worker does not see {order.into}.", "Give a folder that all workers share.")
        return [], [], problem
    try:
        return asyncio.run(work()), failures, None
    except MudlarkError as problem:
        return [], failures, problem


@contextmanager
def _without_pages() -> Iterator[None]:
    """A scheduler and workers that serve no page about themselves while this lasts."""
    import dask

    with dask.config.set({"distributed.scheduler.http.routes": [], "distributed.worker.http.routes": []}):
        yield


@contextmanager
def _token(folder: Path) -> Iterator[Path]:
    """A file by which workers show that they see the same folder."""
    path = folder / WORKING / f"seen-{secrets.token_hex(8)}"
    try:
        path.parent.mkdir(parents=True, exist_ok=True, mode=0o700)
        path.touch()
    except OSError as problem:
        raise StorageError(
            f"Cannot write into {folder}: {problem.strerror}.", "Choose another with --into."
        ) from problem
    try:
        yield path
    finally:
        path.unlink(missing_ok=True)


def _sees(path: str) -> bool:
    return Path(path).exists()

"""Progress of looking, on stderr: one line that changes on a terminal, nothing elsewhere."""

from abc import ABC, abstractmethod
from types import TracebackType
from typing import Self

from rich.status import Status
from rich.text import Text

from mudlark.browser.options import ListenWatch
from mudlark.cli.show import messages
from mudlark.text import visible


class OnScreen(ABC):
    """Something on the screen that is taken away at the end; use as `with …`."""

    def __enter__(self) -> Self:
        return self

    def __exit__(
        self, kind: type[BaseException] | None, problem: BaseException | None, trace: TracebackType | None
    ) -> None:
        self.stop()

    @abstractmethod
    def stop(self) -> None:
        """Take it away."""


class Steps(OnScreen, ListenWatch):
    """Use as `with Steps() as steps`."""

    def __init__(self) -> None:
        super().__init__(self._came)
        self._console = messages()
        self._status: Status | None = None

    def stop(self) -> None:
        """Take the line away."""
        if self._status:
            self._status.stop()
            self._status = None

    def _came(self, step: str, requests: int) -> None:
        self.say(f"{step} … {requests:,} requests")

    def say(self, text: str) -> None:
        """Show a line in place of the one before."""
        if not self._console.is_terminal or self._console.quiet:
            return
        if self._status is None:
            self._status = self._console.status("", spinner="line")
            self._status.start()
        self._status.update(Text(visible(text)))

"""What was recorded of an endless body: its bytes in one file, and beside it, line by line, when they came.

Both stay in the store until the item has its place, so that a run that was killed is gone on with: what was missed
until then is a gap like any other.
"""

from contextlib import suppress
from pathlib import Path
from typing import BinaryIO, Self

import msgspec

from mudlark.errors import StorageError
from mudlark.manifest.radio import COMPARED
from mudlark.plain import add_to_plain, read_plain

_LARGEST = 500_000_000  # bytes of the lines: a second takes some forty
_BEFORE = 65_536  # bytes in which those that tell where it goes on may not come twice
_BEAT = 1.0  # seconds between two lines that only say that it goes on


class _Line(msgspec.Struct, omit_defaults=True):
    """now: seconds since 1970, up to which there is sound. bytes: that there are. title: one that begins there. gap:
    seconds that are missing before now."""

    now: float
    bytes: int
    title: str | None = None
    gap: float = 0.0


_decoder = msgspec.json.Decoder(_Line)


class Tape(msgspec.Struct):
    """Use as a context manager while it is added to. folder: of the store. size: bytes of sound so far. begun, last:
    seconds since 1970 of the first and the last of them. titles: each with the byte at which it began. gaps: since when
    (seconds since 1970), and how many seconds. resumed: an earlier run has recorded some of it. lost_at:
    since when nothing came, 0 if it does."""

    folder: Path
    size: int = 0
    begun: float = 0.0
    last: float = 0.0
    titles: list[tuple[int, str]] = msgspec.field(default_factory=list)
    gaps: list[tuple[float, float]] = msgspec.field(default_factory=list)
    resumed: bool = False
    lost_at: float = 0.0
    _carried: float = 0.0
    _run_begun: float = 0.0
    _sound: BinaryIO | None = None
    _lines: BinaryIO | None = None
    _told: float = 0.0

    @property
    def path(self) -> Path:
        """The file of sound."""
        return self.folder / "tape"

    @property
    def length(self) -> float:
        """Seconds from the first byte to the last, gaps included."""
        return self.last - self.begun

    def recorded(self, now: float) -> float:
        """Seconds of recording so far, without those between two runs."""
        return self._carried + (now - self._run_begun if self._run_begun else 0.0)

    def __enter__(self) -> Self:
        """Open it, with what an earlier run has left in it."""
        with self._words():
            with suppress(FileNotFoundError):
                self._read_lines(read_plain(self.folder / "tape.jsonl", _LARGEST))
            self._sound = add_to_plain(self.path, 0o666)
            self._lines = add_to_plain(self.folder / "tape.jsonl", lines=True)
            self.size = self._sound.tell()
        self.titles = [(at, title) for at, title in self.titles if at <= self.size]
        self.resumed = self.size > 0
        if self.size and self.begun:
            self.last = max(self.last, self.path.stat().st_mtime)
        elif self.size:  # its lines are lost
            self.begun = self.last = self.path.stat().st_mtime
        self._carried, self.lost_at = self.length, self.last
        return self

    def __exit__(self, *_: object) -> None:
        for file in (self._sound, self._lines):
            if file:
                with suppress(OSError):  # what the disk did not take was said already
                    file.close()

    def _read_lines(self, text: bytes) -> None:
        for written in text.split(b"\n"):
            with suppress(ValueError, RecursionError):  # the last may have been cut off
                line = _decoder.decode(written)
                self.begun = self.begun or line.now
                self.last = line.now
                if line.title is not None:
                    self.titles.append((line.bytes, line.title))
                if line.gap:
                    self.gaps.append((line.now - line.gap, line.gap))

    def begins_with(self, opening: bytes) -> bool:
        """True if it begins with these bytes."""
        assert self._sound
        self._sound.flush()
        with self.path.open("rb") as file:
            return file.read(len(opening)) == opening

    def end(self) -> bytes:
        """Its last bytes, by which it is known where it goes on; none where the very last were heard just before as
        well, as silence is."""
        assert self._sound
        self._sound.flush()
        with self.path.open("rb") as file:
            file.seek(max(0, self.size - _BEFORE))
            last = file.read(_BEFORE)
        end = last[-COMPARED:]
        return last if last.find(end) == len(last) - len(end) else b""

    def came(self, data: bytes, now: float) -> None:
        """Add bytes. Raises StorageError where the disk takes no more."""
        assert self._sound
        with self._words():
            self._sound.write(data)
        self.size += len(data)
        self.begun, self.last, self._run_begun = self.begun or now, now, self._run_begun or now
        if now - self._told > _BEAT:
            self._say(_Line(now, self.size))

    def title(self, title: str, now: float) -> None:
        """Note a title that begins here."""
        self.titles.append((self.size, title))
        self._say(_Line(now, self.size, title=title))

    def gap(self, since: float, now: float) -> None:
        """Note that something is missing here."""
        self.gaps.append((since, now - since))
        self._say(_Line(now, self.size, gap=now - since))

    def _say(self, line: _Line) -> None:
        assert self._sound and self._lines
        with self._words():
            self._sound.flush()
            self._lines.write(msgspec.json.encode(line) + b"\n")
            self._lines.flush()
        self._told = line.now

    def _words(self) -> "_Words":
        return _Words(self.path)


class _Words(msgspec.Struct):
    """What the disk does not do, in words."""

    path: Path

    def __enter__(self) -> None: ...

    def __exit__(self, kind: type[BaseException] | None, problem: BaseException | None, _trace: object) -> None:
        if isinstance(problem, OSError):
            raise StorageError(
                f"The disk takes no more of the recording: {problem.strerror or problem}.",
                "Make room; the same command goes on from here.",
            ) from problem

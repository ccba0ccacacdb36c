"""What looking into a file tells beside its checks."""

import msgspec

from mudlark.media.samples import Format


class Found(msgspec.Struct):
    """length: seconds. formats: of its tracks. contents: names and bytes of what is inside. samples: of each track."""

    length: float | None = None
    formats: list[Format] = msgspec.field(default_factory=list)
    contents: list[tuple[str, int]] = msgspec.field(default_factory=list)


def at_second(seconds: float) -> str:
    """A place in a film or sound, for people."""
    minutes, rest = divmod(seconds, 60)
    hours, minutes = divmod(int(minutes), 60)
    return f"{hours}:{minutes:02d}:{rest:04.1f}" if hours else f"{minutes}:{rest:04.1f}"

"""What looking into a file tells beside its checks."""

from dataclasses import dataclass, field

from mudlark.media.samples import Format


@dataclass(slots=True)
class Found:
    """length: seconds. formats: of its tracks. contents: names and bytes of what is inside. samples: of each track."""

    length: float | None = None
    formats: list[Format] = field(default_factory=list)
    contents: list[tuple[str, int]] = field(default_factory=list)


def at_second(seconds: float) -> str:
    """A place in a film or sound, for people."""
    minutes, rest = divmod(seconds, 60)
    hours, minutes = divmod(int(minutes), 60)
    return f"{hours}:{minutes:02d}:{rest:04.1f}" if hours else f"{minutes}:{rest:04.1f}"

"""Making an item of a stream: its renditions become one film, its subtitles texts beside it."""

import asyncio
from collections.abc import Iterable, Sequence
from functools import partial
from pathlib import Path

import msgspec

from mudlark.archive.naming import safe_name
from mudlark.archive.record import FileFacts, Note
from mudlark.assemble.film import Assembled, Voice, assemble
from mudlark.assemble.output import ChosenFile, Output
from mudlark.assemble.parts import Parts, part_of
from mudlark.assemble.subtitles import TextSource, join
from mudlark.errors import FormatError, MudlarkError, NetworkError
from mudlark.fetch.engine import Outcome
from mudlark.hauling.work import Fetching, Made, Work, jobs_of
from mudlark.manifest.choose import Taken
from mudlark.media.codec_names import is_sound
from mudlark.media.mp4.about import About
from mudlark.media.readers import READERS, container
from mudlark.media.samples import Loss, LossCode, TrackLabel
from mudlark.text import counted
from mudlark.verify.account import Problem
from mudlark.verify.fixity import digest

_FEW = 3  # segments that cannot be read and are worth another try, or a tenth of all
_SPANS = frozenset({LossCode.SILENCE, LossCode.HOLE, LossCode.UNTRIMMED})
LARGEST = 2_000_000_000  # bytes of a segment, which is read into memory
_SPLICE = 0.25  # seconds at a splice that sound may lack or have twice
_LARGEST_COVER = 4_000_000  # bytes
_TEXTS = frozenset({"html", "json", "xml", "hls", "dash"})  # what a server sends where it has no segment


class _Round(msgspec.Struct):
    """What came of fetching and assembling all segments once: the film, why segments are missing, the segments of
    subtitles by their rendition, and the names of the renditions that are in the film, by number."""

    assembled: Assembled
    missing: list[str]
    texts: dict[str, list[Outcome]]
    names: list[str]

    @property
    def unreadable(self) -> list[tuple[str, int]]:
        """Segments that came and cannot be read, by rendition and number."""
        return [(self.names[part.rendition], part.number) for part, _ in self.assembled.unreadable]


async def make_film(work: Work, fetching: Fetching) -> Made:
    """Fetch segments, and assemble them in a thread while the later ones are still being fetched. A few that cannot be
    read are fetched once more: the server may have sent something else in their place."""
    work.watch.on_step("Fetching")
    one_round = await _fetch_and_assemble(work, fetching)
    unreadable = one_round.unreadable
    work.store.distrust(unreadable)
    few = 0 < len(unreadable) <= max(_FEW, fetching.counts.planned // 10)
    if one_round.assembled.segments and few and work.target.presentation.kind != "tap":  # that nobody can be asked for
        work.watch.on_step("Fetching again what cannot be read")
        one_round.assembled.path.unlink(missing_ok=True)
        fetching.begin_again(len(unreadable))
        one_round = await _fetch_and_assemble(work, fetching)
        fetching.went_again()
        work.store.distrust(one_round.unreadable)
    return await _made(work, fetching, one_round)


async def _fetch_and_assemble(work: Work, fetching: Fetching) -> _Round:
    taken = work.target.taken
    voices = {one.rendition.name: voice_of(one) for one in taken if one.rendition.type != "subtitles"}
    numbers = {name: number for number, name in enumerate(voices)}
    stem = work.store.item / work.name
    planned = max((one.rendition.duration or 0.0 for one in taken), default=0.0)
    parts = Parts()
    running = asyncio.create_task(
        asyncio.to_thread(assemble, parts, list(voices.values()), stem, planned, partial(_output, work))
    )
    missing: list[str] = []
    texts: dict[str, list[Outcome]] = {}
    try:
        async with fetching.outcomes(jobs_of(work), check_segment, LARGEST) as outcomes:
            async for outcome in outcomes:
                name = outcome.job.track
                if name not in numbers:
                    texts.setdefault(name, []).append(outcome)
                    continue
                if outcome.place is None:
                    missing.append(outcome.problem or "")
                if running.done():  # it cannot go on: the reason comes with its result
                    break
                parts.put(part_of(outcome, numbers[name]))
        parts.end()
        work.watch.on_step("Assembling")
        assembled = await running
    except BaseException:
        parts.stop()
        await asyncio.gather(running, return_exceptions=True)
        raise
    return _Round(assembled, missing, texts, list(numbers))


async def _made(work: Work, fetching: Fetching, one_round: _Round) -> Made:
    assembled, texts, taken = one_round.assembled, one_round.texts, work.target.taken
    media = assembled.path
    _insist(assembled, one_round.missing)
    losses, notes = _losses(assembled.losses)
    problems = [*_missing_segments(fetching), *_unreadable(assembled), *_short(assembled), *losses]
    problems += _without_picture(taken, assembled)
    problems += _without_sound(taken, assembled)
    beside: list[FileFacts] = []
    for one in taken:
        if one.rendition.type == "subtitles":
            outcomes = texts.get(one.rendition.name, [])
            files, wrong = await asyncio.to_thread(_subtitles, one, outcomes, assembled, media)
            beside += files
            problems += wrong
    families = {one.format.container for one in assembled.frames if one.format}
    if len(families) > 1:
        text = f"Picture and sound came in different containers; {media.suffix} holds both"
        notes.append(Note("container-chosen", text))
    return Made(
        (media,), tuple(beside), tuple(problems), tuple(notes), tuple(assembled.frames), tuple(assembled.events)
    )


def _output(work: Work, target: Path, planned: float, labels: dict[int, TrackLabel]) -> Output:
    page = work.target.page
    date = _began(work) or ((page.date or "") if page else "")
    about = About(work.target.title, date, work.target.key_address, _cover(work.store.item))
    return ChosenFile(target, planned, labels, about, work.target.order.container)


def _began(work: Work) -> str:
    """When a broadcast began, as far as it was recorded and states that."""
    if work.target.presentation.live is None:
        return ""
    segments = (segment for one in work.target.taken for segment in one.rendition.segments or ())
    return next((segment.moment for segment in segments if segment.moment), "")


def _cover(item: Path) -> bytes:
    """The poster that stands in an item already, if it is one that files hold."""
    for path in item.glob("*.poster.*"):
        if path.suffix in (".jpg", ".jpeg", ".png") and path.stat().st_size <= _LARGEST_COVER:
            return path.read_bytes()
    return b""


def voice_of(taken: Taken) -> Voice:
    rendition = taken.rendition
    label = TrackLabel(rendition.language or "", rendition.label or "", taken.default)
    return Voice(taken.types, label)


def check_segment(head: bytes) -> str | None:
    """What is wrong with a segment that begins so."""
    form = container(head)
    if form == "html":
        return "a web page where a segment was expected"
    if form in _TEXTS:
        return f"{form.upper()} where a segment was expected"
    if form not in READERS and form not in ("webvtt", "ttml", "text"):
        return "bytes that are no media segment"
    return None


def _insist(assembled: Assembled, missing: list[str]) -> None:
    """Nothing at all is a failure."""
    if assembled.frames:
        return
    if assembled.segments:
        reasons = "; ".join(dict.fromkeys(problem.message for problem in _losses(assembled.losses)[0]))
        raise MudlarkError(
            f"No picture and no sound in {counted(assembled.segments, 'segment')} can be used"
            f"{f': {reasons}' if reasons else ''}.",
            "They are damaged, or of a form that is not read; haul again, or take another version of it.",
        )
    if assembled.unreadable:
        part, problem = assembled.unreadable[0]
        raise MudlarkError(
            f"Segment {part.number + 1} cannot be read: {problem.what}",
            "The server sent something else than it promised.",
        )
    raise NetworkError(
        f"None of {len(missing)} segments could be fetched. The first: {missing[0] if missing else 'unknown'}",
        "If the link has expired, open the page anew and haul again.",
    )


def _missing_segments(fetching: Fetching) -> Iterable[Problem]:
    begin: dict[str, float] = {}
    for facts in fetching.facts.values():
        since = begin.get(facts.track, 0.0)
        begin[facts.track] = since + facts.duration
        if facts.problem:
            when = f"{since:.1f}–{since + facts.duration:.1f} s{f', {facts.moment}' if facts.moment else ''}"
            yield Problem("segment-missing", f"Segment {facts.number + 1} ({when}) is missing: {facts.problem}")


def _unreadable(assembled: Assembled) -> Iterable[Problem]:
    for part, problem in assembled.unreadable:
        yield Problem("segment-unreadable", f"Segment {part.number + 1} cannot be read: {problem.what}")


def _short(assembled: Assembled) -> Iterable[Problem]:
    for part, seconds in assembled.short:
        text = f"Segment {part.number + 1} lasts {seconds:.2f} s where {part.duration:.2f} s are promised: it came cut"
        yield Problem("segment-short", text, at=round(part.begin + seconds, 3))


def _without_picture(taken: Sequence[Taken], assembled: Assembled) -> Iterable[Problem]:
    """A picture that was promised, or came and could not be begun with, and is not in the film."""
    if any(one.format and one.format.type == "video" for one in assembled.frames):
        return
    promised = any(
        one.rendition.type == "video"
        and "video" in one.types
        and (one.rendition.width or (one.rendition.codecs and not all(map(is_sound, one.rendition.codecs))))
        for one in taken
    )
    if promised or any(loss.code == LossCode.LEADING for loss in assembled.losses):
        yield Problem("picture-missing", "No picture came with which decoding can begin; only the sound was kept")


def _without_sound(taken: Sequence[Taken], assembled: Assembled) -> Iterable[Problem]:
    """A sound that was promised, and is not in the film."""
    heard = sum(one.format is not None and one.format.type == "audio" for one in assembled.frames)
    promised = [one for one in taken if one.rendition.type == "audio"]
    inside = any("audio" in one.types and any(map(is_sound, one.rendition.codecs or ())) for one in taken)
    if heard < len(promised) or (inside and not heard and not promised):
        what = "No sound" if not heard else f"Only {heard} of {len(promised)} sounds"
        yield Problem("sound-missing", f"{what} came, although it was promised")


_WORDS: dict[LossCode, str] = {
    LossCode.STRAY_BYTES: "{count:,} bytes are not transport packets or frames",
    LossCode.PACKETS: "{count:,} transport packets are missing or damaged",
    LossCode.UNDECODABLE: "{count:,} pictures before the first parameter sets cannot be decoded",
    LossCode.LEFT_OUT: "{detail} is not carried over",
    LossCode.REPEATED: "{count:,} samples come a second time; left out",
    LossCode.LEAP: "Timestamps leap by {detail}; joined without a gap",
    LossCode.LEADING: "{count:,} pictures before the first that can be decoded alone are left out",
    LossCode.SILENCE: "{count:,} frames of silence ({detail}) fill holes in the sound",
    LossCode.FORMAT: "The format changes from {detail}: this container keeps one a track",
    LossCode.BESIDE: "Beside picture and sound, {detail} came, which the film has no place for",
    LossCode.UNTRIMMED: "{detail} at the end of the sound, which is not to be heard, is not cut off",
    LossCode.RESIZED: "The picture changes its size: {detail}",
    LossCode.HOLE: "There are holes of {detail} in the sound, for which no silence is known",
}


_DETAILED = frozenset({LossCode.BESIDE, LossCode.LEFT_OUT, LossCode.LEAP, LossCode.RESIZED, LossCode.FORMAT})


def _losses(losses: Iterable[Loss]) -> tuple[list[Problem], list[Note]]:
    """One problem or note for each kind of loss, with its sum and where it was first met."""
    target: dict[tuple[LossCode, str, bool], list[Loss]] = {}
    for loss in losses:
        detail = loss.detail if loss.code in _DETAILED else ""
        target.setdefault((loss.code, detail, _is_slight(loss)), []).append(loss)
    problems: list[Problem] = []
    notes: list[Note] = []
    for (code, detail, slight), alike in target.items():
        count = sum(loss.count for loss in alike)
        seconds = sum(loss.seconds for loss in alike)
        words = _WORDS[code].format(count=count, detail=f"{seconds:.2f} s" if code in _SPANS else detail)
        places = [loss.at for loss in alike if loss.at is not None]
        where = f", first at {min(places):.1f} s" if places and code not in (LossCode.LEFT_OUT, LossCode.BESIDE) else ""
        if slight:
            notes.append(Note(str(code), words + where))
        else:
            problems.append(Problem("loss", words + where))
    return problems, notes


_NO_LOSS = frozenset({LossCode.LEADING, LossCode.RESIZED, LossCode.BESIDE})


def _is_slight(loss: Loss) -> bool:
    """True for what nobody misses: what could not be shown anyway, and splices of sound."""
    if loss.code == LossCode.REPEATED:
        return 0 < loss.seconds <= _SPLICE
    return loss.code in _NO_LOSS or (loss.code in _SPANS and loss.seconds <= _SPLICE)


def _subtitles(
    taken: Taken, outcomes: list[Outcome], assembled: Assembled, media: Path
) -> tuple[list[FileFacts], list[Problem]]:
    """The subtitles of a rendition as one text beside the film."""
    rendition = taken.rendition
    called = rendition.label or rendition.language or rendition.name
    problems = [
        Problem(
            "subtitle-missing", f"Segment {one.job.number + 1} of the subtitles “{called}” is missing: {one.problem}"
        )
        for one in outcomes
        if one.place is None
    ]
    reader = TextSource()
    try:
        parts = [reader.part(part_of(one, 0)) for one in outcomes if one.place]
        text, cues = join(parts, assembled.timeline, assembled.origin)
    except FormatError as problem:
        return [], [*problems, Problem("subtitle-missing", f"The subtitles “{called}” cannot be read: {problem.what}")]
    if not cues and not parts:
        return [], problems
    spoken = safe_name(rendition.language or "") or rendition.name
    stem = f"{media.stem}.{spoken}{'.forced' if rendition.forced else ''}"
    name, number = f"{stem}.vtt", 2
    while media.with_name(name).exists():
        name, number = f"{stem} ({number}).vtt", number + 1
    path = media.with_name(name)
    path.write_bytes(text)
    return [FileFacts(name, "subtitle", *digest(path), rendition.language)], problems

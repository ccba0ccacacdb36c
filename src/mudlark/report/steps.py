"""The way that an item came, from what was asked for to the file: each step with its address, time and digest."""

import msgspec

from mudlark.archive.record import Record, TrackFacts
from mudlark.media.codec_names import codec_named
from mudlark.report.requests import Log
from mudlark.text import counted

_MOST_FILES = 20


class ReportStep(msgspec.Struct, frozen=True):
    """One step of the way that an item came. when: RFC 3339. sha256: of what it gave. more: what else there is to
    say."""

    what: str
    where: str
    when: str = ""
    sha256: str = ""
    more: str = ""


def steps_of(record: Record, log: Log) -> list[ReportStep]:
    """The way from what was asked for to the file."""
    source = record.source
    digests = {file.role: file.sha256 for file in record.files if file.role in ("page", "capture")}
    steps = [ReportStep("Asked for", source.target, record.started, more=record.command or "")]
    if source.page:
        page = source.page
        steps.append(ReportStep("Page", page.url, log.moment(page.url), digests.get("page", ""), page.title or ""))
    for step in source.walk:
        answers = ", ".join(f"{name}: {label}" for name, label in step.answered)
        steps.append(ReportStep("Answered", step.url, log.moment(step.url), more=answers))
    if source.capture:
        steps.append(ReportStep("Listened to", source.capture.origin, sha256=source.capture.sha256 or ""))
    if source.find:
        places = "; ".join(one.where for one in source.find.evidence[:3])
        steps.append(ReportStep("Found", source.find.url, more=f"{source.find.kind}, in: {places}" if places else ""))
    steps += [ReportStep("Manifest", one.url, log.moment(one.url), one.sha256) for one in source.manifests]
    steps += [
        ReportStep(
            "Track",
            f"{one.type}: {track_words(one)}",
            more=f"{one.coded_frames:,} coded frames" if one.coded_frames else "",
        )
        for one in record.tracks
    ]
    if record.segment_list:
        steps.append(_fetching(record))
    media = [file for file in record.files if file.role == "media"]
    steps += [
        ReportStep("File", file.path, record.finished, file.sha256, file.media_type or "")
        for file in media[:_MOST_FILES]
    ]
    if len(media) > _MOST_FILES:
        steps.append(ReportStep("Files", f"and {len(media) - _MOST_FILES:,} others, which are listed below"))
    return steps


def _fetching(record: Record) -> ReportStep:
    counts, fetching = record.segments, record.fetching
    words = f"{counts.planned:,} planned, {counts.fetched:,} fetched"
    words += f", {counts.reused:,} there from before" if counts.reused else ""
    words += f", {counts.missing:,} missing" if counts.missing else ""
    numbers = (
        (counts.retried, "tried again"),
        (fetching.elsewhere, "from another address than the first"),
        (fetching.renewed, "under renewed links"),
        (fetching.raced, "asked for twice, as they were slow"),
    )
    more = ", ".join(f"{count:,} {what}" for count, what in numbers if count)
    times = sorted(one.fetched for one in record.segment_list if one.fetched)
    when = "" if not times else times[0] if times[0] == times[-1] else f"{times[0]} to {times[-1]}"
    return ReportStep("Pieces", words, when, more=more)


def track_words(track: TrackFacts) -> str:
    """A track in words: its codec, size, channels and language."""
    codec = codec_named(track.codec)
    words = [f"{codec.words} ({track.codec})" if codec else track.codec]
    words += [f"{track.width}×{track.height}"] if track.width else []
    words += [track.profile] if track.profile else []
    words += [f"{track.frame_rate:g} pictures a second"] if track.frame_rate else []
    words += [f"between {track.least_rate:g} and {track.most_rate:g}"] if track.least_rate and track.most_rate else []
    words += [f"turned by {track.rotation}°"] if track.rotation else []
    words += [track.colours] if track.colours else []
    words += [counted(track.channels, "channel")] if track.channels else []
    words += [f"{track.sample_rate / 1000:g} kHz"] if track.sample_rate else []
    words += [f"{track.bitrate / 1000:,.0f} kbit/s"] if track.bitrate else []
    words += [one for one in (track.language, track.label) if one]
    return ", ".join(words)

"""`mudlark tracks`: what a playlist or media file holds."""

import asyncio
from pathlib import Path
from typing import Any

import click
from rich.text import Text

from mudlark.archive.record import TrackFacts
from mudlark.cli.command import Command, common_options
from mudlark.cli.options import addresses, connection, network_options
from mudlark.cli.show import bits, clock, columns, console, emit_json, manner
from mudlark.errors import FormatError, NothingFound
from mudlark.find.probe import movie_at
from mudlark.manifest.load import fill, is_manifest, open_presentation, wants_text
from mudlark.manifest.model import Presentation
from mudlark.media.mp4.read import Movie, parse_movie, scan
from mudlark.media.sniff import sniff
from mudlark.web.address import shown
from mudlark.web.session import Look, Session


@click.command(
    cls=Command,
    short_help="What a playlist or file holds.",
    examples=(
        (
            "The renditions of a playlist, with their addresses:",
            "tracks --verbose https://media.example/mill/master.m3u8",
        ),
        ("The tracks of a file, here or on a server:", "tracks film.mp4"),
    ),
)
@click.argument("target", metavar="URL|FILE")
@network_options
@common_options
def command(target: str, as_json: bool, **network: Any) -> None:
    """Show the renditions of an HLS playlist, or the tracks of an MP4, here or on a server."""
    path = Path(target)
    if path.is_file():
        rows = _of_movie(_movie_in(path))
        facts: dict[str, Any] = {"url": str(path), "kind": "file", "duration": _longest(rows)}
    else:
        rows, facts = asyncio.run(_of_address(addresses((target,))[0], network))
    if as_json:
        emit_json("tracks", **facts, tracks=rows)
    else:
        _show(rows, facts)


def _movie_in(path: Path) -> Movie:
    with path.open("rb") as file:

        def read(at: int, count: int) -> bytes:
            file.seek(at)
            return file.read(count)

        if sniff(read(0, 65536)) != "mp4":
            raise FormatError(f"{path} is not an MP4 file.", advice="Give an MP4 file, or the address of a playlist.")
        index = next((box for box in scan(read, path.stat().st_size) if box.kind == "moov"), None)
        if index is None:
            raise FormatError(f"{path} has no index (moov).", advice="It is incomplete; see `mudlark assay`.")
        return parse_movie(read(index.start, index.end - index.start), index.start)


def _longest(rows: list[dict[str, Any]]) -> float:
    return round(max((row["duration"] for row in rows), default=0.0), 3)


def _of_movie(movie: Movie) -> list[dict[str, Any]]:
    return [_row(number, TrackFacts.of(track)) for number, track in enumerate(movie.tracks, start=1)]


def _row(number: int, facts: TrackFacts) -> dict[str, Any]:
    return {
        "name": str(number),
        "type": facts.type,
        "codecs": [facts.codec],
        "width": facts.width,
        "height": facts.height,
        "frame_rate": facts.frame_rate,
        "bitrate": facts.bitrate,
        "language": facts.language,
        "label": None,
        "duration": facts.duration,
        "segments": None,
        "url": None,
    }


async def _of_address(target: str, network: dict[str, Any]) -> tuple[list[dict[str, Any]], dict[str, Any]]:
    async with Session(connection(**network)) as session:
        session.at_home(target)
        look = await session.look(target, wants_text)
        if is_manifest(look):
            presentation = open_presentation(look)
            presentation = await fill(session, presentation, presentation.renditions)
            facts = {"url": presentation.url, "kind": presentation.kind, "duration": presentation.duration}
            return _rows(presentation), facts
        if sniff(look.body) != "mp4":
            raise _neither(target, look)
        glance = await session.glance(look.url, patient=True)
        movie = await movie_at(session, glance)
    if movie is None:
        raise FormatError(
            f"{shown(target)} is an MP4 whose index cannot be read from here.",
            advice="Its server may serve no ranges; haul it, and look at the file.",
            url=target,
        )
    rows = _of_movie(movie)
    return rows, {"url": look.url, "kind": "file", "duration": _longest(rows)}


def _neither(target: str, look: Look) -> NothingFound:
    page = sniff(look.body) == "html"
    what = "a web page" if page else look.type or "something without a type"
    return NothingFound(
        f"{shown(target)} is {what}, not a playlist or MP4.",
        "Find its playlist with `mudlark sift`." if page else "Give the address of a playlist or an MP4.",
        url=target,
    )


def _rows(presentation: Presentation) -> list[dict[str, Any]]:
    return [
        {
            "name": track.name,
            "type": track.type,
            "codecs": list(track.codecs),
            "width": track.width,
            "height": track.height,
            "frame_rate": track.frame_rate,
            "bitrate": track.bitrate,
            "language": track.language,
            "label": track.label,
            "duration": track.duration,
            "segments": len(track.segments) if track.segments is not None else None,
            "url": track.url,
        }
        for track in presentation.renditions
    ]


def _show(rows: list[dict[str, Any]], facts: dict[str, Any]) -> None:
    out = console()
    name = {"hls": "HLS playlist", "file": "MP4 file"}[facts["kind"]]
    out.print(Text(facts["url"], style="bold"))
    count = "1 track" if len(rows) == 1 else f"{len(rows)} tracks"
    out.print(Text(f"{name}, {count}, {clock(facts['duration'])}", style="dim"))
    out.print()
    titles = ("track", "type", "picture", "frames/s", "bitrate", "length", "segments", "language", "called", "codecs")
    lines = list(columns([titles, *map(_cells, rows)], right=(2, 3, 4, 5, 6)))
    out.print(Text(lines[0], style="dim"))
    for row, line in zip(rows, lines[1:], strict=True):
        out.print(line, markup=False)
        if manner.verbose and row["url"]:
            out.print(Text(f"  {row['url']}", style="cyan"))


def _cells(row: dict[str, Any]) -> tuple[str, ...]:
    return (
        row["name"],
        row["type"],
        f"{row['width']}×{row['height']}" if row["width"] else "–",
        f"{row['frame_rate']:g}" if row["frame_rate"] else "–",
        bits(row["bitrate"]),
        clock(row["duration"]),
        str(row["segments"]) if row["segments"] is not None else "–",
        row["language"] or "–",
        row["label"] or "–",
        ", ".join(row["codecs"]) or "not stated",
    )

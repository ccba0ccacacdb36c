"""`mudlark tracks`: what a playlist or media file holds."""

import asyncio
from pathlib import Path
from typing import Any

import click
from rich.text import Text

from mudlark.archive.record import TrackFacts
from mudlark.cli.options import addresses, connection, json_option, network_options
from mudlark.cli.show import bits, clock, columns, console, emit_json
from mudlark.errors import FormatError, NothingFound
from mudlark.manifest.load import fill, is_manifest, open_presentation, wants_text
from mudlark.manifest.model import Presentation
from mudlark.media.mp4.read import parse_movie, scan
from mudlark.media.sniff import sniff
from mudlark.web.address import shown
from mudlark.web.session import Session


@click.command(short_help="What a playlist or file holds.")
@click.argument("target", metavar="URL|FILE")
@json_option
@network_options
def command(target: str, as_json: bool, **network: Any) -> None:
    """Show the renditions of an HLS playlist, or the tracks of a local MP4."""
    path = Path(target)
    if not path.is_file():
        target = addresses((target,))[0]
    rows, facts = _of_file(path) if path.is_file() else asyncio.run(_of_playlist(target, network))
    if as_json:
        emit_json("tracks", **facts, tracks=rows)
    else:
        _show(rows, facts)


def _of_file(path: Path) -> tuple[list[dict[str, Any]], dict[str, Any]]:
    with path.open("rb") as file:

        def read(at: int, count: int) -> bytes:
            file.seek(at)
            return file.read(count)

        if sniff(read(0, 65536)) != "mp4":
            raise FormatError(f"{path} is not an MP4 file.", advice="Give an MP4 file, or the address of a playlist.")
        index = next((box for box in scan(read, path.stat().st_size) if box.kind == "moov"), None)
        if index is None:
            raise FormatError(f"{path} has no index (moov).", advice="It is incomplete; see `mudlark assay`.")
        movie = parse_movie(read(index.start, index.end - index.start), index.start)
    rows = []
    for number, track in enumerate(movie.tracks, start=1):
        facts = TrackFacts.of(track)
        rows.append(
            {
                **{"name": str(number), "type": facts.type, "codecs": [facts.codec], "width": facts.width},
                **{"height": facts.height, "frame_rate": facts.frame_rate, "bitrate": facts.bitrate},
                **{"language": facts.language, "label": None, "duration": facts.duration, "segments": None},
                "url": None,
            }
        )
    return rows, {"url": str(path), "kind": "file", "duration": round(movie.seconds, 3)}


async def _of_playlist(target: str, network: dict[str, Any]) -> tuple[list[dict[str, Any]], dict[str, Any]]:
    async with Session(connection(**network)) as session:
        session.at_home(target)
        look = await session.look(target, wants_text)
        if not is_manifest(look):
            kind = "a web page" if sniff(look.body) == "html" else f"{look.type or 'something without a type'}"
            raise NothingFound(
                f"{shown(target)} is {kind}, not a playlist.",
                "Find its playlist with `mudlark sift`." if kind == "a web page" else "Give the address of a playlist.",
            )
        presentation = open_presentation(look)
        await fill(session, presentation, presentation.tracks)
    return _rows(presentation), {
        "url": presentation.url,
        "kind": presentation.kind,
        "duration": presentation.duration,
    }


def _rows(presentation: Presentation) -> list[dict[str, Any]]:
    return [
        {
            **{"name": track.name, "type": track.type, "codecs": list(track.codecs), "width": track.width},
            **{"height": track.height, "frame_rate": track.frame_rate, "bitrate": track.bitrate},
            **{"language": track.language, "label": track.label, "duration": track.duration},
            "segments": len(track.segments) if track.segments is not None else None,
            "url": track.url,
        }
        for track in presentation.tracks
    ]


def _show(rows: list[dict[str, Any]], facts: dict[str, Any]) -> None:
    out = console()
    name = {"hls": "HLS playlist", "file": "MP4 file"}[facts["kind"]]
    out.print(Text(facts["url"], style="bold"))
    count = "1 track" if len(rows) == 1 else f"{len(rows)} tracks"
    out.print(Text(f"{name}, {count}, {clock(facts['duration'])}", style="dim"))
    out.print()
    titles = ("track", "type", "picture", "frames/s", "bitrate", "length", "segments", "language", "codecs")
    lines = [_cells(row) for row in rows]
    for line in columns([titles, *lines], right=(2, 3, 4, 5, 6)):
        out.print(line, markup=False)


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
        ", ".join(row["codecs"]) or "not stated",
    )

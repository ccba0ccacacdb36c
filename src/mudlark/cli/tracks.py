"""`mudlark tracks`: what a playlist or media file holds."""

import asyncio
from pathlib import Path
from typing import Any

import click
from msgspec.structs import replace
from rich.text import Text

from mudlark.archive.record import TrackFacts, tracks_of
from mudlark.browser.options import Listening
from mudlark.cli.command import Command, common_options
from mudlark.cli.options import Network, addresses, listen_option, listening, listening_options, network_options
from mudlark.cli.show import bits, columns, console, emit_json, live_data, live_words, manner
from mudlark.cli.wishes import wish, wish_options
from mudlark.errors import FormatError, NothingFound, Refused
from mudlark.find.judge.kind import kind_by_extension
from mudlark.find.judge.probe import movie_at
from mudlark.find.look import Means, PageScan, look
from mudlark.find.model import PLAYED, tap_address, tap_in
from mudlark.find.select import Choice
from mudlark.find.sift import sift_response
from mudlark.manifest.choose import choose, expected_bytes
from mudlark.manifest.load import fill, is_manifest, open_presentation, refusal, wants_text
from mudlark.manifest.model import Live, Presentation, Rendition
from mudlark.manifest.wish import Wish
from mudlark.media.forms import FORMS
from mudlark.media.index import INDEXED, movie_in
from mudlark.media.matroska.read import described
from mudlark.media.movie import Movie
from mudlark.media.sniff import sniff
from mudlark.text import clock, counted, sentence, size
from mudlark.verify.account import Account
from mudlark.verify.media import check_file, form_of
from mudlark.web.address import shown
from mudlark.web.answer import Content
from mudlark.web.session import Session

# what only a file says of its tracks
_DETAILS = (
    "sample_rate",
    "least_rate",
    "most_rate",
    "profile",
    "depth",
    "sampling",
    "pixel_aspect",
    "rotation",
    "colours",
)


_NAMES = {"hls": "HLS playlist", "dash": "DASH manifest", "file": "Media file", "tap": "Fed to a player"}


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
@click.argument("target", metavar="PAGE|URL|FILE")
@wish_options
@listen_option
@listening_options
@network_options
@common_options
def command(target: str, listen: bool, as_json: bool, network: Network, **given: Any) -> None:
    """Show the renditions of an HLS playlist or DASH manifest, or the tracks of a file, here or on a server.

    Those that `mudlark haul` would take with the same options are marked, with the size to expect. Of a page: those of
    its best find; with --listen also of what it asks for, or feeds to its player.
    """
    wished, browsing = wish(given), listening(given)
    path = Path(target)
    if path.is_file():
        rows = _of_file(path)
        facts: dict[str, Any] = {"url": str(path), "kind": "file", "duration": _longest(rows)}
    else:
        (address,) = addresses((target,))
        rows, facts = asyncio.run(_of_target(address, network, wished, browsing if listen else None))
    if as_json:
        emit_json("tracks", **{"live": None, **facts}, tracks=rows)
    else:
        _show(rows, facts)


def _longest(rows: list[dict[str, Any]]) -> float:
    return round(max((row["duration"] for row in rows), default=0.0), 3)


def _of_file(path: Path) -> list[dict[str, Any]]:
    """The tracks of a file; of one without a table of its samples, those that going through it tells."""
    form = form_of(path)
    if form not in INDEXED and FORMS.get(form, FORMS["text"]).category in ("video", "audio") and FORMS[form].covers:
        found = tracks_of(check_file(path, None, Account()))
        if found:
            return [_row(number, facts) for number, facts in enumerate(found, start=1)]
    return _of_movie(movie_in(path))


def _of_movie(movie: Movie) -> list[dict[str, Any]]:
    tracks = [*movie.tracks, *movie.others]
    return [_row(number, TrackFacts.of(track)) for number, track in enumerate(tracks, start=1)]


def _row(number: int, facts: TrackFacts) -> dict[str, Any]:
    return {
        "taken": True,
        "name": str(number),
        "type": facts.type,
        "codecs": [facts.codec],
        "width": facts.width,
        "height": facts.height,
        "frame_rate": facts.frame_rate,
        "bitrate": facts.bitrate,
        "language": facts.language,
        "label": facts.label,
        "duration": facts.duration,
        "segments": None,
        "url": None,
        "default": facts.default,
        "channels": facts.channels,
        "range": None,
        "score": None,
        "protected": [],
        **{name: getattr(facts, name) for name in _DETAILS},
    }


async def _of_target(
    target: str, network: Network, wished: Wish, browsing: Listening | None
) -> tuple[list[dict[str, Any]], dict[str, Any]]:
    """The tracks of an address, or of the best find of a page, or of what was tapped on one."""
    named = tap_in(target)
    async with Session(network.connection()) as session:
        session.at_home(target)
        if browsing is None and named is None:
            glance = await session.look(target, wants_text)
            if sniff(glance.body) != "html" or kind_by_extension(target) in PLAYED:
                return await _of_answer(session, target, glance, wished)
            scan = PageScan(await sift_response(session, glance))
        else:
            means = Means(replace(browsing or Listening(), tap=named is not None))
            scan = await look(session, named[0] if named else target, means)
        find = Choice(nth=named[1] if named else None).take(scan.page)[0]
        if find.kind != "tap":
            behind = session.behind(find.mention.referrer, find.mention.sent)
            return await _of_answer(behind, find.url, await behind.look(find.url, wants_text), wished)
    if find.protected:
        raise Refused(sentence(find.problem or "It is protected."), "Mudlark does not fetch protected media.")
    tapped = scan.recording.tapped if scan.recording else []
    formats = next((one.formats for one in tapped if tap_address(one.frame, one.number) == find.url), ())
    length = find.duration or 0.0
    rows = [_row(number, TrackFacts.of_format(one, length)) for number, one in enumerate(formats, start=1)]
    return rows, {"url": find.url, "kind": "tap", "duration": find.duration}


async def _of_answer(
    session: Session, target: str, look: Content, wished: Wish
) -> tuple[list[dict[str, Any]], dict[str, Any]]:
    if is_manifest(look):
        presentation = await open_presentation(session, look)
        chosen = {taken.rendition.name for taken in choose(presentation, wished)}
        presentation = await fill(session, presentation, presentation.renditions, strict=False)
        _insist(presentation)
        facts = {
            "url": presentation.url,
            "kind": presentation.kind,
            "duration": None if presentation.live else presentation.duration,
            "estimate": None if presentation.live else expected_bytes(presentation, chosen),
            "live": live_data(presentation.live),
        }
        return _rows(presentation, chosen), facts
    form = sniff(look.body)
    if form not in ("mp4", "matroska"):
        raise _neither(target, look)
    glance = await session.glance(look.url, patient=True)
    if form == "matroska":
        length, formats = described(glance.body, glance.length or len(glance.body))
        rows = [_row(number, TrackFacts.of_format(one, length)) for number, one in enumerate(formats, start=1)]
        return rows, {"url": look.url, "kind": "file", "duration": _longest(rows)}
    movie = await movie_at(session, glance)
    if movie is None:
        raise FormatError(
            f"{shown(target)} is an MP4 whose index cannot be read from here.",
            advice="Its server may serve no ranges; haul it, and look at the file.",
            url=target,
        )
    rows = _of_movie(movie)
    return rows, {"url": look.url, "kind": "file", "duration": _longest(rows)}


def _neither(target: str, look: Content) -> NothingFound:
    page = sniff(look.body) == "html"
    what = "a web page" if page else look.type or "something without a type"
    return NothingFound(
        f"{shown(target)} is {what}, not a playlist, MP4 or WebM.",
        "Find its playlist with `mudlark sift`." if page else "Give one of these, or haul it, and look at the file.",
        url=target,
    )


def _insist(presentation: Presentation) -> None:
    """Where everything is protected there is nothing to choose from."""
    played = [one for one in presentation.renditions if one.type in ("video", "audio") and (one.url or one.pieces)]
    if played and all(one.protected for one in played):
        raise refusal(presentation.url, played[0].protected)


def _rows(presentation: Presentation, chosen: set[str]) -> list[dict[str, Any]]:
    return [
        {
            "taken": rendition.name in chosen,
            "name": rendition.name,
            "type": rendition.type,
            "codecs": list(rendition.codecs),
            "width": rendition.width,
            "height": rendition.height,
            "frame_rate": rendition.frame_rate,
            "bitrate": rendition.bitrate,
            "language": rendition.language,
            "label": rendition.label,
            "duration": rendition.duration,
            "segments": len(rendition.segments) if rendition.segments is not None else None,
            "url": rendition.url or None,
            "default": rendition.default,
            "channels": rendition.channels,
            "range": rendition.range,
            "score": rendition.score,
            "protected": list(rendition.protected),
            **dict.fromkeys(_DETAILS),
        }
        for rendition in sorted(presentation.renditions, key=_standing)
    ]


def _standing(rendition: Rendition) -> tuple[bool, int]:
    """Variants first, then what goes with them: sounds, subtitles."""
    order = ("video", "audio", "subtitles")
    return rendition.group is not None, order.index(rendition.type) if rendition.type in order else len(order)


def _show(rows: list[dict[str, Any]], facts: dict[str, Any]) -> None:
    out = console()
    name = {"hls": "HLS playlist", "dash": "DASH manifest", "file": "Media file", "tap": "Fed to a player"}[
        facts["kind"]
    ]
    out.print(Text(facts["url"], style="bold"))
    count = "1 track" if len(rows) == 1 else f"{len(rows)} tracks"
    expected = f", about {size(facts['estimate'])} as marked" if facts.get("estimate") else ""
    live = facts.get("live")
    length = live_words(Live(**live)) if live else clock(facts["duration"])
    out.print(Text(f"{name}, {count}, {length}{expected}", style="dim"))
    out.print()
    titles = (
        "",
        "track",
        "type",
        "picture",
        "frames/s",
        "bitrate",
        "length",
        "segments",
        "language",
        "called",
        "codecs",
        "details",
    )
    lines = list(columns([titles, *map(_cells, rows)], right=(3, 4, 5, 6, 7)))
    out.print(Text(lines[0], style="dim"))
    for row, line in zip(rows, lines[1:], strict=True):
        out.print(line, markup=False)
        if manner.verbose and row["url"]:
            out.print(Text(f"  {row['url']}", style="cyan"))


def _cells(row: dict[str, Any]) -> tuple[str, ...]:
    called = f"protected by {' and '.join(row['protected'])}" if row["protected"] else row["label"]
    return (
        "*" if row["taken"] else " ",
        row["name"],
        row["type"],
        f"{row['width']}×{row['height']}" if row["width"] else "–",
        _rate(row),
        bits(row["bitrate"]),
        clock(row["duration"]),
        str(row["segments"]) if row["segments"] is not None else "–",
        row["language"] or "–",
        called or "–",
        ", ".join(row["codecs"]) or "not stated",
        _details(row) or "–",
    )


def _rate(row: dict[str, Any]) -> str:
    """Pictures a second; on average, with its bounds, where they vary."""
    if not row["frame_rate"]:
        return "–"
    bounds = f" ({row['least_rate']:g}–{row['most_rate']:g})" if row["least_rate"] else ""
    return f"{row['frame_rate']:g}{bounds}"


def _details(row: dict[str, Any]) -> str:
    """What a file says of a track beyond its codec, in words."""
    aspect = row["pixel_aspect"]
    words = [
        row["profile"],
        f"{row['depth']} bits" if row["depth"] else None,
        row["sampling"],
        row["colours"],
        f"pixels {aspect[0]}:{aspect[1]}" if aspect else None,
        f"turned by {row['rotation']}°" if row["rotation"] else None,
        f"{row['sample_rate'] / 1000:g} kHz" if row["sample_rate"] else None,
        counted(row["channels"], "channel") if isinstance(row["channels"], int) else None,
    ]
    return ", ".join(word for word in words if word)

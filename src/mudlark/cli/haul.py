"""`mudlark haul`: the main job."""

from typing import Any

import click

from mudlark.cli.command import Command, common_options, option
from mudlark.cli.options import (
    filter_options,
    into_option,
    keeping_options,
    means_options,
    network_options,
    play_option,
)
from mudlark.cli.spans import span_options
from mudlark.cli.wishes import wish_options


@click.command(
    cls=Command,
    short_help="Fetch into a verified item.",
    examples=(
        ("The film of a page, into the folder mudlark/:", "haul https://museum.example/film/mill"),
        ("The find that `mudlark sift` lists as number 3:", "haul --nth 3 https://museum.example/film/mill"),
        ("Every document of a page, from what it asks for once it is open:", "haul --listen --kind document --all URL"),
    ),
)
@click.argument("targets", nargs=-1, metavar="TARGET...")
@into_option
@option("--plan", is_flag=True, help="Show what would be taken, and under which name; fetch nothing of it.")
@option("--drop", is_flag=True, help="Clear away what is unfinished in the folder: of these targets, or all of it.")
@option("--title", default=None, help="Name of the item, instead of the page's title.")
@option("--again", is_flag=True, help="Make a new item, dated, even if there is one already.")
@option("--expect", default=None, metavar="sha256:HEX", help="The digest that the file must have.")
@option(
    "--as",
    "form",
    type=click.Choice(["pdf", "images"]),
    default="pdf",
    show_default=True,
    help="Page images: bound into one PDF, or kept as they are.",
)
@option(
    "--container",
    type=click.Choice(["mp4", "mkv"]),
    help="What a film is put into; else what its media came in, or what holds all of it.",
)
@option("--series", is_flag=True, help="Where there is no playlist, take a series of numbered segments.")
@play_option
@keeping_options
@option(
    "--nth",
    type=click.IntRange(1),
    default=None,
    metavar="N",
    group="Choosing",
    help="Take find number N of `mudlark sift`.",
)
@option("--all", "every", is_flag=True, group="Choosing", help="Take all main finds, or all that the filters leave.")
@option(
    "--tap",
    is_flag=True,
    group="Choosing",
    help="Take what the page feeds to its player, whatever address may explain it; with --listen.",
)
@span_options
@wish_options
@filter_options
@means_options
@network_options
@common_options
def command(**given: Any) -> None:
    """Fetch what a page, a playlist or a direct file address holds, and leave a verified item.

    Takes the best find of a page and its highest rendition. Stopped half-way, the same command goes on from there.
    What was hauled before is compared with the server, and never written over. What is still running is recorded until
    it ends, or is ended with Ctrl-C. Without a target, tells what is unfinished in the folder.
    """
    from mudlark.cli.hauled import haul_all  # with all that a haul needs, which help and completion do not

    haul_all(**given)

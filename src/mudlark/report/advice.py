"""What to do about what is wrong with items, and about hauls that brought none: by their codes. First for anyone, then
for who has a command line."""

import msgspec

_AGAIN = "What is missing can be fetched again. `mudlark assay --fix` does it for all items of a folder."
_WHOLE = (
    "They can be fetched again. `mudlark assay --fix` does it for all items of a folder, and keeps what it replaces."
)
_LOOK = "Play them and judge: it may be so at the source. `mudlark assay --play` decodes and measures them."
_READ = "Look at the item's own page for where it shows; docs/verification.md says what the code means."


class Advice(msgspec.Struct, frozen=True):
    """title: what is wrong, in words. todo: what to do about it; commands stand between backticks."""

    title: str
    todo: str


UNPROVEN = Advice(
    "Nothing proves that they are whole",
    "Nothing speaks against them either: they are as their servers sent them. Open them once, or compare them with a "
    "checksum from whoever holds the original.",
)


_UNREADABLE = Advice("Records or files cannot be read", "Copy them back from another copy.")
_PAGES = Advice("Page images are missing or small", _AGAIN)
_OF_PROBLEMS: dict[str, Advice] = {
    **dict.fromkeys(
        ("segment-missing", "segment-unreadable", "segment-short"), Advice("Segments are missing or cut", _AGAIN)
    ),
    **dict.fromkeys(("page-missing", "page-unreadable", "page-size"), _PAGES),
    "tiles-missing": Advice("Parts of pictures are missing", _AGAIN),
    "subtitle-missing": Advice("Subtitles are missing", _AGAIN),
    "radio-gap": Advice("A broadcast broke off", "What was not recorded is gone, unless its station keeps a copy."),
    **dict.fromkeys(("gap", "picture-missing"), Advice("Stretches of picture or sound are missing", _AGAIN)),
    "loss": Advice("Something was lost, or put in, on the way", _AGAIN),
    "fixity": Advice(
        "Files are not as they were",
        "Copy them back from another copy of the item, or mend them with `mudlark assay --fix`; then look at the disk.",
    ),
    **dict.fromkeys(("record", "file", "format"), _UNREADABLE),
    **dict.fromkeys(
        ("truncated", "cut-off", "incomplete", "length", "empty"), Advice("Files end before they should", _WHOLE)
    ),
    **dict.fromkeys(("digest", "check-sum", "coded-frames"), Advice("Files are not what they should be", _WHOLE)),
    **dict.fromkeys(
        ("boxes", "sample-outside", "sample-overlap", "picture-units", "undecodable", "undecodable-pictures"),
        Advice("Files are damaged inside", _WHOLE),
    ),
    **dict.fromkeys(("packets-lost", "stray-bytes"), Advice("Parts were lost in streams", _LOOK)),
    **dict.fromkeys(("black", "frozen", "silent"), Advice("There is nothing to see or hear", _LOOK)),
    **dict.fromkeys(("not-played", "wrong-place", "no-end"), Advice("A browser cannot play them well", _LOOK)),
    **dict.fromkeys(
        ("drift", "overlap", "times", "begins-apart", "ends-apart", "duration"),
        Advice("Picture and sound do not keep their time", _LOOK),
    ),
    "no-media": Advice("Something else came than was promised", "Look at what came, and at the page; haul it again."),
    "misnamed": Advice("Files are not what their names say", "Rename copies of them; the record says what they are."),
}
_OF_HAULS: dict[str, str] = {
    "usage": "Correct the rows of the list.",
    "nothing-found": "Look at what the pages hold: `mudlark sift --listen` opens them in a browser.",
    "refused": "Ask who holds the rights for a copy; protected media is not fetched.",
    "storage": "Make room, then go on with `mudlark sweep LIST`.",
}
_TRY_AGAIN = (
    "Their servers may have them again later, or elsewhere; each stands in sweep.csv with its address. "
    "`mudlark sweep LIST --again-failed` tries them once more."
)


def of_problem(code: str) -> Advice:
    """What is wrong, and what to do, by the code of a problem."""
    return _OF_PROBLEMS.get(code) or Advice(code.replace("-", " ").capitalize(), _READ)


def of_haul(code: str) -> str:
    """What to do where a haul brought nothing, by the code of its error."""
    return _OF_HAULS.get(code, _TRY_AGAIN)

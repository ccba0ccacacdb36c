"""What a container says of a picture, and the container that it is written into has no place for here: by name."""

from collections.abc import Iterator
from typing import Literal

from mudlark.media.matroska import names
from mudlark.media.matroska.ebml import children
from mudlark.media.mp4.entries import boxes_in
from mudlark.media.samples import Format

_BOXES = {
    "clap": "what is cut off its edges (clap)",
    "st3d": "that it is stereoscopic (st3d)",
    "sv3d": "that it is spherical (sv3d)",
    "vexu": "that it is stereoscopic (vexu)",
}
_ELEMENTS = {
    names.STEREO_MODE: "that it is stereoscopic (StereoMode)",
    names.ALPHA_MODE: "its transparency (AlphaMode)",
    names.PROJECTION: "that it is spherical or turned (Projection)",
    **dict.fromkeys(names.CROPS, "what is cut off its edges (PixelCrop)"),
}


def not_carried(format: Format, into: Literal["mp4", "matroska"]) -> Iterator[str]:
    """What is lost of a format where it is written into a container of another kind."""
    if into == "matroska":
        for kind in sorted(boxes_in(format.entry) & _BOXES.keys()) if format.type == "video" else ():
            yield f"Of the picture, {_BOXES[kind]}"
        if format.matrix:
            yield "Of the picture, how it is turned (tkhd)"
    else:
        for one in children(format.elements, 0, 0, len(format.elements)):
            if one.identifier in _ELEMENTS:
                yield f"Of the picture, {_ELEMENTS[one.identifier]}"

"""Where a facet lies in its original: the largest area of its shape, around the focal point or within an area set by hand."""

from __future__ import annotations

from typing import NamedTuple

from young_prism.core.selection.geometry import NO_GEOMETRY, Area, Geometry
from young_prism.core.selection.image_metadata import FocalPoint
from young_prism.core.types import Size


class Crop(NamedTuple):
    """What is cut out of an original.

    Attributes:
        size: Its size in pixels of the upright original, after `geometry`; with padding, that of the whole box.
        focal: The point around which it lies; None to find one in the pixels when the cut is made.
        geometry: What is done to the original before.
        area: The area that a person set, instead of a focal point.
        pad: What fills the box around the picture: a colour, `edge` or `blur`; empty where the picture is cut.
    """

    size: Size
    focal: FocalPoint | None = None
    geometry: Geometry = NO_GEOMETRY
    area: Area | None = None
    pad: str = ""

    @property
    def is_simple(self) -> bool:
        """Whether it is the largest area of its shape around a focal point, of the original as it is."""
        return self.geometry == NO_GEOMETRY and self.area is None and not self.pad


def largest_crop(original: Size, ratio: tuple[float, float]) -> Size:
    """Return the largest size of this shape in an original, rounded to pixels."""
    width, height = ratio
    if original.width * height >= original.height * width:
        return Size(max(1, min(original.width, round(original.height * width / height))), original.height)
    return Size(original.width, max(1, min(original.height, round(original.width * height / width))))


def smallest_box(original: Size, ratio: tuple[float, float]) -> Size:
    """Return the smallest size of this shape that an original fits in, rounded to pixels."""
    width, height = ratio
    if original.width * height >= original.height * width:
        return Size(original.width, max(original.height, round(original.width * height / width)))
    return Size(max(original.width, round(original.height * width / height)), original.height)


def crop_origin(whole: Size, cut: Size, focal: FocalPoint) -> tuple[int, int]:
    """Return left and top of a cut whose middle is the focal point, moved inside where it would stand out."""
    return _start(whole.width, cut.width, focal[0]), _start(whole.height, cut.height, focal[1])


def _start(whole: int, cut: int, share: float) -> int:
    return min(max(0, round(share * whole - cut / 2)), whole - cut)

"""Where a facet lies in its original: the largest area of its shape, around the focal point."""

from __future__ import annotations

from typing import NamedTuple

from young_prism.core.selection.image_metadata import FocalPoint
from young_prism.core.types import Size


class Crop(NamedTuple):
    """What is cut out: `size` in pixels of the upright original, around `focal`.

    Without a focal point the place is found in the pixels when the cut is made.
    """

    size: Size
    focal: FocalPoint | None


def largest_crop(original: Size, ratio: tuple[float, float]) -> Size:
    """Return the largest size of this shape in an original, rounded to pixels."""
    width, height = ratio
    if original.width * height >= original.height * width:
        return Size(max(1, min(original.width, round(original.height * width / height))), original.height)
    return Size(original.width, max(1, min(original.height, round(original.width * height / width))))


def crop_origin(whole: Size, cut: Size, focal: FocalPoint) -> tuple[int, int]:
    """Return left and top of a cut whose middle is the focal point, moved inside where it would stand out."""
    return _start(whole.width, cut.width, focal[0]), _start(whole.height, cut.height, focal[1])


def _start(whole: int, cut: int, share: float) -> int:
    return min(max(0, round(share * whole - cut / 2)), whole - cut)

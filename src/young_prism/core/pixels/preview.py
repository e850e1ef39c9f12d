"""A small WebP for looking at an original on a page."""

from __future__ import annotations

from young_prism.core.errors import DamagedError
from young_prism.core.images.crops import Crop
from young_prism.core.images.facts import Facts
from young_prism.core.pixels.decode import damaged
from young_prism.core.pixels.shape import attention, largest_rung
from young_prism.core.selection.geometry import NO_GEOMETRY, Geometry
from young_prism.core.selection.image_metadata import FocalPoint
from young_prism.core.vips import pyvips
from young_prism.messages.originals import TOO_TALL_TO_PREVIEW


def found_focal(data: bytes) -> FocalPoint:
    """Return the point that draws the eye in a preview, as the engine finds it in the original."""
    try:
        return attention(pyvips.Image.new_from_buffer(data, ""))
    except pyvips.Error as error:
        raise damaged(error) from error


def preview(data: bytes, facts: Facts, width: int, geometry: Geometry = NO_GEOMETRY) -> bytes:
    """Return a WebP at most `width` wide and four times as tall, upright and in sRGB, shaped as a person wants it.

    Raises `DamagedError` when the original cannot be decoded.
    """
    whole = geometry.size_of(facts.size)
    size = whole.at_width(min(width, whole.width))
    cut = Crop(whole, (0.5, 0.5), geometry.whole) if geometry.changes_whole else None
    if size.height > 4 * width:
        raise DamagedError.of(TOO_TALL_TO_PREVIEW)
    try:
        return bytes(largest_rung(data, facts, size, cut=cut).webpsave_buffer(Q=80, effort=2, keep="none"))
    except pyvips.Error as error:
        raise damaged(error) from error

"""The pixels of a geometry: turned, mirrored, straightened, cropped; and a picture padded to a box."""

from __future__ import annotations

from young_prism.core.images.crops import Crop, crop_origin
from young_prism.core.recipe.finishing import Kernel
from young_prism.core.selection.geometry import Geometry
from young_prism.core.types import Size
from young_prism.core.vips import pyvips
from young_prism.core.vips_image import VipsImage

_QUARTERS = {90: "d90", 180: "d180", 270: "d270"}
_EDGE = 3
"""Pixels by which a picture is continued before it is rotated."""
_BLUR_SHARE = 0.04
"""Sigma of the blurred copy behind a padded picture, as a share of the box's longer side (our choice)."""


def apply_geometry(image: VipsImage, geometry: Geometry) -> VipsImage:
    """Return a whole picture as a person wants it.

    Args:
        image: The original, upright, 8 bits.
        geometry: What is done to it.

    Returns:
        Pixels in memory, of the size that `Geometry.size_of` says.
    """
    size = Size(image.width, image.height)
    if geometry.turn:
        image = image.rot(_QUARTERS[geometry.turn])
    if geometry.mirror:
        image = image.fliphor()
    if geometry.straighten:
        straightened = geometry.straightened_size(size)
        image = _straightened(image, geometry.straighten, straightened)
    if geometry.crop:
        part = geometry.size_of(size)
        left, top = geometry.crop.origin(Size(image.width, image.height), part)
        image = image.crop(left, top, part.width, part.height)
    return image.copy_memory()


def _straightened(image: VipsImage, degrees: float, size: Size) -> VipsImage:
    """Rotate around the middle and keep the largest rectangle without empty corners."""
    original_format = image.format
    transparent = image.hasalpha()
    # The edge goes on, so that interpolation finds no empty pixels beyond it.
    image = image.embed(_EDGE, _EDGE, image.width + 2 * _EDGE, image.height + 2 * _EDGE, extend="copy")
    rotated = (image.premultiply() if transparent else image).rotate(
        degrees, interpolate=pyvips.Interpolate.new("bicubic")
    )
    rotated = (rotated.unpremultiply() if transparent else rotated).cast(original_format)
    left, top = (rotated.width - size.width) // 2, (rotated.height - size.height) // 2
    return rotated.crop(left, top, size.width, size.height)


def cut_out(image: VipsImage, cut: Crop, attention: tuple[float, float]) -> VipsImage:
    """Return the part of a picture that a crop is, at the picture's own scale.

    Args:
        image: The whole picture, after its geometry.
        cut: The crop.
        attention: The point around which it lies where nobody set one.
    """
    whole = Size(image.width, image.height)
    if cut.area:
        left, top = cut.area.origin(whole, cut.size)
    else:
        left, top = crop_origin(whole, cut.size, cut.focal or attention)
    return image.crop(left, top, cut.size.width, cut.size.height)


def padded(image: VipsImage, box: Size, background: str, kernel: Kernel) -> VipsImage:
    """Return a picture in the middle of a box of exactly `box` pixels, filled up with a background.

    Args:
        image: The picture, which fits in the box.
        box: The size of the box.
        background: A colour as #rrggbb, `edge` for the mean colour of the picture's edge, or `blur` for a blurred copy.
        kernel: The kernel that the copy is resized with.
    """
    left, top = (box.width - image.width) // 2, (box.height - image.height) // 2
    if background == "blur":
        return _blurred(image, box, kernel).insert(image, left, top)
    colour = _edge_colour(image) if background == "edge" else _bands(background, image.bands)
    return image.embed(left, top, box.width, box.height, extend="background", background=colour)


def _blurred(image: VipsImage, box: Size, kernel: Kernel) -> VipsImage:
    """Return a copy that covers the box, blurred."""
    scale = max(box.width / image.width, box.height / image.height)
    large = image.resize(scale, kernel=kernel) if scale != 1 else image
    left, top = max(0, (large.width - box.width) // 2), max(0, (large.height - box.height) // 2)
    cut = large.crop(left, top, min(box.width, large.width), min(box.height, large.height))
    whole = cut.embed(0, 0, box.width, box.height, extend="copy")
    return whole.gaussblur(_BLUR_SHARE * max(box)).cast(image.format)


def _edge_colour(image: VipsImage) -> list[float]:
    """Return the mean colour of the pixels at the edge."""
    strips = [
        image.crop(0, 0, image.width, 1),
        image.crop(0, image.height - 1, image.width, 1),
        image.crop(0, 0, 1, image.height).rot("d90"),
        image.crop(image.width - 1, 0, 1, image.height).rot("d90"),
    ]
    pixels = sum(strip.width for strip in strips)
    return [sum(strip[band].avg() * strip.width for strip in strips) / pixels for band in range(image.bands)]


def _bands(colour: str, bands: int) -> list[float]:
    values = [float(int(colour[at : at + 2], 16)) for at in (1, 3, 5)]
    return [*values, 255.0][:bands] if bands >= 3 else [sum(values) / 3, 255.0][:bands]

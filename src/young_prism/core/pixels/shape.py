"""Resize, orient and convert colour: from an opened original to the pixels of a rung.

Colour is converted *after* the reduction: the picture has a fraction of its pixels by then (on a 24 MP JPEG
the other order cost three times as much).
"""

from __future__ import annotations

from typing import Any

from young_prism.core.originals.facts import Facts
from young_prism.core.pixels.decode import damaged, open_image
from young_prism.core.pixels.vips import pyvips
from young_prism.core.values import ImageFormat, Size

_HEADROOM = 2
"""The decoder's own shrinking must leave at least this factor for Lanczos, which is the better filter."""


def largest_rung(data: bytes, facts: Facts, target: Size) -> Any:
    """Decode an original once: 8-bit, upright, sRGB, free of metadata, in memory, at `target` (upright).

    Alpha is left out when no pixel uses it. Raises `DamagedError` when the pixels are not all there.
    """
    upright = facts.size
    shrink = 1
    if facts.format is ImageFormat.JPEG:
        shrink = next((s for s in (8, 4, 2) if upright.width >= target.width * s * _HEADROOM), 1)
    image = open_image(data, facts.format, shrink=shrink, max_pixels=max(1, facts.stored.pixels))
    turned = facts.orientation >= 5 and facts.format is not ImageFormat.HEIC
    goal = Size(target.height, target.width) if turned else target
    try:
        image = _resized(image, goal)
        image = _upright(image, facts)
        image = to_srgb(image, cmyk=facts.cmyk)
        if image.hasalpha() and not facts.transparent:
            image = image[: image.bands - 1]
        return _bare(image).copy_memory()
    except pyvips.Error as error:
        raise damaged(error) from error


def smaller_rung(pixels: Any, target: Size) -> Any:
    """Reduce the largest rung's pixels to `target`, in memory."""
    if (pixels.width, pixels.height) == target:
        return pixels
    return _resized(pixels, target).copy_memory()


def _resized(image: Any, target: Size) -> Any:
    """Resize with Lanczos 3 to exactly `target`; alpha is premultiplied so that no hidden colour bleeds in."""
    if (image.width, image.height) == target:
        return image
    # `resize` rounds on its own: a scale aimed at the middle of the target pixel lands on it.
    across, down = target.width / image.width, target.height / image.height
    if not image.hasalpha():
        return _exact(image.resize(across, vscale=down, kernel="lanczos3"), target)
    kept = image.format
    premultiplied = image.premultiply().resize(across, vscale=down, kernel="lanczos3")
    return _exact(premultiplied.unpremultiply().cast(kept), target)


def _exact(image: Any, target: Size) -> Any:
    """Make up for a pixel that libvips' own rounding may have left out or added at the edge."""
    if (image.width, image.height) == target:
        return image
    cut = image.crop(0, 0, min(image.width, target.width), min(image.height, target.height))
    return cut.embed(0, 0, target.width, target.height, extend="copy")


def _upright(image: Any, facts: Facts) -> Any:
    if facts.orientation == 1 or facts.format is ImageFormat.HEIC:
        return image
    return image.copy_memory().autorot()


def to_srgb(image: Any, *, cmyk: bool) -> Any:
    """Convert to 8-bit sRGB: through the embedded profile, through a general one for bare CMYK."""
    if image.get_typeof("icc-profile-data") or cmyk:
        try:
            return image.icc_transform(
                "srgb",
                embedded=True,
                input_profile="cmyk" if cmyk else "srgb",
                depth=8,
                black_point_compensation=True,
            )
        except pyvips.Error:
            # A profile that does not fit its own picture says nothing: the pixels are taken as they are.
            pass
    return image.colourspace("srgb").cast("uchar")


def _bare(image: Any) -> Any:
    """Drop all metadata, so that no encoder can carry anything over."""
    image = image.copy()
    for field in image.get_fields():
        if field.startswith(("exif", "xmp", "iptc", "icc", "orientation", "png-comment", "gif-", "jpeg-")):
            image.remove(field)
    return image

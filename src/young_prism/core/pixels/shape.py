"""Resize, orient and convert colour: from an opened original to the pixels of a rung.

Colour is converted *after* the reduction: the picture has a fraction of its pixels by then (on a 24 MP JPEG
the other order cost three times as much).
"""

from __future__ import annotations

from young_prism.core.images.crops import Crop, crop_origin
from young_prism.core.images.facts import Facts
from young_prism.core.metadata.embed import (
    EmbeddedMetadata,
    metadata_of,
    with_metadata,
)
from young_prism.core.pixels.decode import damaged, open_image
from young_prism.core.pixels.geometry import apply_geometry, cut_out, padded
from young_prism.core.pixels.vector import draw_vector
from young_prism.core.recipe.finishing import Kernel
from young_prism.core.selection.image_metadata import FocalPoint
from young_prism.core.types import (
    ImageFormat,
    Kind,
    Size,
)
from young_prism.core.vips import pyvips
from young_prism.core.vips_image import VipsImage

_HEADROOM = 2
"""The decoder's own shrinking must leave at least this factor for Lanczos, which is the better filter."""


def largest_rung(
    data: bytes,
    facts: Facts,
    target: Size,
    *,
    cut: Crop | None = None,
    kernel: Kernel = "lanczos3",
    keep_gamut: bool = False,
) -> VipsImage:
    """Decode an original once: 8-bit, upright, free of metadata, in memory, at `target` (upright).

    In sRGB, unless `keep_gamut` and the original has a wider one: then its profile is all that is left on the pixels.
    Alpha is left out when no pixel uses it. With a `cut` the target is of that part. Raises `DamagedError` when the
    pixels are not all there.
    """
    if cut and not cut.is_simple:
        return _shaped(data, facts, target, cut, kernel, keep_gamut=keep_gamut)
    whole = covering(facts.size, target) if cut else target
    try:
        image, profile = _reduced(data, facts, whole, kernel, keep_gamut=keep_gamut)
        if cut:
            left, top = crop_origin(whole, target, cut.focal or attention(image))
            image = image.crop(left, top, target.width, target.height).copy_memory()
    except pyvips.Error as error:
        raise damaged(error) from error
    return with_metadata(image, EmbeddedMetadata(profile=profile))


def _shaped(
    data: bytes, facts: Facts, target: Size, cut: Crop, kernel: Kernel, *, keep_gamut: bool
) -> VipsImage:
    """Decode an original at its own size, shape it as a person wants it, cut or pad it, and reduce it to `target`.

    It takes longer than a reduction while decoding, and is needed for few originals.
    """
    try:
        image, profile = _reduced(data, facts, facts.size, kernel, keep_gamut=keep_gamut)
        image = apply_geometry(image, cut.geometry)
        if cut.pad:
            inside = Size(image.width, image.height).inside(target)
            fitted = Size(min(inside.width, target.width), min(inside.height, target.height))
            image = padded(resized(image, fitted, kernel), target, cut.pad, kernel)
        else:
            focal = (0.5, 0.5) if cut.area or cut.focal else attention(image)
            image = resized(cut_out(image, cut, focal), target, kernel)
        image = image.copy_memory()
    except pyvips.Error as error:
        raise damaged(error) from error
    return with_metadata(image, EmbeddedMetadata(profile=profile))


def _reduced(
    data: bytes, facts: Facts, whole: Size, kernel: Kernel, *, keep_gamut: bool
) -> tuple[VipsImage, bytes]:
    """Return the whole picture at a size, upright, 8-bit and in memory, and the profile that is kept; empty for sRGB."""
    image = _opened(data, facts, whole, kernel)
    turned = facts.orientation >= 5 and facts.format is not ImageFormat.HEIC
    goal = Size(whole.height, whole.width) if turned else whole
    image = _upright(resized(image, goal, kernel), facts)
    profile = image.get("icc-profile-data") if keep_gamut and facts.can_keep_gamut else b""
    image = image.colourspace("srgb").cast("uchar") if profile else to_srgb(image, cmyk=facts.cmyk)
    if image.hasalpha() and not facts.transparent:
        image = image[: image.bands - 1]
    return without_metadata(image).copy_memory(), bytes(profile)


def smaller_rung(pixels: VipsImage, target: Size, kernel: Kernel = "lanczos3") -> VipsImage:
    """Reduce the largest rung's pixels to `target`, in memory."""
    if (pixels.width, pixels.height) == target:
        return pixels
    return resized(pixels, target, kernel).copy_memory()


def sharpened(pixels: VipsImage) -> VipsImage:
    """Sharpen lightness a little, as a reduction softens it; alpha and colour stay as they are."""
    colour = pixels[:3].copy(interpretation="srgb")
    # Half a pixel wide, and flat areas (noise) left alone: libvips' own measure for screens, at half its strength.
    sharp = colour.sharpen(sigma=0.5, m1=0.0, m2=1.5).colourspace("srgb").cast("uchar")
    sharp = sharp.bandjoin(pixels[3]) if pixels.hasalpha() else sharp
    return with_metadata(without_metadata(sharp).copy_memory(), metadata_of(pixels))


def covering(size: Size, target: Size) -> Size:
    """Return the smallest size of the same shape that covers `target`."""
    scale = max(target.width / size.width, target.height / size.height)
    return Size(max(target.width, round(size.width * scale)), max(target.height, round(size.height * scale)))


def attention(image: VipsImage) -> FocalPoint:
    """Return the point that draws the eye, as libvips finds it: skin, saturation and edges."""
    if min(image.width, image.height) < 4:
        return (0.5, 0.5)
    small = image.thumbnail_image(128, height=128, size="down")
    window = max(1, min(small.width, small.height) // 2)
    _, position = small.smartcrop(window, window, interesting="attention", attention_x=True, attention_y=True)
    across, down = position["attention_x"] / small.width, position["attention_y"] / small.height
    return (min(max(across, 0.0), 1.0), min(max(down, 0.0), 1.0))


def _opened(data: bytes, facts: Facts, whole: Size, kernel: Kernel) -> VipsImage:
    if facts.kind is Kind.VECTOR:
        return draw_vector(data, whole)
    shrink = 1
    if facts.format is ImageFormat.JPEG and kernel != "nearest":
        shrink = next((s for s in (8, 4, 2) if facts.size.width >= whole.width * s * _HEADROOM), 1)
    return open_image(data, facts.format, shrink=shrink, max_pixels=max(1, facts.stored.pixels))


def resized(image: VipsImage, target: Size, kernel: Kernel = "lanczos3") -> VipsImage:
    """Resize to exactly `target`; alpha is premultiplied so that no hidden colour bleeds in."""
    if (image.width, image.height) == target:
        return image
    # `resize` rounds on its own: a scale aimed at the middle of the target pixel lands on it.
    across, down = target.width / image.width, target.height / image.height
    if not image.hasalpha():
        return _exact(image.resize(across, vscale=down, kernel=kernel), target)
    original_format = image.format
    premultiplied = image.premultiply().resize(across, vscale=down, kernel=kernel)
    return _exact(premultiplied.unpremultiply().cast(original_format), target)


def _exact(image: VipsImage, target: Size) -> VipsImage:
    """Make up for a pixel that libvips' own rounding may have left out or added at the edge."""
    if (image.width, image.height) == target:
        return image
    cut = image.crop(0, 0, min(image.width, target.width), min(image.height, target.height))
    return cut.embed(0, 0, target.width, target.height, extend="copy")


def _upright(image: VipsImage, facts: Facts) -> VipsImage:
    if facts.orientation == 1 or facts.format is ImageFormat.HEIC:
        return image
    return image.copy_memory().autorot()


def to_srgb(image: VipsImage, *, cmyk: bool) -> VipsImage:
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


def without_metadata(image: VipsImage) -> VipsImage:
    """Drop all metadata, so that no encoder can carry anything over."""
    image = image.copy()
    for field in image.get_fields():
        if field.startswith(("exif", "xmp", "iptc", "icc", "orientation", "png-comment", "gif-", "jpeg-")):
            image.remove(field)
    return image

"""An animation in one of its formats: all its frames, with the watermark on each where the recipe puts one there."""

from __future__ import annotations

from young_prism.core.encode import gif, video, webp
from young_prism.core.encode.animation import encode_avif, encode_webp
from young_prism.core.pixels.decode import damaged
from young_prism.core.pixels.frames import Animation, read_animation
from young_prism.core.plan.model import PlannedOriginal, PlannedRendition, WatermarkFile
from young_prism.core.plan.resolve import has_watermark
from young_prism.core.recipe.codecs import Avif, Gif, Video, Webp
from young_prism.core.recipe.finishing import Watermark
from young_prism.core.render.watermark import with_watermark
from young_prism.core.vips import pyvips
from young_prism.core.vips_image import VipsImage


def encode_animation(data: bytes, original: PlannedOriginal, planned: PlannedRendition) -> bytes:
    """Return all frames of an animation in the format of a rendition, with their times.

    Args:
        data: The original's bytes.
        original: Its plan.
        planned: The rendition, in AVIF, WebP, GIF or as a video.

    Raises:
        DamagedError: A frame cannot be decoded, or the watermark.
    """
    settings = planned.settings
    mark, watermark = original.mark, original.finishing.watermark
    wears = has_watermark(original.finishing, planned.facet, planned.size, planned.format)
    if isinstance(settings, Webp) and not wears:
        return _streamed_webp(data, settings)
    animation = read_animation(data, original.facts.format)
    if wears and mark is not None and watermark is not None:
        animation = _with_watermark(animation, mark, watermark)
    match settings:
        case Avif():
            return encode_avif(animation, settings)
        case Gif():
            return gif.encode(animation, settings)
        case Webp():
            return encode_webp(animation, settings)
        case Video():
            return video.encode(animation, settings, planned.format)
    raise TypeError(f"no frames are written by {settings}")


def _streamed_webp(data: bytes, settings: Webp) -> bytes:
    try:
        frames = pyvips.Image.new_from_buffer(data, "", n=-1, access="sequential", fail_on="error")
        return webp.encode(frames.copy_memory(), settings)
    except pyvips.Error as error:
        raise damaged(error) from error


def _with_watermark(animation: Animation, mark: WatermarkFile, settings: Watermark) -> Animation:
    from PIL import Image

    pixels: list[VipsImage] = [
        pyvips.Image.new_from_array(frame).copy(interpretation="srgb") for frame in animation.frames
    ]
    frames = tuple(Image.fromarray(with_watermark(frame, mark.data, settings).numpy()) for frame in pixels)
    return animation._replace(frames=frames)

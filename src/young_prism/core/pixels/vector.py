"""A drawing in SVG as pixels, by librsvg inside libvips."""

from __future__ import annotations

from young_prism.core.errors import DamagedError
from young_prism.core.images.headers.svg import vector_size
from young_prism.core.pixels.decode import damaged
from young_prism.core.svg.sanitise import sanitise
from young_prism.core.types import Size
from young_prism.core.vips import pyvips
from young_prism.core.vips_image import VipsImage
from young_prism.messages.originals import NO_DECLARED_SIZE


def draw_vector(data: bytes, target: Size) -> VipsImage:
    """Draw a vector at about `target`, never smaller: sRGB with alpha. Raises `DamagedError`."""
    drawn_size = vector_size(data)
    if not drawn_size.pixels:
        raise DamagedError.of(NO_DECLARED_SIZE)
    scale = max(target.width / drawn_size.width, target.height / drawn_size.height)
    try:
        image: VipsImage = pyvips.Image.svgload_buffer(sanitise(data).data, scale=scale)
    except pyvips.Error as error:
        raise damaged(error) from error
    return image

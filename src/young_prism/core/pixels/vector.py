"""A drawing in SVG as pixels, by librsvg inside libvips."""

from __future__ import annotations

from typing import Any

from young_prism.core.errors import DamagedError
from young_prism.core.originals.headers.contract import EXPORT_AGAIN
from young_prism.core.originals.headers.svg import vector_size
from young_prism.core.pixels.decode import damaged
from young_prism.core.pixels.vips import pyvips
from young_prism.core.svg.sanitise import sanitised
from young_prism.core.values import Size

# libvips calls this loader untrusted, since a drawing may name other files. It is only ever given what `sanitised`
# returned, which names none, and from memory, where there is no folder to look in.
pyvips.operation_block_set("VipsForeignLoadSvg", False)


def drawn(data: bytes, target: Size) -> Any:
    """Draw a vector at about `target`, never smaller: sRGB with alpha. Raises `DamagedError`."""
    own = vector_size(data)
    if not own.pixels:
        raise DamagedError("The drawing declares no size.", remedy=EXPORT_AGAIN)
    scale = max(target.width / own.width, target.height / own.height)
    try:
        return pyvips.Image.svgload_buffer(sanitised(data).data, scale=scale)
    except pyvips.Error as error:
        raise damaged(error) from error

"""What results hang on beside originals and recipe."""

from __future__ import annotations

from young_prism import __version__
from young_prism.core.encode.contract import encoder_version
from young_prism.core.pixels.vips import vips_version
from young_prism.core.values import ImageFormat

_ENCODED = (ImageFormat.AVIF, ImageFormat.WEBP, ImageFormat.JPEG, ImageFormat.PNG)


def versions() -> dict[str, str]:
    """Return what must be equal on two machines for equal bytes."""
    made_by = {fmt.value: encoder_version(fmt) for fmt in _ENCODED}
    return {"young-prism": __version__, "libvips": vips_version(), **made_by}

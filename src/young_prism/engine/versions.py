"""Versions that results depend on, apart from originals and recipe."""

from __future__ import annotations

from importlib.metadata import version

from young_prism import __version__
from young_prism.core.encode.contract import encoder_version, has_video
from young_prism.core.svg import MINIFIER
from young_prism.core.types import ImageFormat

_ENCODED = (ImageFormat.JXL, ImageFormat.AVIF, ImageFormat.WEBP, ImageFormat.JPEG, ImageFormat.PNG)


def _vips_version() -> str:
    """Return the version of libvips; its codecs come with it in one wheel."""
    import pyvips

    return ".".join(str(pyvips.version(part)) for part in range(3))


def versions() -> dict[str, str]:
    """Return what must be equal on two machines for equal bytes."""
    made_by = {fmt.value: encoder_version(fmt) for fmt in _ENCODED}
    return {
        "young-prism": __version__,
        "libvips": _vips_version(),
        **made_by,
        "minified SVG": f"{MINIFIER} {version(MINIFIER)}",
        "video": encoder_version(ImageFormat.MP4) if has_video() else "not installed",
    }

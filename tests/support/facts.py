"""Facts of originals that are on no disk."""

from __future__ import annotations

from dataclasses import replace

from young_prism.core.images.facts import Facts
from young_prism.core.types import (
    ImageFormat,
    Kind,
    Size,
)


def facts(width: int = 1000, height: int = 500, **changes: object) -> Facts:
    size = Size(width, height)
    base = Facts(
        format=ImageFormat.JPEG, size=size, stored=size, orientation=1, bytes=9, sha256="0" * 64, frames=1,
        kind=Kind.PHOTO, reason="", transparent=False, grey=False, profile=False, cmyk=False, mean_colour="#000000",
    )  # fmt: skip
    return replace(base, **changes)

"""Delivered originals that are on no disk."""

from __future__ import annotations

from young_prism.core.manifest.model import RenditionEntry
from young_prism.core.markup.delivered import Delivered
from young_prism.core.markup.picture import ArtDirection
from young_prism.core.recipe.model import Markup
from young_prism.core.types import ImageFormat

ALL = (ImageFormat.AVIF, ImageFormat.WEBP, ImageFormat.JPEG)
"""Formats in the order of preference."""


def delivered(*, facet: str | None = None, markup: Markup | None = None, **settings: object) -> Delivered:
    """Three formats at 400, 800 and 1600 px, and where it is asked for a square of 300 and 600."""
    sizes = [(400, 200, None), (800, 400, None), (1600, 800, None)]
    sizes += [(300, 300, facet), (600, 600, facet)] if facet else []
    entries = tuple(
        RenditionEntry(
            path=f"photos/a b{'-' + of if of else ''}-{width}w.{fmt.ext}",
            format=fmt.value,
            type=fmt.mime,
            width=width,
            height=height,
            bytes=width * (1 + number),
            sha256="0",
            key="k",
            facet=of,
            outcome="made",
            reason="",
        )
        for number, fmt in enumerate(ALL)
        for width, height, of in sizes
    )
    art = (ArtDirection(facet, 480, "100vw"),) if facet else ()
    return Delivered("photos/a b.jpg", entries, markup or Markup(sizes="100vw"), art, **settings)

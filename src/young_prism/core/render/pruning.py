"""Is a format worth delivering? Not when one that more browsers show needs no more bytes.

This one rule decides both which formats a picture has and which of them comes first. Who shows JPEG XL also shows AVIF, and who
shows AVIF also shows WebP (from memory). So a format that fewer browsers show earns its place only by fewer bytes, and
what is left is in the order of bytes: the smallest first.

Decided for a format's whole ladder at once: a browser first settles on a format (the first `source` that it
knows) and then on a rung, so leaving a single rung out would send it to a larger one.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from typing import NamedTuple

from young_prism.core.types import MODERN_FORMATS, VIDEO_FORMATS, ImageFormat


class RungFile(NamedTuple):
    """A file of one rung.

    Attributes:
        facet: The crop that it shows.
        format: Its format.
        bytes: Its size.
        share: The share of visits that fetch this rung.
    """

    facet: str
    format: ImageFormat
    bytes: int
    share: float


def redundant_formats(averages: Mapping[ImageFormat, float]) -> dict[ImageFormat, str]:
    """Return the formats to leave out, each with the reason.

    Args:
        averages: The bytes that an average visit fetches in each format, one fallback among them.
    """
    ranks = {fmt: rank for rank, fmt in enumerate((*MODERN_FORMATS, *VIDEO_FORMATS))}
    from_widest_support = sorted(averages, key=lambda fmt: ranks.get(fmt, len(ranks)), reverse=True)
    left_out: dict[ImageFormat, str] = {}
    for position, fmt in enumerate(from_widest_support[1:], start=1):
        rivals = [rival for rival in from_widest_support[:position] if rival not in left_out]
        best = min(rivals, key=lambda rival: averages[rival])
        if averages[best] <= averages[fmt]:
            left_out[fmt] = (
                f"an average visit fetches {averages[fmt]:,.0f} bytes of {fmt.label} and {averages[best]:,.0f} of "
                f"{best.label}, which more browsers show"
            )
    return left_out


def redundant_files(files: Iterable[RungFile]) -> dict[tuple[str, ImageFormat], str]:
    """Return the formats to leave out of each facet of an original, with the reasons.

    Args:
        files: All files of the original.
    """
    facets: dict[str, dict[ImageFormat, float]] = {}
    for file in files:
        averages = facets.setdefault(file.facet, {})
        averages[file.format] = averages.get(file.format, 0.0) + file.bytes * file.share
    return {
        (facet, fmt): reason
        for facet, averages in facets.items()
        if ImageFormat.SVG not in averages  # a drawing is sharp at any size, which no bytes can weigh up
        for fmt, reason in redundant_formats(averages).items()
    }

"""Is a format worth delivering? Not when a safer one does the same job in as few bytes.

Decided for a format's whole ladder at once: a browser first settles on a format (the first `source` that it
knows) and then on a rung, so leaving a single rung out would send it to a larger one.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence

from young_prism.core.types import ImageFormat


def redundant_formats(sizes: Mapping[ImageFormat, Sequence[int]]) -> dict[ImageFormat, str]:
    """Return the formats to leave out, each with the reason.

    `sizes` has the bytes of each format's files over the same ladder, in order of preference with the fallback last. A format
    is left out when one that comes after it, and is delivered itself, needs no more bytes in all.
    """
    totals = {fmt: sum(files) for fmt, files in sizes.items()}
    order = list(sizes)
    left_out: dict[ImageFormat, str] = {}
    for position in range(len(order) - 2, -1, -1):
        fmt = order[position]
        rivals = [later for later in order[position + 1 :] if later not in left_out]
        best = min(rivals, key=lambda rival: totals[rival])
        if totals[best] <= totals[fmt]:
            left_out[fmt] = (
                f"{best.label} does the same in {totals[best]:,} bytes for all widths; {fmt.label} needs {totals[fmt]:,}"
            )
    return left_out


def redundant_files(files: Iterable[tuple[str, ImageFormat, int]]) -> dict[tuple[str, ImageFormat], str]:
    """Judge each cut of an original by itself: from facet, format and bytes of every file to what is left out, and why."""
    facets: dict[str, dict[ImageFormat, list[int]]] = {}
    for facet, fmt, size in files:
        facets.setdefault(facet, {}).setdefault(fmt, []).append(size)
    return {
        (facet, fmt): reason
        for facet, sizes in facets.items()
        if ImageFormat.SVG not in sizes  # a drawing is sharp at any size, which no bytes can weigh up
        for fmt, reason in redundant_formats(sizes).items()
    }

"""From the lines of a layout to the pixels that visitors need, and to the `sizes` that says the same to a browser.

"Up to 640 px the picture takes the whole width, above that half, never over 720 px" are two lines. HTML Living Standard,
`sizes` (4.8.4.2.2): media conditions with lengths, the last one without; CSS Values 4: `min()` (10.6).
"""

from __future__ import annotations

import csv
import io
import math

from young_prism.core.errors import RecipeError
from young_prism.core.ladder.optimum import Need, merged
from young_prism.core.recipe.ladder import Layout, LayoutLine
from young_prism.messages.recipes import NO_VIEWPORTS, viewport_line

USUAL_VIEWPORTS: tuple[tuple[int, float], ...] = (
    (360, 14.0), (375, 6.0), (390, 14.0), (412, 12.0), (430, 8.0), (768, 4.0), (820, 3.0), (1024, 3.0),
    (1280, 7.0), (1366, 8.0), (1440, 5.0), (1536, 8.0), (1920, 8.0),
)  # fmt: skip
"""Widths in CSS pixels with shares of visits, for who has none of their own (from memory, rounded)."""


def shown_width(layout: Layout, viewport: int) -> float:
    """Return how wide the picture is shown in a viewport, in CSS pixels."""
    line = next(line for line in layout.lines if line.up_to is None or viewport <= line.up_to)
    width = line.share * viewport
    return min(width, line.at_most) if line.at_most else width


def needs_of(layout: Layout) -> list[Need]:
    """Return the pixel widths that visitors need, rounded up, with their weights; each density counts the same."""
    viewports = layout.viewports or USUAL_VIEWPORTS
    return merged(
        Need(math.ceil(shown_width(layout, viewport) * density - 1e-9), share / len(layout.densities))
        for viewport, share in viewports
        for density in layout.densities
    )


def sizes_of(layout: Layout) -> str:
    """Return the attribute `sizes` of a layout."""
    return ", ".join(_size(line, layout) for line in layout.lines)


def _size(line: LayoutLine, layout: Layout) -> str:
    share = f"{line.share * 100:.4f}".rstrip("0").rstrip(".") + "vw"
    length = share
    if line.at_most:
        # Where the share never comes to the limit, or always does, one of the two says it all.
        above = max(
            (
                other_line.up_to or 0
                for other_line in layout.lines
                if other_line is not line and (other_line.up_to or 0) < (line.up_to or 1 << 30)
            ),
            default=0,
        )
        if line.up_to and line.share * line.up_to <= line.at_most:
            length = share
        elif above and line.share * above >= line.at_most:
            length = f"{line.at_most}px"
        else:
            length = f"min({share}, {line.at_most}px)"
    return f"(max-width: {line.up_to}px) {length}" if line.up_to else length


def read_viewports(text: str, *, file: str = "") -> tuple[tuple[int, float], ...]:
    """Read a CSV of viewport widths in CSS pixels with their shares of visits; a heading may stand above.

    Raises `RecipeError` naming the line that cannot be used.
    """
    viewports: list[tuple[int, float]] = []
    for number, row in enumerate(csv.reader(io.StringIO(text)), start=1):
        cells = [cell.strip().rstrip("%").strip() for cell in row if cell.strip()]
        viewport = _viewport(cells)
        if viewport:
            viewports.append(viewport)
        elif cells and (viewports or number > 1):  # the first line may be a heading
            raise RecipeError.of(viewport_line(number), file=file)
    if not viewports:
        raise RecipeError.of(NO_VIEWPORTS, file=file)
    return tuple(viewports)


def _viewport(cells: list[str]) -> tuple[int, float] | None:
    try:
        width, share = int(cells[0]), float(cells[1])
    except (ValueError, IndexError):
        return None
    return (width, share) if width >= 1 and 0 <= share < math.inf else None

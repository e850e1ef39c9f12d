"""From measured boxes to `sizes`, and to the width of a place in viewports that nobody measured.

The width of a place is nearly always a chain of straight lines over the width of the viewport: fixed, a share of it, or a share less
fixed margins, from one breakpoint to the next. The lines are found by extending each as far as all measured points lie on it.
"""

from __future__ import annotations

import math
from collections.abc import Iterable, Sequence
from typing import NamedTuple

from young_prism.core.measurement.model import MeasuredImage

_TOLERANCE = 0.75
"""CSS pixels that a point may lie off its line; browsers round the sides of boxes."""
_MOST_SLOPE = 1.05
"""A place does not grow faster than the viewport; what seems to is a breakpoint between two points."""
_LEAST_SLOPE = -0.02
_FLAT = 0.002


class Line(NamedTuple):
    """The width of a place from one viewport width on: `share` of the viewport's width, and `offset` CSS pixels.

    Attributes:
        since: The first viewport width for which it holds.
        share: Of the width of the viewport, 0 to 1.
        offset: CSS pixels to add, often negative.
    """

    since: int
    share: float
    offset: float

    def at(self, viewport: float) -> float:
        """Return the width of the place in a viewport of some width."""
        return max(0.0, self.share * viewport + self.offset)

    @property
    def length(self) -> str:
        """The width as CSS writes it (CSS Values 4, 10.1)."""
        percentage = f"{self.share * 100:.2f}".rstrip("0").rstrip(".") + "vw"
        if abs(self.share) < _FLAT:
            return f"{_number(self.offset)}px"
        if abs(self.offset) < _TOLERANCE:
            return percentage
        sign = "-" if self.offset < 0 else "+"
        return f"calc({percentage} {sign} {_number(abs(self.offset))}px)"


def _number(value: float) -> str:
    return f"{value:.1f}".removesuffix(".0")


def keeps_ratio(image: MeasuredImage) -> bool:
    """Whether an image has its natural aspect ratio in every viewport, and nothing fixes its height.

    A fixed height keeps the ratio as well: so some box must have the natural size, or the heights must differ.
    """
    boxes = [box for box in image.boxes if box.width and box.height]
    if not boxes or not image.natural_width or image.is_broken:
        return False
    ratio = image.natural_height / image.natural_width
    is_proportional = all(abs(box.height - box.width * ratio) <= 2 * _TOLERANCE for box in boxes)
    heights = [box.height for box in boxes]
    has_natural_size = any(abs(box.width - image.natural_width) <= _TOLERANCE for box in boxes)
    return is_proportional and (has_natural_size or max(heights) - min(heights) > 2 * _TOLERANCE)


class _Point(NamedTuple):
    viewport: int
    width: float


def needed_width(image: MeasuredImage, width: float, height: float) -> float:
    """Return how wide the picture itself is in a box: wider than the box where `object-fit` cuts its sides off."""
    if image.object_fit == "cover" and image.natural_height:
        return max(width, height * image.natural_width / image.natural_height)
    return width


def width_lines(images: Iterable[MeasuredImage]) -> tuple[Line, ...]:
    """Return the width of a place as lines, ascending by viewport; empty where no viewport shows it.

    Args:
        images: The measurements of the place; of several, the widest counts at each viewport.
    """
    widest: dict[int, float] = {}
    for image in images:
        for box in image.boxes:
            if box.width and box.height and not image.is_broken:
                needed = needed_width(image, box.width, box.height)
                widest[box.viewport] = max(widest.get(box.viewport, 0.0), needed)
    points = [_Point(viewport, widest[viewport]) for viewport in sorted(widest)]
    lines: list[Line] = []
    at = 0
    while at < len(points):
        end, share, offset = _longest(points, at)
        since = (
            _boundary(lines[-1], share, offset, points[at - 1], points[at]) if lines else points[0].viewport
        )
        lines.append(Line(since, share, offset))
        at = end
    return tuple(lines)


def _longest(points: Sequence[_Point], first: int) -> tuple[int, float, float]:
    """Return the end of the longest line from a point on, its share and its offset."""
    end, share, offset = first + 1, 0.0, points[first].width
    for last in range(first + 1, len(points)):
        run = points[last].viewport - points[first].viewport
        slope = (points[last].width - points[first].width) / run
        start = points[first].width - slope * points[first].viewport
        on_line = all(
            abs(slope * point.viewport + start - point.width) <= _TOLERANCE
            for point in points[first : last + 1]
        )
        if not (on_line and _LEAST_SLOPE <= slope <= _MOST_SLOPE):
            continue
        if abs(slope) >= _FLAT:
            end, share, offset = last + 1, slope, start
            continue
        widths = [point.width for point in points[first : last + 1]]
        if (
            max(widths) - min(widths) <= _TOLERANCE
        ):  # levelled at the widest, which must fit the narrowest too
            end, share, offset = last + 1, 0.0, max(widths)
    return end, share, offset


def _boundary(line: Line, share: float, offset: float, before: _Point, after: _Point) -> int:
    """Return where the next line begins: where both meet between two points, otherwise at the second point."""
    if not math.isclose(line.share, share, abs_tol=_FLAT):
        crossing = (offset - line.offset) / (line.share - share)
        if before.viewport <= crossing <= after.viewport:
            return math.ceil(crossing)
    return after.viewport


def width_at(lines: Sequence[Line], viewport: float) -> float:
    """Return the width of a place in a viewport; the first line holds below it too. Raises `ValueError` without lines."""
    if not lines:
        raise ValueError("a place that is shown nowhere has no width")
    return next((line for line in reversed(lines) if line.since <= viewport), lines[0]).at(viewport)


def sizes_of_lines(lines: Sequence[Line]) -> str:
    """Return the attribute `sizes` of a place (HTML, 4.8.4.2.2). Raises `ValueError` without lines."""
    if not lines:
        raise ValueError("a place that is shown nowhere has no sizes")
    parts = [f"(min-width: {line.since}px) {line.length}" for line in reversed(lines[1:])]
    return ", ".join([*parts, lines[0].length])

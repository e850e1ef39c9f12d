"""A ladder on its axis: what visitors need as small bars, the rungs as lines, and between them what is fetched for nothing."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass

from young_prism.core.ladder.optimum import Need
from young_prism.reports.drawing.spectrum import AxisMark, apart

WIDTH, HEIGHT = 720.0, 150.0
_FLOOR, _TOP, _LEFT, _RIGHT = 122.0, 26.0, 8.0, 24.0


@dataclass(frozen=True, slots=True)
class NeedBar:
    """One need: its bar from the floor up to `y`, and how far right the rung lies that it fetches."""

    need: Need
    x: float
    y: float
    to: float
    short: bool


@dataclass(frozen=True, slots=True)
class LadderDrawing:
    """Coordinates in a box of `width` x `height`; `rungs` are marks at the lines, with their widths as text."""

    rungs: tuple[AxisMark, ...]
    labels: tuple[AxisMark, ...]
    needs: tuple[NeedBar, ...]
    low: float
    high: float
    """Logarithms of the widths at the axis' ends, `left` and `right` in the box: for moving a rung."""
    left: float = _LEFT
    right: float = WIDTH - _RIGHT
    width: float = WIDTH
    height: float = HEIGHT
    floor: float = _FLOOR
    top: float = _TOP


def draw_ladder(rungs: Sequence[int], needs: Sequence[Need]) -> LadderDrawing:
    """Draw rungs and needs on one logarithmic axis of pixels."""
    every = [*rungs, *(need.width for need in needs)]
    low, high = math.log(min(every) * 0.85), math.log(max(every) * 1.15)
    heaviest = max((need.weight for need in needs), default=1.0)

    def across(width: int) -> float:
        share = (math.log(width) - low) / ((high - low) or 1.0)
        return round(_LEFT + share * (WIDTH - _LEFT - _RIGHT), 1)

    bars = []
    for need in needs:
        rung = next((rung for rung in rungs if rung >= need.width), None)
        bars.append(
            NeedBar(
                need,
                across(need.width),
                round(_FLOOR - (_FLOOR - _TOP) * 0.72 * need.weight / heaviest, 1),
                across(rung or rungs[-1]),
                short=rung is None,
            )
        )
    marks = tuple(AxisMark(across(rung), f"{rung}") for rung in rungs)
    return LadderDrawing(marks, apart(marks, 34.0), tuple(bars), round(low, 5), round(high, 5))

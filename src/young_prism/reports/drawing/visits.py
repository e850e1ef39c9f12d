"""What screens need and which rung answers: viewports across, pixels up, a line for each density over a band for each rung.

A line that leaves all bands at the top is a place that gets too few pixels; a band that no line enters is a rung that nobody fetches;
a band that is very tall is a hole in the ladder.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from itertools import pairwise

from young_prism.core.markup.media import Screen
from young_prism.core.report.formatting import format_bytes
from young_prism.core.report.visits import FetchResult, RungChoice, fetch
from young_prism.reports.drawing.spectrum import AxisMark

WIDTH, HEIGHT = 760.0, 330.0
_LEFT, _RIGHT, _TOP, _FLOOR = 54.0, 716.0, 12.0, 296.0
NARROWEST, WIDEST = 320, 1920
_STEP = 8
_LEAST_HEIGHT = 13.0
"""Of a band that has room for its name."""
_DENSITIES = (1, 2, 3)


@dataclass(frozen=True, slots=True)
class FetchBand:
    """One rung in one range of viewports."""

    x: float
    y: float
    width: float
    height: float
    format: str
    label: str
    title: str
    odd: bool
    unused: bool


@dataclass(frozen=True, slots=True)
class NeedMark:
    """The pixels that screens of one density need."""

    path: str
    label: str
    at: tuple[float, float]


@dataclass(frozen=True, slots=True)
class VisitsDrawing:
    """Coordinates in a box of `width` x `height`."""

    bands: tuple[FetchBand, ...]
    needs: tuple[NeedMark, ...]
    across: tuple[AxisMark, ...]
    up: tuple[AxisMark, ...]
    cursor: tuple[float, float]
    width: float = WIDTH
    height: float = HEIGHT
    left: float = _LEFT
    right: float = _RIGHT
    top: float = _TOP
    floor: float = _FLOOR


def draw_visits(choices: Sequence[RungChoice], chosen: FetchResult, unused: Sequence[str]) -> VisitsDrawing:
    """Draw the ladders of one original with the screen that is looked at; `unused` are paths of rungs that nobody fetches."""
    viewports = range(NARROWEST, WIDEST + 1, _STEP)
    lines = {
        density: [(width, fetch(choices, Screen(width, density)).needed) for width in viewports]
        for density in _DENSITIES
    }
    tallest = max(
        [needed for line in lines.values() for _, needed in line]
        + [rung.width for ladder in choices for rung in ladder.rungs]
    )
    top = tallest * 1.04

    def across(width: float) -> float:
        share = (min(max(width, NARROWEST), WIDEST) - NARROWEST) / (WIDEST - NARROWEST)
        return round(_LEFT + share * (_RIGHT - _LEFT), 1)

    def up(pixels: float) -> float:
        return round(_FLOOR - min(pixels, top) / top * (_FLOOR - _TOP), 1)

    bands = []
    start = NARROWEST
    for ladder in choices:
        end = ladder.up_to or WIDEST
        below = 0
        for number, rung in enumerate(ladder.rungs):
            x, y = across(start), up(rung.width)
            height = up(below) - y
            label = f"{rung.width} px, {format_bytes(rung.bytes)}"
            nobody = rung.path in unused
            name = "" if height < _LEAST_HEIGHT else _named(label, rung.width, across(end) - x, nobody=nobody)
            bands.append(
                FetchBand(
                    x,
                    y,
                    across(end) - x,
                    height,
                    rung.format,
                    name,
                    f"{label}{', facet ' + ladder.facet if ladder.facet else ''}{'; no visitor of the usual mix fetches it' if nobody else ''}",
                    odd=bool(number % 2),
                    unused=nobody,
                )
            )
            below = rung.width
        start = end
    needs = []
    for density, line in lines.items():
        points = [f"{across(line[0][0])} {up(line[0][1])}"]
        for before, now in pairwise(line):
            if now[1] < before[1] or now[1] - before[1] > _STEP * density * 1.5:
                points.append(
                    f"{across(now[0])} {up(before[1])}"
                )  # the layout changes here: a step, not a slope
            points.append(f"{across(now[0])} {up(now[1])}")
        needs.append(NeedMark("M" + "L".join(points), f"{density}×", (_RIGHT + 8, up(line[-1][1]) + 4)))
    step = next(size for size in (200, 500, 1000, 2000, 5000) if top / size <= 7 or size == 5000)
    return VisitsDrawing(
        tuple(bands),
        tuple(_apart(needs)),
        tuple(AxisMark(across(width), str(width)) for width in (320, 480, 640, 768, 1024, 1280, 1600, 1920)),
        tuple(AxisMark(up(pixels), str(pixels)) for pixels in range(0, int(top), step)),
        (across(chosen.screen.width), up(chosen.needed)),
    )


def _named(label: str, width: int, room: float, *, nobody: bool) -> str:
    """Return a band's name, as long as there is room for it."""
    if room < 90:
        return str(width) if room > 36 else ""
    return f"{label}, nobody" if nobody else label


def _apart(needs: Sequence[NeedMark]) -> list[NeedMark]:
    """Move names that would lie over each other, from the lowest line up."""
    placed: list[NeedMark] = []
    for need in needs:
        y = need.at[1]
        if placed and y > placed[-1].at[1] - 14:
            y = placed[-1].at[1] - 14
        placed.append(NeedMark(need.path, need.label, (need.at[0], y)))
    return placed

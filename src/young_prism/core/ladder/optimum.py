"""Which widths waste the least, exactly.

A visitor whose place on the page needs n pixels fetches the narrowest rung that has them. What is fetched beyond the
need is waste; bytes go with area (common practice, no source), so a rung of r pixels costs r² and wastes r² - n². The
sum over all needs, each by its weight, is what the choice of K rungs makes smallest. There is always an optimum whose
rungs are themselves needs: a rung between two needs may go down to the lower one without harm to anybody.
"""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from typing import NamedTuple


class Need(NamedTuple):
    """A width in pixels that visitors need. `weight` is its share of visits."""

    width: int
    weight: float


class Waste(NamedTuple):
    """`beyond` is the share of the fetched pixels that nobody needed; `short` the share of visits that get too few."""

    beyond: float
    short: float


def merged(needs: Iterable[Need]) -> list[Need]:
    """Return needs by width, ascending, each width once with the sum of its weights."""
    sums: dict[int, float] = {}
    for width, weight in needs:
        sums[width] = sums.get(width, 0.0) + weight
    return [Need(width, sums[width]) for width in sorted(sums) if sums[width] > 0]


def best_rungs(needs: Iterable[Need], count: int) -> tuple[int, ...]:
    """Return at most `count` widths that waste the least and leave nobody short, ascending.

    Dynamic programming over the needs in order: the best way to serve the first j of them with k rungs, the last rung
    at need j. Raises `ValueError` without a need or a rung.
    """
    ordered = merged(needs)
    if not ordered or count < 1:
        raise ValueError("at least one need and one rung are wanted")
    number = len(ordered)
    if count >= number:
        return tuple(need.width for need in ordered)
    waste = _WasteBetween(ordered)
    best = [waste(0, last) for last in range(number)]
    came_from: list[list[int]] = []
    for _ in range(1, count):
        fresh, origin = list(best), [-1] * number
        for last in range(1, number):
            for first in range(1, last + 1):
                total = best[first - 1] + waste(first, last)
                if total < fresh[last] - 1e-12:
                    fresh[last], origin[last] = total, first - 1
        best = fresh
        came_from.append(origin)
    rungs, last = [], number - 1
    for origin in reversed(came_from):
        if origin[last] >= 0:
            rungs.append(ordered[last].width)
            last = origin[last]
    return tuple(sorted({*rungs, ordered[last].width}))


class _WasteBetween:
    """Waste when the needs from `first` to `last` all fetch the width of the last one; constant time by running sums."""

    def __init__(self, needs: Sequence[Need]) -> None:
        self._needs = needs
        self._weights, self._areas = [0.0], [0.0]
        for width, weight in needs:
            self._weights.append(self._weights[-1] + weight)
            self._areas.append(self._areas[-1] + weight * width**2)

    def __call__(self, first: int, last: int) -> float:
        weight = self._weights[last + 1] - self._weights[first]
        return weight * self._needs[last].width ** 2 - (self._areas[last + 1] - self._areas[first])


def waste_of(widths: Sequence[int], needs: Iterable[Need]) -> Waste:
    """Return what a ladder wastes on these needs. Raises `ValueError` for an empty ladder."""
    if not widths:
        raise ValueError("a ladder without a rung")
    rungs = sorted(widths)
    fetched = beyond = short = total = 0.0
    for width, weight in merged(needs):
        rung = next((rung for rung in rungs if rung >= width), rungs[-1])
        fetched += weight * rung**2
        beyond += weight * max(0, rung**2 - width**2)
        short += weight if rung < width else 0.0
        total += weight
    return Waste(beyond / fetched if fetched else 0.0, short / total if total else 0.0)

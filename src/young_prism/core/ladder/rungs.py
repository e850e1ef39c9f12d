"""From a recipe's ladder to the sizes of one original. No picture is enlarged that the ladder does not enlarge on purpose."""

from __future__ import annotations

import math
from functools import lru_cache

from young_prism.core.ladder.layout import needs_of
from young_prism.core.ladder.optimum import best_rungs
from young_prism.core.recipe.ladder import Ladder, Layout
from young_prism.core.types import Size


@lru_cache(maxsize=4096)
def rungs_for(original: Size, ladder: Ladder) -> tuple[Size, ...]:
    """Return the sizes to make of an original, ascending.

    A rung over the original, or over the ladder's box, is left out. Where that cuts the ladder's top off, the largest
    size that is allowed becomes the last rung, so that no detail is lost. Of two rungs that are nearly the same the
    smaller is left out.
    """
    most = _largest(original, ladder)
    reached_sizes = sorted(
        {_at_measure(original, rung, ladder) for rung in _measures(original, most, ladder)}
    )
    fitting = [size for size in reached_sizes if size.width <= most.width and size.height <= most.height]
    if not fitting or reached_sizes[-1] not in fitting:
        fitting.append(most)
    sizes = [fitting[-1]]
    for size in reversed(fitting[:-1]):
        if sizes[-1].width / size.width >= ladder.min_step and size != sizes[-1]:
            sizes.append(size)
    return _thinned(tuple(reversed(sizes)), ladder.max_rungs)


def _thinned(sizes: tuple[Size, ...], most: int | None) -> tuple[Size, ...]:
    """Return at most `most` sizes: the largest, the smallest, and between them those nearest to equal ratios."""
    if most is None or len(sizes) <= most:
        return sizes
    if most == 1:
        return sizes[-1:]
    low, high = sizes[0].width, sizes[-1].width
    ideal_widths = [low * (high / low) ** (step / (most - 1)) for step in range(most)]
    left = list(sizes)
    chosen = []
    for number, width in enumerate(ideal_widths, start=1):
        # Enough sizes are left for the widths that follow.
        reachable = left[: len(left) - (most - number)]
        nearest = min(reachable, key=lambda size: abs(math.log(size.width / width)))
        chosen.append(nearest)
        left = left[left.index(nearest) + 1 :]
    return tuple(chosen)


def widths_of(ladder: Ladder) -> tuple[int, ...]:
    """Return the rungs as numbers where they do not depend on the original: a list, or those of a layout."""
    return _best_for(ladder.layout) if ladder.layout else ladder.widths


def _largest(original: Size, ladder: Ladder) -> Size:
    """Return the largest size allowed: the original's own, or that times the allowed enlargement, inside the box."""
    if ladder.enlarge > 1:
        original = original.at_width(max(original.width, math.floor(original.width * ladder.enlarge)))
    if ladder.box is None or (original.width <= ladder.box[0] and original.height <= ladder.box[1]):
        return original
    return original.inside(Size(*ladder.box))


def _measures(original: Size, most: Size, ladder: Ladder) -> tuple[int, ...]:
    """Return the rungs in the ladder's measure, ascending."""
    top = {"width": most.width, "height": most.height, "longest-side": max(most)}[ladder.measure]
    if ladder.percents:
        whole = {"width": original.width, "height": original.height, "longest-side": max(original)}
        return tuple(max(1, round(whole[ladder.measure] * percent / 100)) for percent in ladder.percents)
    if ladder.steps:
        # Bytes go with area: a step that saves a share s of them takes the width times the square root of 1 - s.
        rungs: list[int] = []
        factor = math.sqrt(1 - ladder.steps.save)
        rung = float(top)
        while rung >= ladder.steps.smallest or not rungs:
            rungs.append(max(1, round(rung)))
            rung *= factor
        return tuple(rungs)
    return widths_of(ladder)


def _at_measure(original: Size, rung: int, ladder: Ladder) -> Size:
    if ladder.measure == "width":
        return original.at_width(rung)
    if ladder.measure == "height":
        return original.at_height(rung)
    return original.inside(Size(rung, rung))


@lru_cache(maxsize=64)
def _best_for(layout: Layout) -> tuple[int, ...]:
    if isinstance(layout.rungs, tuple):
        return tuple(sorted(set(layout.rungs)))
    return best_rungs(needs_of(layout), layout.rungs)


@lru_cache(maxsize=4096)
def visit_shares(rungs: tuple[Size, ...], ladder: Ladder) -> tuple[float, ...]:
    """Return the share of visits that fetch each rung: the narrowest that has the pixels needed, else the widest.

    Args:
        rungs: The rungs of one picture, ascending.
        ladder: The ladder, whose layout says how wide pages show pictures; without one, as wide as the viewport.
    """
    shares = [0.0] * len(rungs)
    needs = needs_of(ladder.layout or Layout())
    for width, weight in needs:
        shares[next((at for at, rung in enumerate(rungs) if rung.width >= width), -1)] += weight
    total = sum(weight for _, weight in needs)
    return tuple(share / total for share in shares)

"""What browsers would fetch for one place of a page, against the file that it loads now."""

from __future__ import annotations

from functools import lru_cache
from typing import NamedTuple

from young_prism.core.ladder.layout import USUAL_VIEWPORTS
from young_prism.core.manifest.model import RenditionEntry
from young_prism.core.markup.delivered import Delivered, offered
from young_prism.core.markup.media import Screen
from young_prism.core.markup.selection import slot_width
from young_prism.core.render.pruning import redundant_formats
from young_prism.core.types import ImageFormat

_DENSITIES = (1, 2, 3)


class PlaceWeight(NamedTuple):
    """The weight of one place.

    Attributes:
        left_out: The formats that save nothing here over one that more browsers show.
        is_heavier: Whether some usual screen would fetch more than the file that the page loads now.
    """

    left_out: frozenset[str]
    is_heavier: bool


def weight_of(delivered: Delivered, original_bytes: int) -> PlaceWeight:
    """Return what an original's renditions weigh in a place, shown as its markup says.

    Args:
        delivered: The original, with the `sizes` of the place.
        original_bytes: The bytes that the place loads now; 0 where that is not known.
    """
    needs = [(_needed(delivered.markup.sizes, screen), weight) for screen, weight in _screens()]
    ladders: dict[ImageFormat, list[RenditionEntry]] = {}
    for rendition in offered(delivered.whole):
        ladders.setdefault(ImageFormat(rendition.format), []).append(rendition)
    fetched = {
        fmt: [
            (_fetched(sorted(rungs, key=lambda rung: rung.width), width), weight) for width, weight in needs
        ]
        for fmt, rungs in ladders.items()
    }
    averages = {fmt: sum(size * weight for size, weight in sizes) for fmt, sizes in fetched.items()}
    left_out = redundant_formats(averages)
    best = next(fmt for fmt in fetched if fmt not in left_out)
    heaviest = max(size for size, _ in fetched[best])
    return PlaceWeight(
        frozenset(fmt.value for fmt in left_out), bool(original_bytes) and heaviest > original_bytes
    )


def _fetched(rungs: list[RenditionEntry], needed: float) -> int:
    return next((rung for rung in rungs if rung.width >= needed), rungs[-1]).bytes


@lru_cache(maxsize=1)
def _screens() -> tuple[tuple[Screen, float], ...]:
    total = sum(share for _, share in USUAL_VIEWPORTS) * len(_DENSITIES)
    return tuple(
        (Screen(width, density), share / total) for width, share in USUAL_VIEWPORTS for density in _DENSITIES
    )


@lru_cache(maxsize=4096)
def _needed(sizes: str, screen: Screen) -> float:
    return slot_width(sizes, screen) * screen.density

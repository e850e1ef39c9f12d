"""What a saving means to a visitor of the page."""

from __future__ import annotations

from collections.abc import Sequence
from typing import NamedTuple

PHONE_CSS_PX = 390
PHONE_DENSITY = 2


class DeliveredRung(NamedTuple):
    """One rendition of the format that a browser takes: width in pixels, and bytes."""

    width: int
    bytes: int


def fetched(rungs: Sequence[DeliveredRung], css_px: int, density: float) -> DeliveredRung:
    """Return the rung that is fetched for a picture shown `css_px` wide at a pixel density.

    The narrowest one that has enough pixels, else the widest: what browsers do with a cold cache (HTML Living
    Standard, 4.8.4.3.7, leaves the choice to them). Raises `ValueError` for an empty ladder.
    """
    if not rungs:
        raise ValueError("no rung to choose from")
    ascending = sorted(rungs)
    needed = css_px * density
    return next((rung for rung in ascending if rung.width >= needed), ascending[-1])


def phone_fetches(rungs: Sequence[DeliveredRung]) -> DeliveredRung:
    """Return what a phone fetches for a picture as wide as its screen: 390 CSS px at density 2."""
    return fetched(rungs, PHONE_CSS_PX, PHONE_DENSITY)

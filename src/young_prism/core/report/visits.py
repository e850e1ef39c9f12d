"""What visitors fetch of pictures, by their screens and networks: bytes, time, pixels too many and too few."""

from __future__ import annotations

from collections.abc import Collection, Iterable, Sequence
from functools import lru_cache
from typing import NamedTuple

from young_prism.core.ladder.layout import USUAL_VIEWPORTS
from young_prism.core.manifest.model import RenditionEntry
from young_prism.core.markup.delivered import Delivered, offered
from young_prism.core.markup.media import Screen
from young_prism.core.markup.selection import slot_width

ALL_FORMATS = frozenset({"jxl", "avif", "webp", "jpeg", "png", "gif", "svg"})


class Network(NamedTuple):
    """A connection with a name: throughput in bits a second, and the time of one round trip in seconds."""

    name: str
    bits: float
    latency: float

    def seconds(self, size: int) -> float:
        """Return how long a file of `size` bytes takes: one round trip and its bits, on an open connection."""
        return self.latency + size * 8 / self.bits


NETWORKS = (
    Network("Edge of coverage", 400_000, 0.4),
    Network("Slow phone", 1_600_000, 0.15),
    Network("Phone", 9_000_000, 0.06),
    Network("Line at home", 30_000_000, 0.02),
)
"""Common practice, no source: rounded from what tests of pages usually take."""


class FetchResult(NamedTuple):
    """One picture on one screen: what is fetched, how wide its place is in CSS pixels, and how wide it would have to be."""

    screen: Screen
    entry: RenditionEntry
    slot: float

    @property
    def needed(self) -> float:
        """Device pixels across the place."""
        return self.slot * self.screen.density

    @property
    def overfetch(self) -> float:
        """Pixels fetched beyond those that are shown, as a share of those that are."""
        return max(0.0, self._ratio - 1)

    @property
    def underfetch(self) -> float:
        """Pixels that the place has and the rendition lacks, as a share of the place's."""
        return max(0.0, 1 - self._ratio)

    @property
    def _ratio(self) -> float:
        return (self.entry.width / self.needed) ** 2 if self.needed and self.entry.width else 1.0


class RungChoice(NamedTuple):
    """The rungs of the format that a browser takes, in one range of viewports: `up_to` its width, None for all above."""

    up_to: int | None
    facet: str | None
    sizes: str
    rungs: tuple[RenditionEntry, ...]


def ladders(delivered: Delivered, formats: Collection[str] = ALL_FORMATS) -> list[RungChoice]:
    """Return what a browser that shows those formats chooses from, the narrowest viewports first.

    The last format of the whole picture is the fallback, which is taken whatever the browser shows. Raises `ValueError` without it.
    """
    if not delivered.whole:
        raise ValueError("no rendition of the whole picture")
    choices: list[RungChoice] = []
    for art in delivered.art:
        renditions = [rendition for rendition in delivered.renditions if rendition.facet == art.facet]
        rungs = _first(renditions, formats)
        if rungs and not (choices and choices[-1].up_to == art.up_to):
            choices.append(RungChoice(art.up_to, art.facet, art.sizes, rungs))
    rungs = _first(delivered.whole, formats) or tuple(delivered.fallback)
    return [*choices, RungChoice(None, None, delivered.markup.sizes, rungs)]


def _first(renditions: Sequence[RenditionEntry], formats: Collection[str]) -> tuple[RenditionEntry, ...]:
    best = next((rendition.format for rendition in renditions if rendition.format in formats), None)
    candidates = offered(rendition for rendition in renditions if rendition.format == best)
    return tuple(sorted(candidates, key=lambda rendition: rendition.width))


def fetch(choices: Sequence[RungChoice], screen: Screen) -> FetchResult:
    """Return what is fetched on a screen: as `markup.selection.select` finds it in our own markup, and a test compares."""
    ladder = next(choice for choice in choices if choice.up_to is None or screen.width <= choice.up_to)
    slot = _slot(ladder.sizes, screen)
    needed = slot * screen.density
    entry = next((rung for rung in ladder.rungs if rung.width >= needed), ladder.rungs[-1])
    return FetchResult(screen, entry, slot)


@lru_cache(maxsize=4096)
def _slot(sizes: str, screen: Screen) -> float:
    return slot_width(sizes, screen)


class Visit(NamedTuple):
    """A kind of visitor with its share of all visits; shares add up to 1."""

    screen: Screen
    share: float


def typical_visits(viewports: Iterable[tuple[int, float]] = USUAL_VIEWPORTS) -> tuple[Visit, ...]:
    """Return a mix of visitors: viewports with their shares, and the densities that screens of such widths have.

    Phones 2 and 3 alike, tablets 2, desktops seven of ten 1 and the others 2 (from memory, rounded).
    """
    weights: dict[Screen, float] = {}
    for width, share in viewports:
        densities = {2: 0.5, 3: 0.5} if width < 600 else {2: 1.0} if width < 1100 else {1: 0.7, 2: 0.3}
        for density, part in densities.items():
            screen = Screen(width, density)
            weights[screen] = weights.get(screen, 0.0) + share * part
    total = sum(weights.values())
    return tuple(Visit(screen, weight / total) for screen, weight in weights.items())


class AverageFetch(NamedTuple):
    """What a mix of visitors fetches on average, in bytes: of the originals, and of the renditions."""

    before: float
    after: float


def average_fetch(
    pictures: Iterable[tuple[Delivered, int]],
    visits: Sequence[Visit],
    formats: Collection[str] = ALL_FORMATS,
) -> AverageFetch:
    """Add up what visitors fetch of pictures, given with their originals' bytes."""
    before = after = 0.0
    for delivered, size in pictures:
        choices = ladders(delivered, formats)
        before += size
        after += sum(visit.share * fetch(choices, visit.screen).entry.bytes for visit in visits)
    return AverageFetch(before, after)


def unused(choices: Sequence[RungChoice], visits: Sequence[Visit]) -> list[RenditionEntry]:
    """Return the rungs that nobody in a mix of visitors fetches."""
    fetched_paths = {fetch(choices, visit.screen).entry.path for visit in visits}
    return [rung for ladder in choices for rung in ladder.rungs if rung.path not in fetched_paths]

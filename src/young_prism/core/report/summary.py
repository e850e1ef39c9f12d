"""The figures of one run, added up as it goes, so that a run of any length takes the same memory."""

from __future__ import annotations

import heapq
from collections import Counter
from collections.abc import Iterable, Mapping, Sequence
from typing import Any, NamedTuple

from young_prism.core.ladder.layout import shown_width
from young_prism.core.naming.rule import WHOLE_FACET
from young_prism.core.recipe.model import Recipe
from young_prism.core.report.visitor import PHONE_CSS_PX, PHONE_DENSITY, Rung, fetched
from young_prism.core.values import ImageFormat, Outcome

VIEWPORTS = (390, 768, 1280, 1920)
DENSITIES = (1, 2, 3)
_MOST = 20
_DELIVERED = (Outcome.MADE, Outcome.REUSED, Outcome.KEPT)


class Result(NamedTuple):
    """One rendition with its outcome, as a summary needs it; `bytes` is what it weighs, or weighed when it was tried."""

    format: ImageFormat
    width: int
    bytes: int
    outcome: Outcome
    reason: str
    facet: str = WHOLE_FACET


class Viewport(NamedTuple):
    """How a page is looked at: width in CSS pixels, and device pixels a CSS pixel."""

    css_px: int
    density: float

    @property
    def key(self) -> str:
        """Its name in a summary: `390x2`."""
        return f"{self.css_px}x{self.density:g}"


PHONE = Viewport(PHONE_CSS_PX, PHONE_DENSITY)
ALL_VIEWPORTS = tuple(Viewport(width, density) for width in VIEWPORTS for density in DENSITIES)


def shown_at(recipe: Recipe, viewport: Viewport) -> float:
    """Return how wide a recipe's pages show a picture, in CSS pixels: by its layout, or as wide as the page."""
    layout = recipe.ladder.layout
    return shown_width(layout, viewport.css_px) if layout else viewport.css_px


def view_bytes(results: Sequence[Result], shown: float, density: float) -> int:
    """Return what a browser fetches of one original: the whole picture, in the first format that is delivered; 0 for none."""
    there = [r for r in results if r.outcome in _DELIVERED and r.facet == WHOLE_FACET]
    if not there:
        return 0
    rungs = [Rung(r.width, r.bytes) for r in there if r.format is there[0].format]
    return fetched(rungs, round(shown), density).bytes


class Summary:
    """Adds up originals; `as_dict` is what is kept of a run, and compared with the next one."""

    def __init__(self, recipe: Recipe) -> None:
        self._shown = {viewport: shown_at(recipe, viewport) for viewport in ALL_VIEWPORTS}
        self._originals = self._before = self._after = 0
        self._formats: dict[str, list[int]] = {}
        self._folders: dict[str, list[int]] = {}
        self._kinds: dict[str, list[int]] = {}
        self._views: Counter[str] = Counter()
        self._outcomes: Counter[str] = Counter()
        self._savings: list[tuple[int, str, int, int]] = []
        self._slowest: list[tuple[float, str, int]] = []
        self._larger: list[tuple[str, str, int, int]] = []
        self._larger_in_all = 0
        self._verified = self._faults = 0

    def add(
        self, path: str, kind: str, size: int, results: Sequence[Result], seconds: float, *, verified: bool
    ) -> None:
        """Add an original of `size` bytes with what came of it."""
        self._outcomes.update(result.outcome.value for result in results)
        if verified:
            fresh = sum(result.outcome in (Outcome.MADE, Outcome.KEPT) for result in results)
            faults = sum(
                result.outcome is Outcome.FAILED and result.reason.startswith("It was made")
                for result in results
            )
            self._verified += fresh + faults
            self._faults += faults
        if seconds:
            _largest(self._slowest, (seconds, path, size))
        delivered = [result for result in results if result.outcome in _DELIVERED]
        if not delivered:
            return
        after = sum(result.bytes for result in delivered)
        self._originals += 1
        self._before += size
        self._after += after
        for result in delivered:
            _add(self._formats, result.format.value, 1, result.bytes)
        for viewport, shown in self._shown.items():
            self._views[viewport.key] += view_bytes(results, shown, viewport.density) or size
        phone = view_bytes(results, self._shown[PHONE], PHONE.density) or size
        _add(self._folders, path.rpartition("/")[0], 1, size, after, phone)
        _add(self._kinds, kind, 1, size, after, phone)
        _largest(self._savings, (size - phone, path, size, phone))
        self._note_larger(path, size, phone, delivered)

    def _note_larger(self, path: str, size: int, phone: int, delivered: Sequence[Result]) -> None:
        kept = next((result for result in delivered if result.outcome is Outcome.KEPT), None)
        if phone < size and not kept:
            return
        self._larger_in_all += 1
        if len(self._larger) < _MOST:
            why = kept.reason if kept else "what a phone fetches of it weighs more than the original"
            self._larger.append((path, why, size, phone))

    def as_dict(self) -> dict[str, Any]:
        """Return all figures as plain data."""
        return {
            "originals": self._originals,
            "before": self._before,
            "after": self._after,
            "formats": dict(sorted(self._formats.items(), key=lambda pair: -pair[1][1])),
            "folders": dict(sorted(self._folders.items(), key=lambda pair: -pair[1][1])),
            "kinds": dict(sorted(self._kinds.items(), key=lambda pair: -pair[1][1])),
            "views": dict(self._views),
            "outcomes": {outcome.value: self._outcomes[outcome.value] for outcome in Outcome},
            "savings": [
                list(one[1:])
                for one in sorted(self._savings, key=lambda one: (-one[0], one[1]))
                if one[0] > 0
            ],
            "slowest": [
                [path, round(seconds, 2), size] for seconds, path, size in sorted(self._slowest, reverse=True)
            ],
            "larger": [list(one) for one in self._larger],
            "larger_in_all": self._larger_in_all,
            "verified": self._verified,
            "faults": self._faults,
        }


def _add(table: dict[str, list[int]], key: str, *values: int) -> None:
    row = table.setdefault(key, [0] * len(values))
    for place, value in enumerate(values):
        row[place] += value


def _largest(heap: list[Any], one: Any) -> None:
    heapq.heappush(heap, one) if len(heap) < _MOST else heapq.heappushpop(heap, one)


class Change(NamedTuple):
    """One figure of two runs."""

    name: str
    before: int
    now: int


def compared(now: Mapping[str, Any], before: Mapping[str, Any] | None) -> list[Change]:
    """Return the figures of a run beside those of the one before it, where they differ; nothing without one."""
    if not before:
        return []
    names: Iterable[tuple[str, int, int]] = (
        ("originals", before["originals"], now["originals"]),
        ("bytes of originals", before["before"], now["before"]),
        ("bytes of all renditions", before["after"], now["after"]),
        ("bytes on a phone", before["views"].get(PHONE.key, 0), now["views"].get(PHONE.key, 0)),
        *(
            (
                f"bytes of {ImageFormat(fmt).label}",
                before["formats"].get(fmt, [0, 0])[1],
                now["formats"].get(fmt, [0, 0])[1],
            )
            for fmt in sorted({*now["formats"], *before["formats"]})
        ),
    )
    return [Change(name, old, new) for name, old, new in names if old != new]

"""The figures of one run, added up as it goes, so that a run of any length takes the same memory."""

from __future__ import annotations

import heapq
from bisect import bisect_left
from collections import Counter
from collections.abc import Iterable, Mapping, Sequence
from typing import Any, NamedTuple

from young_prism.core.ladder.layout import shown_width
from young_prism.core.naming.rule import WHOLE_FACET
from young_prism.core.recipe.model import Recipe
from young_prism.core.report.visitor import PHONE_CSS_PX, PHONE_DENSITY, DeliveredRung
from young_prism.core.types import ImageFormat, Outcome
from young_prism.messages.output import FAILED_VERIFICATION

VIEWPORTS = (390, 768, 1280, 1920)
DENSITIES = (1, 2, 3)
_MOST = 20
_TOGETHER = 500
"""Shares whose views are added up at once, a column at a time: several times as quick."""
_DELIVERED = (Outcome.MADE, Outcome.REUSED, Outcome.KEPT)


class Result(NamedTuple):
    """One rendition with its outcome, as a summary needs it; `bytes` is what it weighs, or weighed when it was tried."""

    format: ImageFormat
    width: int
    bytes: int
    outcome: Outcome
    reason: str
    facet: str = WHOLE_FACET
    is_kept: bool = False
    """Whether it is the original's own pixels, or a plain copy: in this run or from an earlier one."""


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


def display_width(recipe: Recipe, viewport: Viewport) -> float:
    """Return how wide a recipe's pages show a picture, in CSS pixels: by its layout, or as wide as the page."""
    layout = recipe.ladder.layout
    return shown_width(layout, viewport.css_px) if layout else viewport.css_px


def view_bytes(results: Sequence[Result], display_width: float, density: float) -> int:
    """Return what a browser fetches of one original: the whole picture, in the first format that is delivered; 0 for none."""
    return _fetched(results, [round(display_width) * density])[0]


def _fetched(results: Sequence[Result], needed: Sequence[float]) -> list[int]:
    """Return the bytes that are fetched for each number of device pixels: as `visitor.fetched` finds them, all at once."""
    delivered = [r for r in results if r.outcome in _DELIVERED and r.facet == WHOLE_FACET]
    if not delivered:
        return [0] * len(needed)
    rungs = sorted(DeliveredRung(r.width, r.bytes) for r in delivered if r.format is delivered[0].format)
    widths = [rung.width for rung in rungs]
    return [rungs[min(bisect_left(widths, pixels), len(rungs) - 1)].bytes for pixels in needed]


class OriginalStats(NamedTuple):
    """What one original adds to a summary. It can be kept, and added again where the original is as it was."""

    path: str
    kind: str
    before: int
    """Bytes of the original."""
    after: int
    """Bytes of what is delivered of it."""
    skipped: int
    """How many of its renditions were not worth delivering."""
    formats: dict[str, tuple[int, int]]
    """Renditions and bytes, by format."""
    views: tuple[int, ...]
    """Bytes in each of `ALL_VIEWPORTS`."""
    larger: str
    """Why it is among those that grew or were kept; empty where it is not."""

    @property
    def delivered(self) -> int:
        """How many renditions are delivered."""
        return sum(number for number, _ in self.formats.values())

    @property
    def phone(self) -> int:
        """Bytes that a phone fetches."""
        return self.views[_PHONE]


_PHONE = ALL_VIEWPORTS.index(PHONE)


class OriginalStatsBuilder:
    """Finds the share of each original under one recipe."""

    def __init__(self, recipe: Recipe) -> None:
        self._needed = [
            round(display_width(recipe, viewport)) * viewport.density for viewport in ALL_VIEWPORTS
        ]

    def of(self, path: str, kind: str, size: int, results: Sequence[Result]) -> OriginalStats:
        """Return the figures of an original of `size` bytes with these results."""
        formats: dict[str, tuple[int, int]] = {}
        kept_text = ""
        for result in results:
            if result.outcome in _DELIVERED:
                number, weight = formats.get(result.format.value, (0, 0))
                formats[result.format.value] = (number + 1, weight + result.bytes)
                if result.is_kept and not kept_text:
                    kept_text = result.reason
        views = tuple(fetched or size for fetched in _fetched(results, self._needed))
        grew = views[_PHONE] >= size and "a phone fetches more bytes than the original has"
        return OriginalStats(
            path,
            kind,
            size,
            sum(weight for _, weight in formats.values()),
            sum(result.outcome is Outcome.SKIPPED for result in results),
            formats,
            views,
            (kept_text or grew or "") if formats else "",
        )


class Summary:
    """Adds up originals; `as_dict` is what is kept of a run, and compared with the next one."""

    def __init__(self) -> None:
        self._originals = self._before = self._after = 0
        self._formats: dict[str, list[int]] = {}
        self._folders: dict[str, list[int]] = {}
        self._kinds: dict[str, list[int]] = {}
        self._views: list[tuple[int, ...]] = [(0,) * len(ALL_VIEWPORTS)]
        self._outcomes: Counter[str] = Counter()
        self._savings: list[tuple[int, str, int, int]] = []
        self._slowest: list[tuple[float, str, int]] = []
        self._larger: list[tuple[str, str, int, int]] = []
        self._larger_in_all = 0
        self._verified = self._faults = 0

    def add(self, share: OriginalStats, results: Sequence[Result], seconds: float, *, verified: bool) -> None:
        """Add an original's share, and what this run did: `seconds` in workers, and whether results were `verified`."""
        self._outcomes.update(result.outcome.value for result in results)
        if verified:
            fresh = sum(result.outcome in (Outcome.MADE, Outcome.KEPT) for result in results)
            faults = sum(
                result.outcome is Outcome.FAILED and result.reason.startswith(FAILED_VERIFICATION)
                for result in results
            )
            self._verified += fresh + faults
            self._faults += faults
        if seconds:
            _largest(self._slowest, (seconds, share.path, share.before))
        self._take(share)

    def add_unchanged(self, shares: Iterable[OriginalStats]) -> None:
        """Add originals that this run left as they were."""
        for share in shares:
            self._outcomes[Outcome.REUSED.value] += share.delivered
            self._outcomes[Outcome.SKIPPED.value] += share.skipped
            self._take(share)

    def _take(self, share: OriginalStats) -> None:
        if not share.formats:
            return
        path, size, after, phone = share.path, share.before, share.after, share.phone
        self._originals += 1
        self._before += size
        self._after += after
        for fmt, (number, weight) in share.formats.items():
            _add(self._formats, fmt, number, weight)
        self._views.append(share.views)
        if len(self._views) >= _TOGETHER:
            self._views = [self._totals()]
        _add(self._folders, path.rpartition("/")[0], 1, size, after, phone)
        _add(self._kinds, share.kind, 1, size, after, phone)
        _largest(self._savings, (size - phone, path, size, phone))
        if share.larger:
            self._larger_in_all += 1
            self._larger.append((path, share.larger, size, phone))
            if len(self._larger) > 2 * _MOST:
                self._larger = sorted(self._larger)[:_MOST]

    def _totals(self) -> tuple[int, ...]:
        return tuple(map(sum, zip(*self._views, strict=True)))

    def as_dict(self) -> dict[str, Any]:
        """Return all figures as plain data."""
        return {
            "originals": self._originals,
            "before": self._before,
            "after": self._after,
            "formats": dict(sorted(self._formats.items(), key=lambda pair: -pair[1][1])),
            "folders": dict(sorted(self._folders.items(), key=lambda pair: -pair[1][1])),
            "kinds": dict(sorted(self._kinds.items(), key=lambda pair: -pair[1][1])),
            "views": {
                viewport.key: total for viewport, total in zip(ALL_VIEWPORTS, self._totals(), strict=True)
            },
            "outcomes": {outcome.value: self._outcomes[outcome.value] for outcome in Outcome},
            "savings": [
                list(saving[1:])
                for saving in sorted(self._savings, key=lambda saving: (-saving[0], saving[1]))
                if saving[0] > 0
            ],
            "slowest": [
                [path, round(seconds, 2), size] for seconds, path, size in sorted(self._slowest, reverse=True)
            ],
            "larger": [list(row) for row in sorted(self._larger)[:_MOST]],
            "larger_in_all": self._larger_in_all,
            "verified": self._verified,
            "faults": self._faults,
        }


def _add(table: dict[str, list[int]], key: str, *values: int) -> None:
    row = table.setdefault(key, [0] * len(values))
    for index, value in enumerate(values):
        row[index] += value


def _largest(heap: list[Any], row: Any) -> None:
    heapq.heappush(heap, row) if len(heap) < _MOST else heapq.heappushpop(heap, row)


class FigureChange(NamedTuple):
    """One figure of two runs."""

    name: str
    before: int
    now: int


def compare_figures(now: Mapping[str, Any], before: Mapping[str, Any] | None) -> list[FigureChange]:
    """Return the figures of a run next to those of the one before it, where they differ; nothing without one."""
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
    return [FigureChange(name, old, new) for name, old, new in names if old != new]

"""Every rendition of a plan as a row: filtered, sorted, grouped and cut into pages for the page Plan."""

from __future__ import annotations

import os
from collections import Counter
from collections.abc import Callable, Mapping, Sequence
from typing import Any, NamedTuple

from young_prism.core.naming.rule import WHOLE_FACET, folder_of
from young_prism.core.plan.estimate import estimator
from young_prism.core.plan.model import Plan, SkippedOriginal
from young_prism.engine.build.calibration import actual_sizes
from young_prism.engine.output.records import RecordsState, cached_ledger, records_state
from young_prism.engine.source.watermarks import find_watermarks
from young_prism.services.catalogue import Catalogue, CatalogueCache
from young_prism.services.planning import (
    experience_of,
    plan_of,
)
from young_prism.store.decisions import out_of
from young_prism.store.records import Original, Source

PER_PAGE = 200


class PlanRow(NamedTuple):
    """One planned rendition. `bytes` are what it has, or about what it will have."""

    path: str
    original: str
    facet: str
    format: str
    width: int
    height: int
    kind: str
    state: str
    bytes: int
    exists: bool
    reason: str


class PlanView(NamedTuple):
    """A source's plan in rows, and what is left out of it."""

    plan: Plan
    rows: list[PlanRow]
    left_out: tuple[SkippedOriginal, ...]


STATES: Mapping[str, str] = {
    "new": "new",
    "unchanged": "there already",
    "stale": "made differently; to be created again",
    "skipped": "tried and not delivered",
    "blocked": "blocked by a foreign file",
}
"""States as `young-prism plan` calls them, with what they mean."""

_SORTS: Mapping[str, Callable[[PlanRow], Any]] = {
    "name": lambda row: row.path,
    "original": lambda row: (row.original, row.facet != WHOLE_FACET, row.facet),
    "width": lambda row: (row.width, row.path),
    "bytes": lambda row: (-row.bytes, row.path),
}
_GROUPS: Mapping[str, Callable[[PlanRow], str]] = {
    "original": lambda row: row.original,
    "folder": lambda row: folder_of(row.original) or "(top)",
    "format": lambda row: row.format,
    "state": lambda row: row.state,
    "facet": lambda row: row.facet,
}


class PlanPage(NamedTuple):
    """What of the rows is shown: one page of them in their groups, and how many there are of what."""

    groups: list[tuple[str, int, int, list[PlanRow]]]
    """Heading, number and bytes of the whole group, and those of its rows that are on this page."""
    renditions: int
    bytes: int
    page: int
    pages: int
    states: Counter[str]
    formats: Counter[str]
    facets: Counter[str]


_PLAN_VIEWS: CatalogueCache[tuple[str, RecordsState, tuple[tuple[str, str], ...]], PlanView] = CatalogueCache(
    1
)


def planned_of(source: Source, catalogue: Catalogue) -> PlanView:
    """Return the plan of a source in rows, computed once for each state of source, output folder and watermarks."""
    out = out_of(source)
    watermarks = find_watermarks(catalogue.recipe, catalogue.watermark_folders).by_file
    hashes = tuple(sorted((name, watermark.sha256) for name, watermark in watermarks.items()))
    key = (str(out), records_state(out), hashes)
    return _PLAN_VIEWS.get(catalogue, key, lambda: _plan_view(source, catalogue))


def _plan_view(source: Source, catalogue: Catalogue) -> PlanView:
    ledger, plan = cached_ledger(out_of(source)), plan_of(source, catalogue)
    experience, made = experience_of(catalogue, ledger), actual_sizes(ledger)
    out = str(ledger.out)
    rows = []
    for original in plan.originals:
        guess = estimator(original, experience)
        kind = original.facts.kind_label
        for rendition in original.renditions:
            location = (rendition.path, rendition.key)
            actual = made(rendition.key)
            if location in ledger.made:
                state = "unchanged"
            elif location in ledger.skipped:
                state = "skipped"
            elif rendition.path in ledger.owned:
                state = "stale"
            else:
                state = "blocked" if os.path.lexists(f"{out}/{rendition.path}") else "new"
            size = actual if actual is not None else round(guess(rendition))
            rows.append(
                PlanRow(
                    rendition.path, original.path, rendition.facet, rendition.format.value, rendition.size.width, rendition.size.height,
                    kind, state, size, actual is not None, rendition.reason,
                )
            )  # fmt: skip
    return PlanView(plan, rows, plan.left_out)


def view_of(rows: Sequence[PlanRow], arguments: Mapping[str, str]) -> PlanPage:
    """Return what an address asks for: `q`, `state`, `format`, `facet`, `sort`, `group` and `page`."""
    counted = [Counter(getattr(row, name) for row in _named(rows, arguments)) for name in _FILTERS]
    rows_shown = selected(rows, arguments)
    group = _GROUPS.get(arguments.get("group", ""))
    sums: dict[str, tuple[int, int]] = {}
    if group:
        for row in rows_shown:
            number, weight = sums.get(group(row), (0, 0))
            sums[group(row)] = (number + 1, weight + row.bytes)
        rows_shown.sort(key=group)
    pages = max(1, -(-len(rows_shown) // PER_PAGE))
    page = min(max(1, int(arguments["page"]) if arguments.get("page", "").isdecimal() else 1), pages)
    groups: list[tuple[str, int, int, list[PlanRow]]] = []
    for row in rows_shown[(page - 1) * PER_PAGE : page * PER_PAGE]:
        heading = group(row) if group else ""
        if not groups or groups[-1][0] != heading:
            groups.append((heading, *sums.get(heading, (0, 0)), []))
        groups[-1][3].append(row)
    return PlanPage(groups, len(rows_shown), sum(row.bytes for row in rows_shown), page, pages, *counted)


_FILTERS = ("state", "format", "facet")


def selected(rows: Sequence[PlanRow], arguments: Mapping[str, str]) -> list[PlanRow]:
    """Return the rows that an address asks for, in the order that it asks for."""
    rows_shown = [
        row
        for row in _named(rows, arguments)
        if all(not arguments.get(name) or getattr(row, name) == arguments[name] for name in _FILTERS)
    ]
    return sorted(rows_shown, key=_SORTS.get(arguments.get("sort", ""), _SORTS["original"]))


def _named(rows: Sequence[PlanRow], arguments: Mapping[str, str]) -> Sequence[PlanRow]:
    text = arguments.get("q", "").strip().casefold()
    if not text:
        return rows
    return [row for row in rows if text in row.path.casefold() or text in row.original.casefold()]


def as_left_out(row: Original) -> SkippedOriginal:
    """Return a problem on record in the form that plans have."""
    return SkippedOriginal(path=row.path, error=row.error or "", remedy=row.remedy or "", failed=row.failed)

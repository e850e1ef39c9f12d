"""The report of a run: sums for people, from its items."""

from __future__ import annotations

from collections import Counter
from collections.abc import Mapping, Sequence
from dataclasses import dataclass

from flask import url_for

from young_prism.core.html.references import PageReferences
from young_prism.core.manifest.model import Manifest, RenditionEntry
from young_prism.core.naming.rule import WHOLE_FACET
from young_prism.core.recipe.model import Recipe
from young_prism.core.report.summary import PHONE, Result, Viewport, display_width, view_bytes
from young_prism.core.types import ImageFormat, Outcome
from young_prism.reports.drawing.spectrum import (
    Spectrum,
    SpectrumLine,
    draw_spectrum,
)
from young_prism.reports.run_report import ReportPage
from young_prism.store.records import Run, RunItem

_DELIVERED = (Outcome.MADE, Outcome.REUSED, Outcome.KEPT)


@dataclass(frozen=True, slots=True)
class ReportRow:
    """One original of a run as a row: bytes before and after, outcomes, and a small spectrum."""

    path: str
    before: int
    after: int
    phone: int
    renditions: int
    outcomes: Mapping[str, int]
    spectrum: Spectrum | None
    reason: str
    remedy: str
    href: str


def original_rows(items: Sequence[RunItem], slug: str) -> list[ReportRow]:
    """Group items by original, in the order in which they were finished."""
    groups: dict[str, list[RunItem]] = {}
    for item in sorted(items, key=lambda item: item.id):
        if item.path:
            groups.setdefault(item.original, []).append(item)
    return [_row(path, group, slug) for path, group in groups.items()]


def _row(path: str, items: Sequence[RunItem], slug: str) -> ReportRow:
    delivered = [item for item in items if item.outcome in _DELIVERED]
    failed = next((item for item in items if item.outcome == Outcome.FAILED), None)
    before = items[0].original_bytes
    outcomes = {outcome.value: sum(item.outcome == outcome for item in items) for outcome in Outcome}
    return ReportRow(
        path=path,
        before=before,
        after=sum(item.bytes for item in delivered),
        phone=_phone(delivered),
        renditions=len(delivered),
        outcomes={name: number for name, number in outcomes.items() if number},
        spectrum=_small_spectrum(delivered, before),
        reason=failed.reason if failed else "",
        remedy=failed.remedy if failed else "",
        href=url_for("picture.index", slug=slug, path=path),
    )


def _small_spectrum(delivered: Sequence[RunItem], before: int) -> Spectrum | None:
    if not delivered:
        return None
    lines = [SpectrumLine(ImageFormat(item.format), item.width, item.bytes) for item in delivered]
    return draw_spectrum(lines, max(line.width for line in lines), before, width=120, height=26, small=True)


def _phone(delivered: Sequence[RunItem]) -> int:
    results = [
        Result(ImageFormat(i.format), i.width, i.bytes, Outcome(i.outcome), i.reason, i.facet)
        for i in delivered
    ]
    return view_bytes(results, PHONE.css_px, PHONE.density)


def report_page(run: Run, name: str, items: Sequence[RunItem], before: Run | None) -> ReportPage | None:
    """Return what the report of a run says, None for one that has none."""
    if run.report is None:
        return None
    return ReportPage(
        title=name,
        origin=run.origin,
        started=run.started_at,
        seconds=run.seconds,
        state=run.state,
        recipe=run.recipe,
        versions=run.versions,
        outcomes=run.outcomes,
        report=run.report,
        failures=failures_of(items),
        skipped=_skipped(items),
        before=before.report if before else None,
        only=len(run.only) if run.only is not None else None,
    )


def failures_of(items: Sequence[RunItem]) -> list[tuple[str, str, str]]:
    """Return what failed: original, what happened, what to do."""
    return _problems(items, Outcome.FAILED)


def _problems(items: Sequence[RunItem], outcome: Outcome) -> list[tuple[str, str, str]]:
    """Return original, reason and remedy of the items with an outcome, each once."""
    return list(dict.fromkeys((i.original, i.reason, i.remedy) for i in items if i.outcome == outcome))


def _skipped(items: Sequence[RunItem]) -> list[tuple[str, str, str]]:
    """Return what was skipped, with the number of renditions where one reason holds for several."""
    reasons = Counter((i.original, i.reason, i.remedy) for i in items if i.outcome == Outcome.SKIPPED)
    return [
        (original, f"{reason.rstrip('.')}{f' ({number} renditions)' if number > 1 else ''}.", remedy)
        for (original, reason, remedy), number in reasons.items()
    ]


@dataclass(frozen=True, slots=True)
class PageBytes:
    """What one page of the site loads of its pictures, in bytes, before and after."""

    page: str
    pictures: int
    before: int
    after: int


def page_views(
    uses: PageReferences, manifest: Manifest | None, recipe: Recipe, viewport: Viewport
) -> list[PageBytes]:
    """Return what each page loads in a viewport, the heaviest saving first; pictures without renditions count as they are."""
    if manifest is None:
        return []
    display_px = display_width(recipe, viewport)
    fetches = {
        original.path: (
            original.bytes,
            view_bytes([_result(r) for r in original.renditions], display_px, viewport.density)
            or original.bytes,
        )
        for original in manifest.originals
    }
    pages: dict[str, list[tuple[int, int]]] = {}
    for path, usage in uses.used.items():
        for page in usage.pages:
            if path in fetches:
                pages.setdefault(page, []).append(fetches[path])
    views = [
        PageBytes(page, len(weights), sum(old for old, _ in weights), sum(new for _, new in weights))
        for page, weights in pages.items()
    ]
    return sorted(views, key=lambda view: (view.after - view.before, view.page))


def _result(entry: RenditionEntry) -> Result:
    return Result(
        ImageFormat(entry.format),
        entry.width,
        entry.bytes,
        Outcome(entry.outcome),
        entry.reason,
        entry.facet or WHOLE_FACET,
    )

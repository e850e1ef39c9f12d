"""The report of a run as one HTML file that opens without the server: its style is inside, and it asks for nothing."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from datetime import datetime
from typing import Any

from young_prism.core.report.summary import ALL_VIEWPORTS, PHONE, FigureChange, compare_figures
from young_prism.reports.single_file import environment, style


@dataclass(frozen=True, slots=True, kw_only=True)
class ReportPage:
    """What a report says. `report` are the figures of a summary, `before` those of the run before it."""

    title: str
    origin: str
    started: datetime
    seconds: float
    state: str
    recipe: str
    versions: Mapping[str, str]
    outcomes: Mapping[str, int]
    report: Mapping[str, Any]
    failures: Sequence[tuple[str, str, str]]
    skipped: Sequence[tuple[str, str, str]]
    before: Mapping[str, Any] | None = None
    only: int | None = None

    @property
    def changes(self) -> list[FigureChange]:
        """What is other than in the run before."""
        return compare_figures(self.report, self.before)


def render_report(page: ReportPage) -> str:
    """Return the file's text."""
    return (
        environment()
        .get_template("reports/run_report.html")
        .render(page=page, viewports=ALL_VIEWPORTS, phone=PHONE, style=style())
    )

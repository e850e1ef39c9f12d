"""The report of a run as one HTML file that opens without the server: its style is inside, and it asks for nothing."""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from datetime import datetime
from functools import lru_cache
from pathlib import Path
from typing import Any

import jinja2

from young_prism.core.report.summary import ALL_VIEWPORTS, PHONE, Change, compared
from young_prism.web.words import give_words

_WEB = Path(__file__).parent.parent


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
    left_out: Sequence[tuple[str, str, str]]
    before: Mapping[str, Any] | None = None
    only: int | None = None

    @property
    def changes(self) -> list[Change]:
        """What is other than in the run before."""
        return compared(self.report, self.before)


def page_of(page: ReportPage) -> str:
    """Return the file's text."""
    return (
        _environment()
        .get_template("run/single.html")
        .render(page=page, viewports=ALL_VIEWPORTS, phone=PHONE, style=_style())
    )


@lru_cache(maxsize=1)
def _environment() -> jinja2.Environment:
    folders = [_WEB / "run" / "templates", _WEB / "shared" / "templates"]
    environment = jinja2.Environment(loader=jinja2.FileSystemLoader(folders), autoescape=True)
    give_words(environment)
    return environment


@lru_cache(maxsize=1)
def _style() -> str:
    """Return the application's style without its fonts, which lie beside it on the server."""
    style = (_WEB / "static" / "app.css").read_text()
    return re.sub(r"@font-face\s*\{[^}]*\}", "", style)

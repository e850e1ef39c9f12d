"""HTML files that open without a server: their style is inside, and they load nothing."""

from __future__ import annotations

import re
from functools import lru_cache
from importlib.resources import files
from pathlib import Path

import jinja2

from young_prism.reports.template_filters import register_filters

TEMPLATES = Path(__file__).parent / "templates"


@lru_cache(maxsize=1)
def environment() -> jinja2.Environment:
    """Return the environment of the reports' templates, without an application around it."""
    reports = jinja2.Environment(loader=jinja2.FileSystemLoader(TEMPLATES), autoescape=True)
    register_filters(reports)
    return reports


@lru_cache(maxsize=1)
def style() -> str:
    """Return the stylesheet of pages and reports, without its fonts: they are separate files on the server."""
    stylesheet = files("young_prism").joinpath("web", "static", "app.css").read_text(encoding="utf-8")
    return re.sub(r"@font-face\s*\{[^}]*\}", "", stylesheet)

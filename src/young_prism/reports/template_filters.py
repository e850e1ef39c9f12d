"""The words that templates use for figures: the same on a page and in a report that opens without a server."""

from __future__ import annotations

import jinja2

from young_prism import __version__
from young_prism.core.report import formatting as figures
from young_prism.core.types import ImageFormat


def register_filters(environment: jinja2.Environment) -> None:
    """Add filters and functions to an environment of templates."""
    environment.trim_blocks = environment.lstrip_blocks = True
    environment.filters.update(
        bytes=figures.format_bytes,
        duration=figures.format_duration,
        count=figures.count,
        num=figures.plain_number,
        format_label=lambda name: ImageFormat(name).label,
    )
    environment.globals.update(saving=figures.format_saving, version=__version__)

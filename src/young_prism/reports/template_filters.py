"""The words that templates use for figures: the same on a page and in a report that opens without a server."""

from __future__ import annotations

from datetime import UTC, datetime

import jinja2
from babel.dates import format_date, format_datetime
from babel.numbers import format_decimal
from markupsafe import Markup

from young_prism import __version__
from young_prism.core.report import formatting as figures
from young_prism.core.types import ImageFormat

_LOCALE = "en_GB"
_DATE = "d MMM y"


def register_filters(environment: jinja2.Environment) -> None:
    """Add filters and functions to an environment of templates."""
    environment.trim_blocks = environment.lstrip_blocks = True
    environment.filters.update(
        bytes=figures.format_bytes,
        duration=figures.format_duration,
        count=figures.count,
        num=figures.plain_number,
        number=_number,
        decimal=_decimal,
        date=_date,
        timestamp=_timestamp,
        format_label=lambda name: ImageFormat(name).label,
    )
    environment.globals.update(saving=figures.format_saving, version=__version__)


def _number(value: int) -> str:
    return str(format_decimal(value, locale=_LOCALE))


def _decimal(value: float, digits: int) -> str:
    pattern = "#,##0" + ("." + "0" * digits if digits else "")
    return str(format_decimal(value, format=pattern, locale=_LOCALE))


def _date(moment: datetime) -> str:
    return str(format_date(moment, format=_DATE, locale=_LOCALE))


def _timestamp(moment: datetime) -> Markup:
    """Write a moment as `28 Nov 2026, 13:01 UTC`, in an element that pages turn into the time of the reader."""
    moment = moment.replace(tzinfo=UTC) if moment.tzinfo is None else moment.astimezone(UTC)
    text = format_datetime(moment, format=f"{_DATE}, HH:mm", locale=_LOCALE)
    return Markup('<time datetime="{}" data-time>{} UTC</time>').format(moment.isoformat(), text)

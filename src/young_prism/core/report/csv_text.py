"""Tables as CSV (RFC 4180) that a spreadsheet opens as what they are: text and numbers, never formulas."""

from __future__ import annotations

import csv
import io
from collections.abc import Iterable, Sequence

_FORMULA = ("=", "+", "-", "@", "\t", "\r")
"""What a cell begins with that spreadsheets take for a formula (OWASP, CSV Injection; from memory)."""


def csv_text(heading: Sequence[str], rows: Iterable[Sequence[object]]) -> str:
    """Return a heading and rows as CSV.

    A text that a spreadsheet would take for a formula, a file's name for instance, gets an apostrophe in front, which spreadsheets
    do not show. Numbers stay as they are.
    """
    text = io.StringIO()
    writer = csv.writer(text)
    writer.writerow(heading)
    writer.writerows([_cell(value) for value in row] for row in rows)
    return text.getvalue()


def _cell(value: object) -> object:
    return f"'{value}" if isinstance(value, str) and value.startswith(_FORMULA) else value

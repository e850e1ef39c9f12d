"""CSV read back by Python's own module; no text that a spreadsheet would run."""

from __future__ import annotations

import csv
import io

import pytest

from young_prism.core.report.csv_text import csv_text


@pytest.mark.parametrize("name", ["=cmd|' /C calc'!A0.jpg", "+1", "-1", "@SUM(A1)", "\t=1", "\r=1"])
def test_a_text_that_looks_like_a_formula_is_a_text(name: str) -> None:
    [_, row] = csv.reader(io.StringIO(csv_text(("a", "b"), [(name, -5)]), newline=""))
    assert row == [f"'{name}", "-5"]


def test_everything_else_is_as_it_was() -> None:
    rows = [("a, b.jpg", 'say "x"', "é", "1=2", "", 0), ("x\ny", "a-b", "'q", "ü", "~", 1.5)]
    [_, *result] = csv.reader(io.StringIO(csv_text("abcdef", rows), newline=""))
    assert result == [[str(value) for value in row] for row in rows]

"""A proof sheet as one HTML file: the same part of the picture from each candidate, at real pixels, next to its figures."""

from __future__ import annotations

import base64
from collections.abc import Sequence
from pathlib import Path
from typing import NamedTuple

from young_prism.core.types import Size
from young_prism.engine.proof.sheet import ProofSheet, SheetRow
from young_prism.engine.proof.tasks import part_around
from young_prism.reports.single_file import environment, style

_PART = Size(360, 270)


class SheetTile(NamedTuple):
    """One candidate: its figures, and its file inside the page."""

    row: SheetRow
    label: str
    uri: str


def sheet_page(sheets: Sequence[ProofSheet], folder: Path) -> str:
    """Return the file's text; the candidates' files are read from `folder`."""
    rows = [(sheet, _window(sheet), _exact(sheet, folder), _tiles(sheet, folder)) for sheet in sheets]
    return environment().get_template("reports/proof_sheet.html").render(shown=rows, style=style())


def _tiles(sheet: ProofSheet, folder: Path) -> list[SheetTile]:
    return [SheetTile(row, _label(row), _uri(folder / row.result.file)) for row in sheet.rows if row.result]


def _label(row: SheetRow) -> str:
    if row.target is None or row.result is None:
        return row.candidate.label
    return f"{row.candidate.format.label} {row.result.quality}, for {row.target:g}"


def _exact(sheet: ProofSheet, folder: Path) -> str:
    return _uri(folder / sheet.exact.file) if sheet.exact else ""


def _uri(file: Path) -> str:
    ending = file.suffix[1:]
    kind = "jpeg" if ending == "jpg" else ending
    return f"data:image/{kind};base64,{base64.b64encode(file.read_bytes()).decode()}"


def _window(sheet: ProofSheet) -> str:
    """Return the part that is shown: where the worst candidate suffers most."""
    scored = [row.result for row in sheet.rows if row.result and row.result.score is not None]
    if not scored:
        return "0 0 1 1"
    worst = min(scored, key=lambda result: result.score or 0.0)
    return " ".join(map(str, part_around(worst, sheet.size, _PART)))

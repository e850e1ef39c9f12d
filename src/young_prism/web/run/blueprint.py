"""The blueprint of the stop Run, and what its pages share."""

from __future__ import annotations

from collections.abc import Iterable, Sequence

from flask import Blueprint, Response, abort

from young_prism.core.report.csv_text import csv_text
from young_prism.messages.notices import no_such_run
from young_prism.store.records import Run, Source
from young_prism.web.context import services

blueprint = Blueprint(
    "run",
    "young_prism.web.run",
    template_folder="templates",
    static_folder="static",
    static_url_path="/static/run",
)


def csv_file(name: str, heading: Sequence[str], rows: Iterable[Sequence[object]]) -> Response:
    """Return an answer that a browser saves as a CSV file."""
    return Response(
        csv_text(heading, rows),
        mimetype="text/csv",
        headers={"Content-Disposition": f'attachment; filename="{name}.csv"'},
    )


def run_or_404(source: Source, run_id: int) -> Run:
    """Return a run of a source, or answer 404."""
    run = services().store.runs.get(run_id)
    if run is None or run.source_id != source.id:
        abort(404, no_such_run(run=run_id, source=source.name))
    return run

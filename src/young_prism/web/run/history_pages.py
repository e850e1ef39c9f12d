"""The history of runs."""

from __future__ import annotations

from flask import flash, redirect, render_template, request, url_for
from werkzeug import Response as BaseResponse

from young_prism.core.report.formatting import count
from young_prism.messages.notices import runs_deleted
from young_prism.web.context import services
from young_prism.web.run.blueprint import blueprint

_MAX_RUNS = 200
"""Runs that the history shows at once."""


@blueprint.get("/runs")
def history() -> str:
    """Show the runs of all sources and doors, newest first."""
    store = services().store
    return render_template(
        "run/history.html",
        runs=store.runs.newest(limit=_MAX_RUNS),
        sources=store.sources.by_id(),
        total=store.runs.count(),
        shown=_MAX_RUNS,
    )


@blueprint.post("/runs/prune")
def prune() -> BaseResponse:
    """Take old runs off the record; renditions are not touched."""
    keep = max(1, request.form.get("keep", default=20, type=int))
    pruned = services().store.runs.prune(keep=keep)
    flash(runs_deleted(count(pruned, "run")), "info")
    return redirect(url_for("run.history"), code=303)

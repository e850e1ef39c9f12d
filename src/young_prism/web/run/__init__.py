"""The stop Run: the plan, live progress, the report, and the history of runs."""

from __future__ import annotations

import json
import math
import threading
import time
from collections.abc import Iterable, Iterator, Sequence
from pathlib import Path
from typing import Any

from flask import Blueprint, Response, abort, flash, jsonify, redirect, render_template, request, url_for
from werkzeug import Response as BaseResponse

from young_prism.core.errors import OutputError
from young_prism.core.html.references import NO_PAGES
from young_prism.core.report.csv_text import csv_text
from young_prism.core.report.formatting import count, format_bytes
from young_prism.core.report.summary import ALL_VIEWPORTS, PHONE, Viewport
from young_prism.engine.build.orphans import (
    Orphans,
    find_orphans,
    remove_orphans,
)
from young_prism.engine.build.work import RemainingWork
from young_prism.engine.output.ledger import Ledger
from young_prism.engine.output.manifest_file import manifest_file, read_manifest
from young_prism.engine.source.watermarks import find_watermarks
from young_prism.reports.run_report import render_report
from young_prism.services.planning import (
    plan_of,
)
from young_prism.store.decisions import out_of, recipe_of, recipe_text
from young_prism.store.records import Run, Source
from young_prism.store.states import RunState
from young_prism.web.context import Services, catalogue_of, guess_for, services, source_or_404
from young_prism.web.run.live import lanes_of
from young_prism.web.run.planned import STATES, PlanRow, as_left_out, planned_of, selected, view_of
from young_prism.web.run.report import failures_of, original_rows, page_views, report_page

blueprint = Blueprint(
    "run", __name__, template_folder="templates", static_folder="static", static_url_path="/static/run"
)

_STREAMS = threading.BoundedSemaphore(8)
"""Event streams at a time, each holding a server thread; further pages are told to ask again and again instead."""

_EVENT_EVERY_S = 0.4
_SHOWN = 200
"""Runs that the history shows at once."""

_ITEM = (
    "original",
    "path",
    "format",
    "width",
    "height",
    "outcome",
    "reason",
    "remedy",
    "bytes",
    "original_bytes",
)
"""Columns of an item in a report that is taken away."""


@blueprint.get("/s/<slug>/run")
def index(slug: str) -> str | BaseResponse:
    """Show the plan, or the run that is going on."""
    source = source_or_404(slug)
    store = services().store
    runs = store.runs.newest(source.id)
    if runs and runs[0].state.is_active:
        return redirect(url_for("run.show", slug=slug, run_id=runs[0].id))
    catalogue = catalogue_of(source)
    plan = plan_of(source, catalogue)
    ledger = Ledger.load(out_of(source))
    estimate = guess_for(source, catalogue, plan, catalogue.recipe)
    cache = services().settings.cache
    waiting = [
        RemainingWork.from_ledger(original, ledger, cache)
        for original in plan.originals
        if not ledger.is_done(original)
    ]
    by_format: dict[str, int] = {}
    for original in plan.originals:
        for rendition in original.renditions:
            by_format[rendition.format.value] = by_format.get(rendition.format.value, 0) + 1
    return render_template(
        "run/plan.html",
        source=source,
        plan=plan,
        estimate=estimate,
        mark_errors=find_watermarks(catalogue.recipe, [Path(source.folder)]).errors,
        by_format=by_format,
        to_make=sum(len(work.original.renditions) - len(work.known) for work in waiting),
        to_name=sum(len(work.elsewhere) for work in waiting),
        waiting=len(waiting),
        problems=catalogue.problems,
        unseen=catalogue.unseen,
        orphans=_orphans(source),
        taken_out=len(catalogue.entries) - len(catalogue.in_scope),
        runs=runs,
        recipe=recipe_text(source),
        recipe_name=catalogue.recipe.name,
        looking=source.looked_at is None,
    )


def _orphans(source: Source) -> Orphans | None:
    try:
        orphans = find_orphans(out_of(source))
    except OutputError:
        return None  # nothing was made yet
    return orphans if orphans.ours else None


@blueprint.get("/s/<slug>/plan")
def planned(slug: str) -> str:
    """Show every planned rendition; the address holds filters, sort, grouping and page."""
    source = source_or_404(slug)
    catalogue = catalogue_of(source)
    planned = planned_of(source, catalogue)
    return render_template(
        "run/planned.html",
        source=source,
        asked=_view_settings(),
        view=view_of(planned.rows, _view_settings()),
        total=len(planned.rows),
        left_out=[*planned.left_out, *(as_left_out(row) for row in catalogue.problems)],
        orphans=_orphans(source),
        estimate=guess_for(source, catalogue, planned.plan, catalogue.recipe),
        states=STATES,
    )


@blueprint.get("/s/<slug>/plan.csv")
def planned_csv(slug: str) -> Response:
    """Send the planned renditions that an address asks for as CSV."""
    source = source_or_404(slug)
    rows = selected(planned_of(source, catalogue_of(source)).rows, _view_settings())
    return _csv_file(f"{source.slug}-plan", PlanRow._fields, rows)


def _csv_file(name: str, heading: Sequence[str], rows: Iterable[Sequence[object]]) -> Response:
    """Return an answer that a browser saves as a CSV file."""
    return Response(
        csv_text(heading, rows),
        mimetype="text/csv",
        headers={"Content-Disposition": f'attachment; filename="{name}.csv"'},
    )


def _view_settings() -> dict[str, str]:
    """Return what the address asks for of the plan, and nothing else that stands in it."""
    names = ("q", "state", "format", "facet", "sort", "group", "page")
    return {name: request.args[name] for name in names if request.args.get(name)}


@blueprint.post("/s/<slug>/orphans/remove")
def remove(slug: str) -> BaseResponse:
    """Delete what an earlier recipe made and nothing plans any more."""
    source = source_or_404(slug)
    orphans = remove_orphans(out_of(source))
    changed_text = f" {count(len(orphans.changed), 'file')} changed since stayed." if orphans.changed else ""
    flash(f"{count(len(orphans.ours), 'file')} removed, {format_bytes(orphans.bytes)}.{changed_text}", "info")
    return redirect(url_for("run.index", slug=slug), code=303)


@blueprint.post("/s/<slug>/run")
def start(slug: str) -> BaseResponse:
    """Start a run: over the whole source, or over what failed in an earlier one, or over single originals."""
    source = source_or_404(slug)
    only: list[str] | None = request.form.getlist("path") or None
    failed = request.form.get("failed", type=int)
    if failed is not None:
        only = services().store.runs.failed_originals(_run_or_404(source, failed).id)
    return redirect(
        url_for("run.show", slug=slug, run_id=services().runs.start(source, origin="page", only=only)),
        code=303,
    )


@blueprint.get("/s/<slug>/run/<int:run_id>")
def show(slug: str, run_id: int) -> str:
    """Show one run: live while it goes on, then its report."""
    source = source_or_404(slug)
    store = services().store
    run = _run_or_404(source, run_id)
    items = store.runs.items(run.id)
    live = run.state.is_active
    viewport = _viewport()
    newest = not live and all(newer.id <= run.id for newer in store.runs.newest(source.id, limit=1))
    uses = catalogue_of(source).uses if newest else NO_PAGES
    manifest = read_manifest(manifest_file(Path(run.out_folder or source.out_folder))) if uses.read else None
    return render_template(
        "run/one.html",
        source=source,
        run=run,
        live=live,
        state=_state(services(), run),
        lanes=lanes_of(run),
        failures=failures_of(items),
        page=None if live else report_page(run, source.name, items, store.runs.before(run)),
        views=page_views(uses, manifest, recipe_of(source), viewport),
        viewport=viewport,
        viewports=ALL_VIEWPORTS,
        rows=original_rows(items, source.slug),
        runs=store.runs.newest(source.id),
    )


def _viewport() -> Viewport:
    """Return the viewport that an address asks for, or a phone's."""
    view = request.args.get("view", "")
    return next((viewport for viewport in ALL_VIEWPORTS if viewport.key == view), PHONE)


@blueprint.get("/s/<slug>/run/<int:run_id>.html")
def one_html(slug: str, run_id: int) -> Response:
    """Send the report of a run as one file that opens without this server."""
    source = source_or_404(slug)
    run = _run_or_404(source, run_id)
    store = services().store
    page = report_page(run, source.name, store.runs.items(run.id), store.runs.before(run))
    if page is None:
        abort(404, f"Run {run_id} of “{source.name}” has no report yet.")
    name = f"{source.slug}-run-{run.id}.html"
    return Response(
        render_report(page),
        mimetype="text/html",
        headers={"Content-Disposition": f'attachment; filename="{name}"'},
    )


@blueprint.get("/s/<slug>/run/<int:run_id>.csv")
def one_csv(slug: str, run_id: int) -> Response:
    """Send every item of a run with its outcome as CSV."""
    source = source_or_404(slug)
    run = _run_or_404(source, run_id)
    items = services().store.runs.items(run.id)
    return _csv_file(
        f"{source.slug}-run-{run.id}", _ITEM, ([getattr(item, name) for name in _ITEM] for item in items)
    )


@blueprint.get("/s/<slug>/run/<int:run_id>.json")
def one_json(slug: str, run_id: int) -> Response:
    """Send a run as JSON: its figures, its recipe as it was, and every item with its outcome."""
    source = source_or_404(slug)
    run = _run_or_404(source, run_id)
    answer = jsonify(
        source=source.name,
        run=run.id,
        origin=run.origin,
        version=run.version,
        state=run.state,
        started=run.started_at.isoformat(),
        ended=run.ended_at.isoformat() if run.ended_at else None,
        seconds=run.seconds,
        outcomes=run.outcomes,
        bytes={"originals": run.bytes_originals, "renditions": run.bytes_renditions},
        recipe=run.recipe,
        items=[{name: getattr(item, name) for name in _ITEM} for item in services().store.runs.items(run.id)],
    )
    answer.headers["Content-Disposition"] = f'attachment; filename="{source.slug}-run-{run.id}.json"'
    return answer


@blueprint.post("/s/<slug>/run/<int:run_id>/stop")
def stop(slug: str, run_id: int) -> BaseResponse:
    """End a run after what is under way, or with `pause` let it wait."""
    _run_or_404(source_or_404(slug), run_id)
    services().runs.stop(run_id, pause="pause" in request.form)
    return redirect(url_for("run.show", slug=slug, run_id=run_id), code=303)


@blueprint.post("/s/<slug>/run/<int:run_id>/go-on")
def go_on(slug: str, run_id: int) -> BaseResponse:
    """Go on with a run that waits, was stopped, or could not go on."""
    source = source_or_404(slug)
    run = _run_or_404(source, run_id)
    if not run.state.is_active and run.state is not RunState.DONE:
        run_id = services().runs.resume(source, run)
    return redirect(url_for("run.show", slug=slug, run_id=run_id), code=303)


@blueprint.get("/s/<slug>/run/<int:run_id>/state.json")
def state(slug: str, run_id: int) -> Response:
    """Say how a run stands; for pages that get no events."""
    return jsonify(_state(services(), _run_or_404(source_or_404(slug), run_id)))


@blueprint.get("/s/<slug>/run/<int:run_id>/events")
def events(slug: str, run_id: int) -> Response:
    """Send a run's state as server-sent events, whenever it has changed, until the run is over."""
    _run_or_404(source_or_404(slug), run_id)
    if not _STREAMS.acquire(blocking=False):
        abort(503)
    response = Response(_stream(services(), run_id), mimetype="text/event-stream")
    response.call_on_close(_STREAMS.release)
    response.headers["Cache-Control"] = "no-store"
    return response


@blueprint.get("/s/<slug>/run/<int:run_id>/rows")
def rows(slug: str, run_id: int) -> str:
    """Return the originals that were finished after the first `skip` ones, as HTML rows."""
    source = source_or_404(slug)
    run = _run_or_404(source, run_id)
    skip = request.args.get("skip", default=0, type=int)
    finished = original_rows(services().store.runs.items(run.id), source.slug)
    return render_template("run/_rows.html", rows=finished[max(0, skip) :], source=source)


@blueprint.get("/s/<slug>/run/<int:run_id>/lanes")
def lanes(slug: str, run_id: int) -> str:
    """Return what the workers of a run are at, as HTML."""
    source = source_or_404(slug)
    run = _run_or_404(source, run_id)
    return render_template("run/_lanes.html", lanes=lanes_of(run), source=source)


@blueprint.get("/s/<slug>/run/<int:run_id>/failures")
def failures(slug: str, run_id: int) -> str:
    """Return what failed in a run so far, as HTML."""
    run = _run_or_404(source_or_404(slug), run_id)
    return render_template("run/_failures.html", failures=failures_of(services().store.runs.items(run.id)))


@blueprint.get("/runs")
def history() -> str:
    """Show the runs of all sources and doors, newest first."""
    store = services().store
    return render_template(
        "run/history.html",
        runs=store.runs.newest(limit=_SHOWN),
        sources=store.sources.by_id(),
        total=store.runs.count(),
        shown=_SHOWN,
    )


@blueprint.post("/runs/prune")
def prune() -> BaseResponse:
    """Take old runs off the record; renditions are not touched."""
    keep = max(1, request.form.get("keep", default=20, type=int))
    gone = services().store.runs.prune(keep=keep)
    flash(f"{count(gone, 'run')} taken off the record. No rendition was touched.", "info")
    return redirect(url_for("run.history"), code=303)


@blueprint.get("/active.json")
def active() -> Response:
    """Say which run is going on, for the header of every page."""
    active = services().store.runs.current()
    if not active:
        return jsonify(active=False)
    run, source = active
    address = url_for("run.show", slug=source.slug, run_id=run.id)
    return jsonify(active=True, href=address, name=source.name, **_state(services(), run))


def _run_or_404(source: Source, run_id: int) -> Run:
    run = services().store.runs.get(run_id)
    if run is None or run.source_id != source.id:
        abort(404, f"“{source.name}” has no run {run_id}.")
    return run


def _stream(parts: Services, run_id: int) -> Iterator[str]:
    remark = ""
    quiet_since = time.monotonic()
    while (run := parts.store.runs.get(run_id)) is not None:
        text = json.dumps(_state(parts, run))
        if text != remark:
            remark, quiet_since = text, time.monotonic()
            yield f"data: {text}\n\n"
        elif time.monotonic() - quiet_since > 10:
            quiet_since = time.monotonic()
            yield ": still here\n\n"  # finds out that nobody listens any more
        if not run.state.is_active:
            return
        time.sleep(_EVENT_EVERY_S)


def _state(parts: Services, run: Run) -> dict[str, Any]:
    live = run.live or {}
    done = max(run.work_done, live.get("work", 0.0))
    share = done / run.work if run.work else (1.0 if run.state is RunState.DONE else 0.0)
    looking = parts.inspections.progress.get(run.source_id) if run.state is RunState.INSPECTING else None
    over = not run.state.is_active
    return {
        "state": run.state,
        "over": over,
        "percent": min(100 if run.state is RunState.DONE else 99, math.floor(share * 100)),
        "done": run.originals_done,
        "total": run.originals,
        "looked": looking.done if looking else 0,
        "to_look": looking.total if looking else 0,
        "outcomes": run.outcomes,
        "before": run.bytes_originals,
        "after": run.bytes_renditions,
        "elapsed_s": round(run.seconds),
        "left_s": live.get("left_s") if run.state is RunState.RUNNING and not run.halted else None,
        "rate": live.get("rate", 0) if run.state is RunState.RUNNING else 0,
        "halted": run.halted,
        "lanes": [[at["worker"], at["original"], at["at"]] for at in live.get("workers", [])],
        "made": sum(len(state["made"]) for state in live.get("under_way", {}).values()),
    }

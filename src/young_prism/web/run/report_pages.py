"""One run: its page, and its report as HTML, CSV and JSON."""

from __future__ import annotations

from pathlib import Path

from flask import Response, abort, jsonify, render_template, request

from young_prism.core.html.references import NO_PAGES
from young_prism.core.report.run_log import LogFormat, log_text
from young_prism.core.report.summary import ALL_VIEWPORTS, PHONE, Viewport
from young_prism.engine.output.manifest_file import manifest_file, read_manifest
from young_prism.messages.notices import no_report_yet
from young_prism.reports.run_report import render_report
from young_prism.services.runs.logs import lines_of_items
from young_prism.store.decisions import recipe_of
from young_prism.web.context import catalogue_of, services, source_or_404
from young_prism.web.run.blueprint import blueprint, csv_file, run_or_404
from young_prism.web.run.live import lanes_of
from young_prism.web.run.live_pages import run_state
from young_prism.web.run.report import failures_of, original_rows, page_views, report_page

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


@blueprint.get("/s/<slug>/run/<int:run_id>")
def show(slug: str, run_id: int) -> str:
    """Show one run: live while it goes on, then its report."""
    source = source_or_404(slug)
    store = services().store
    run = run_or_404(source, run_id)
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
        state=run_state(services(), run),
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
    run = run_or_404(source, run_id)
    store = services().store
    page = report_page(run, source.name, store.runs.items(run.id), store.runs.before(run))
    if page is None:
        abort(404, no_report_yet(run=run_id, source=source.name))
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
    run = run_or_404(source, run_id)
    items = services().store.runs.items(run.id)
    return csv_file(
        f"{source.slug}-run-{run.id}", _ITEM, ([getattr(item, name) for name in _ITEM] for item in items)
    )


@blueprint.get("/s/<slug>/run/<int:run_id>.json")
def one_json(slug: str, run_id: int) -> Response:
    """Send a run as JSON: its figures, its recipe as it was, and every item with its outcome."""
    source = source_or_404(slug)
    run = run_or_404(source, run_id)
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


@blueprint.get("/s/<slug>/run/<int:run_id>.log")
@blueprint.get("/s/<slug>/run/<int:run_id>.log.<fmt>")
def one_log(slug: str, run_id: int, fmt: str = "") -> Response:
    """Send the log of a run, a line for each file: as text, or with `.jsonl` behind its name as JSON lines."""
    source = source_or_404(slug)
    run = run_or_404(source, run_id)
    if fmt not in ("", LogFormat.JSON_LINES):
        abort(404)
    log_format = LogFormat.JSON_LINES if fmt else LogFormat.TEXT
    text = log_text(lines_of_items(services().store.runs.items(run.id)), log_format)
    mimetype = "application/jsonl" if fmt else "text/plain"
    name = f"{source.slug}-run-{run.id}.{fmt or 'log'}"
    return Response(
        text, mimetype=mimetype, headers={"Content-Disposition": f'attachment; filename="{name}"'}
    )

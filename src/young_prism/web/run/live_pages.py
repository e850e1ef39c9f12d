"""A run that is active: stop, resume, and what the page asks for while it goes on."""

from __future__ import annotations

import json
import math
import threading
import time
from collections.abc import Iterator
from typing import Any

from flask import Response, abort, jsonify, redirect, render_template, request, url_for
from werkzeug import Response as BaseResponse

from young_prism.store.records import Run
from young_prism.store.states import RunState
from young_prism.web.context import Services, services, source_or_404
from young_prism.web.run.blueprint import blueprint, run_or_404
from young_prism.web.run.live import lanes_of
from young_prism.web.run.report import failures_of, original_rows

_STREAMS = threading.BoundedSemaphore(8)
"""Event streams at a time, each holding a server thread; further pages are told to ask again and again instead."""


_EVENT_EVERY_S = 0.4


@blueprint.post("/s/<slug>/run/<int:run_id>/stop")
def stop(slug: str, run_id: int) -> BaseResponse:
    """End a run after what is under way, or with `pause` let it wait."""
    run_or_404(source_or_404(slug), run_id)
    services().runs.stop(run_id, pause="pause" in request.form)
    return redirect(url_for("run.show", slug=slug, run_id=run_id), code=303)


@blueprint.post("/s/<slug>/run/<int:run_id>/go-on")
def go_on(slug: str, run_id: int) -> BaseResponse:
    """Go on with a run that waits, was stopped, or could not go on."""
    source = source_or_404(slug)
    run = run_or_404(source, run_id)
    if not run.state.is_active and run.state is not RunState.DONE:
        run_id = services().runs.resume(source, run)
    return redirect(url_for("run.show", slug=slug, run_id=run_id), code=303)


@blueprint.get("/s/<slug>/run/<int:run_id>/state.json")
def state(slug: str, run_id: int) -> Response:
    """Say how a run stands; for pages that get no events."""
    return jsonify(run_state(services(), run_or_404(source_or_404(slug), run_id)))


@blueprint.get("/s/<slug>/run/<int:run_id>/events")
def events(slug: str, run_id: int) -> Response:
    """Send a run's state as server-sent events, whenever it has changed, until the run is over."""
    run_or_404(source_or_404(slug), run_id)
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
    run = run_or_404(source, run_id)
    skip = request.args.get("skip", default=0, type=int)
    finished = original_rows(services().store.runs.items(run.id), source.slug)
    return render_template("run/_rows.html", rows=finished[max(0, skip) :], source=source)


@blueprint.get("/s/<slug>/run/<int:run_id>/lanes")
def lanes(slug: str, run_id: int) -> str:
    """Return what the workers of a run are at, as HTML."""
    source = source_or_404(slug)
    run = run_or_404(source, run_id)
    return render_template("run/_lanes.html", lanes=lanes_of(run), source=source)


@blueprint.get("/s/<slug>/run/<int:run_id>/failures")
def failures(slug: str, run_id: int) -> str:
    """Return what failed in a run so far, as HTML."""
    run = run_or_404(source_or_404(slug), run_id)
    return render_template("run/_failures.html", failures=failures_of(services().store.runs.items(run.id)))


@blueprint.get("/active.json")
def active() -> Response:
    """Say which run is going on, for the header of every page."""
    active = services().store.runs.current()
    if not active:
        return jsonify(active=False)
    run, source = active
    address = url_for("run.show", slug=source.slug, run_id=run.id)
    return jsonify(active=True, href=address, name=source.name, **run_state(services(), run))


def _stream(parts: Services, run_id: int) -> Iterator[str]:
    remark = ""
    quiet_since = time.monotonic()
    while (run := parts.store.runs.get(run_id)) is not None:
        text = json.dumps(run_state(parts, run))
        if text != remark:
            remark, quiet_since = text, time.monotonic()
            yield f"data: {text}\n\n"
        elif time.monotonic() - quiet_since > 10:
            quiet_since = time.monotonic()
            yield ": still here\n\n"  # finds out that nobody listens any more
        if not run.state.is_active:
            return
        time.sleep(_EVENT_EVERY_S)


def run_state(parts: Services, run: Run) -> dict[str, Any]:
    """Return how far a run is, as its page and the bar of all pages show it."""
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

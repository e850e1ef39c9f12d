"""Squeezing a source's files where they lie: start, progress, the result of each file, and bringing originals back."""

from __future__ import annotations

from typing import get_args

from flask import Response, flash, jsonify, redirect, render_template, request, url_for
from werkzeug import Response as BaseResponse

from young_prism.core.errors import YoungPrismError
from young_prism.core.metadata.policy import Policy
from young_prism.core.report.formatting import count
from young_prism.messages.notices import SQUEEZE_SCORE_RANGE, not_restored
from young_prism.store.sources import UPLOAD
from young_prism.web.context import catalogue_of, services, source_or_404
from young_prism.web.run.blueprint import blueprint

_LISTED = 500
_LOWEST_TARGET, _HIGHEST_TARGET = 10.0, 100.0


@blueprint.get("/s/<slug>/in-place")
def in_place(slug: str) -> str:
    """Show what a squeeze in place would do, is doing, or did."""
    source = source_or_404(slug)
    service = services().in_place
    catalogue = catalogue_of(source)
    backup = service.backup_of(source)
    run = service.newest(source.id)
    files = sorted(run.files, key=lambda file: file.after - file.before) if run else []
    return render_template(
        "run/in_place.html",
        source=source,
        run=run,
        files=files[:_LISTED],
        more=max(0, len(files) - _LISTED),
        originals=len(catalogue.in_scope),
        bytes=sum(facts.bytes for facts in catalogue.in_scope.values()),
        kept=len(backup.entries()),
        folder=backup.folder,
        is_upload=source.kind == UPLOAD,
    )


@blueprint.post("/s/<slug>/in-place")
def squeeze_in_place(slug: str) -> BaseResponse:
    """Begin to squeeze; the page follows it."""
    source = source_or_404(slug)
    by_score = request.form.get("by") == "target"
    target = request.form.get("target", 85.0, type=float) if by_score else None
    metadata: Policy = next(
        (policy for policy in get_args(Policy) if policy == request.form.get("metadata")), "all"
    )
    if target is not None and not _LOWEST_TARGET <= target <= _HIGHEST_TARGET:
        flash(SQUEEZE_SCORE_RANGE, "error")
    else:
        try:
            services().in_place.start(source, target=target, metadata=metadata)
        except YoungPrismError as error:
            flash(str(error), "error")
    return _back(slug)


@blueprint.post("/s/<slug>/in-place/stop")
def stop_in_place(slug: str) -> BaseResponse:
    """Stop after the files under way."""
    services().in_place.stop(source_or_404(slug).id)
    return _back(slug)


@blueprint.post("/s/<slug>/in-place/restore")
def restore_in_place(slug: str) -> BaseResponse:
    """Bring every original back."""
    source = source_or_404(slug)
    try:
        result = services().in_place.restore(source)
    except YoungPrismError as error:
        flash(str(error), "error")
        return _back(slug)
    back = f"{count(len(result.restored), 'original')} back, byte for byte; {len(result.already_there)} there already."
    flash(back, "info")
    for path, why in result.refused:
        flash(not_restored(path=path, reason=why), "error")
    return _back(slug)


@blueprint.get("/s/<slug>/in-place/state")
def in_place_state(slug: str) -> Response:
    """Say how far a squeeze is."""
    run = services().in_place.newest(source_or_404(slug).id)
    if run is None:
        return jsonify(over=True)
    return jsonify(over=run.is_over, done=len(run.files), total=run.total)


def _back(slug: str) -> BaseResponse:
    return redirect(url_for("run.in_place", slug=slug), code=303)

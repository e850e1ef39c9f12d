"""The page: candidates of one original at real pixels, the curve that they make, and what was chosen into the recipe."""

from __future__ import annotations

import re
from typing import Any
from urllib.parse import urlencode

from flask import (
    Blueprint,
    Response,
    abort,
    flash,
    jsonify,
    redirect,
    render_template,
    request,
    send_file,
    url_for,
)
from werkzeug import Response as BaseResponse

from young_prism.core.errors import RecipeError
from young_prism.core.plan.resolve import effective_recipe, formats_for
from young_prism.core.proof.apply_choice import (
    ChoiceScope,
    RecipeChanges,
    apply_choice,
    band_changes,
    candidate_changes,
    target_changes,
)
from young_prism.core.proof.candidate import candidate_of
from young_prism.core.proof.suggest import representative_originals
from young_prism.core.types import ImageFormat
from young_prism.messages.notices import (
    RECIPE_UPDATED,
    SCORE_RANGE,
    cannot_open_in_proof,
    no_such_original,
    nothing_to_compare,
)
from young_prism.reports.drawing.curve import Curve, draw_curve
from young_prism.services.catalogue import Catalogue, CatalogueEntry
from young_prism.store.decisions import recipe_text
from young_prism.store.records import Source
from young_prism.web.context import catalogue_of, services, source_or_404
from young_prism.web.proof.view import (
    ARRIVED,
    GROUNDS,
    VIEWS,
    ZOOMS,
    ProofState,
    ProofView,
    provable,
    state_of,
    view_of,
)
from young_prism.web.security import with_query

blueprint = Blueprint(
    "proof",
    "young_prism.web.proof",
    template_folder="templates",
    static_folder="static",
    static_url_path="/static/proof",
)


@blueprint.get("/s/<slug>/proof")
def index(slug: str) -> str:
    """Show an original with its candidates; without one in the address the first of those that stand for the rest."""
    source = source_or_404(slug)
    catalogue = catalogue_of(source)
    suggested = representative_originals(
        {path: facts for path, facts in catalogue.in_scope.items() if provable(facts)}
    )
    path = request.args.get("original") or (suggested[0].path if suggested else "")
    services().proofs.retry()  # what failed may have been mended meanwhile; a page that is open goes on with what it was told
    if not path:
        return render_template("proof/empty.html", source=source, unseen=catalogue.unseen)
    entry = entry_or_404(catalogue, path)
    view = view_of(source, catalogue, entry)
    return render_template(
        "proof/index.html",
        suggested=suggested,
        grounds=GROUNDS,
        views=VIEWS,
        zooms=ZOOMS,
        arrivals=ARRIVED,
        **_parts(source, view),
    )


@blueprint.get("/s/<slug>/proof/state")
def state(slug: str) -> Response:
    """Return the results that exist now; the page asks again until all of it is."""
    source = source_or_404(slug)
    catalogue = catalogue_of(source)
    view = view_of(source, catalogue, entry_or_404(catalogue, request.args.get("original", "")))
    parts = _parts(source, view)
    now: ProofState = parts["now"]
    return jsonify(
        done=now.done,
        exact=now.exact_url,
        candidates=[
            {
                "name": candidate.candidate.name,
                "url": candidate.url,
                "map": candidate.map_url,
                "head": render_template("proof/_head.html", one=candidate, **parts),
            }
            for candidate in now.candidates
        ],
        curve=render_template("proof/_curve.html", **parts),
        keep=render_template("proof/_keep.html", **parts),
        table=render_template("proof/_table.html", **parts),
    )


@blueprint.get("/s/<slug>/proof/warm")
def warm(slug: str) -> tuple[str, int]:
    """Start the workers, since somebody points at a way to this stop; it changes nothing else."""
    source_or_404(slug)
    services().proofs.warm()
    return "", 204


@blueprint.post("/s/<slug>/proof/leave")
def leave(slug: str) -> tuple[str, int]:
    """Stop what is made for a page that was left."""
    source_or_404(slug)
    services().proofs.leave(page_name(slug))
    return "", 204


@blueprint.get("/s/<slug>/proof/file/<name>")
def file(slug: str, name: str) -> BaseResponse:
    """Send what was made for a proof; its name is its content's, so that it can be cached without limit.

    With `arrived`, only that percentage of its bytes is sent, as if the rest were still on its way.
    """
    source_or_404(slug)
    if not re.fullmatch(r"[0-9a-f]{40}\.(jxl|avif|webp|jpg|png)", name):
        abort(404)
    path = services().proofs.folder / name[:2] / name
    if not path.is_file():
        abort(404)
    ending = name.rpartition(".")[2]
    mime = ImageFormat("jpeg" if ending == "jpg" else ending).mime
    arrived = request.args.get("arrived", type=int)
    if arrived in ARRIVED[1:]:
        with path.open("rb") as opened:
            return Response(opened.read(path.stat().st_size * arrived // 100), mimetype=mime)
    return send_file(path, mimetype=mime)


@blueprint.post("/s/<slug>/proof/choose")
def choose(slug: str) -> BaseResponse:
    """Write what was chosen into the recipe."""
    source = source_or_404(slug)
    entry = entry_or_404(catalogue_of(source), request.form.get("original", ""))
    back = request.form.get("back", "")
    try:
        scope = ChoiceScope(request.form.get("scope", ChoiceScope.KIND))
        before = recipe_text(source)
        text = apply_choice(before, entry.path, entry.facts, scope, _changes(source, entry))
        services().store.sources.set_recipe(source.id, text)
        flash(RECIPE_UPDATED, "info")
    except RecipeError as error:
        flash(f"{error.what} {error.remedy}", "error")
    except ValueError:
        flash(SCORE_RANGE, "error")
    # Only a query of our own page is taken along, never another address.
    return redirect(with_query(url_for("proof.index", slug=slug), back), code=303)


def _changes(source: Source, entry: CatalogueEntry) -> RecipeChanges:
    """Return what a form asks for. Raises `ValueError` or `RecipeError` where it asks for nothing that there is."""
    form = request.form
    way = form.get("way", "")
    if way == "target":
        return target_changes(float(form.get("target", "")))
    if way == "band":
        return band_changes(float(form.get("least", "")), float(form.get("most", "")))
    catalogue = catalogue_of(source)
    recipe = effective_recipe(entry.path, catalogue.recipe)
    usual = recipe.finishing.sharpen == "mild"
    candidate = candidate_of(
        form.get("candidate", ""), formats_for(entry.facts, recipe).settings(), sharpen=usual
    )
    changes = dict(candidate_changes(candidate, form.get("score", type=float)))
    if candidate.sharpen is not usual:
        changes["finishing.sharpen"] = "mild" if candidate.sharpen else "none"
    return changes


def _parts(source: Source, view: ProofView) -> dict[str, Any]:
    """Return what the page and its parts show, and ask for what is missing."""
    results = services().proofs.request(page_name(source.slug), view.requests(source.folder), view.rank)
    now = state_of(source, view, results)
    return {
        "source": source,
        "view": view,
        "now": now,
        "curve": _curve(view, now),
        "at_target": now.at_target(view.target),
        "link": _link,
        "query": _link().partition("?")[2],
    }


def _curve(view: ProofView, now: ProofState) -> Curve:
    plain = [
        (candidate.format, result.bytes, result.score or 0.0, candidate.name, candidate.label)
        for candidate, result in now.exact_points
    ]
    return draw_curve(now.points, plain, view.target)


def _link(endpoint: str = "proof.index", **changes: Any) -> str:
    """Return the address of this view with some of its words changed; None takes one away."""
    path = request.view_args or {}
    # The query is written by itself: `url_for` takes some names of parameters for its own options.
    query: dict[str, Any] = {**request.args.to_dict(flat=False), "page": None, **changes}
    arguments = {name: value for name, value in query.items() if value is not None and name not in path}
    address = url_for(endpoint, **path)
    return f"{address}?{urlencode(arguments, doseq=True)}" if arguments else address


def page_name(slug: str) -> str:
    """Return the name under which an open page asks: the page gives itself one, so that two windows are two."""
    return f"{slug} {request.args.get('page', '')[:40]}"


def entry_or_404(catalogue: Catalogue, path: str) -> CatalogueEntry:
    """Return an original that can be proved, or answer 404 with the reason."""
    entry = catalogue.by_path.get(path)
    if entry is None:
        broken = next((original for original in catalogue.problems if original.path == path), None)
        if broken:
            abort(404, cannot_open_in_proof(path=path, problem=f"{broken.error} {broken.remedy}"))
        abort(404, no_such_original(path))
    if not provable(entry.facts):
        kind_text = entry.facts.kind_label if entry.facts.seen else "inspected only by its header so far"
        abort(404, nothing_to_compare(path=path, kind=kind_text))
    return entry

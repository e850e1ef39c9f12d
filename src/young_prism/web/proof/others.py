"""The same setting on ten other pictures of the kind, each where it suffers most, the worst first."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any, NamedTuple

from flask import Response, abort, jsonify, render_template, request

from young_prism.core.errors import RecipeError, YoungPrismError
from young_prism.core.images.facts import Facts
from young_prism.core.plan.model import PlannedOriginal
from young_prism.core.plan.resolve import (
    effective_recipe,
    formats_for,
    kind_key,
)
from young_prism.core.proof.candidate import Candidate, candidate_of
from young_prism.core.recipe.codecs import Png, RasterSettings
from young_prism.core.recipe.model import Recipe
from young_prism.core.render.quality_search import format_of
from young_prism.core.types import ImageFormat, Size
from young_prism.engine.proof.tasks import (
    WINDOW,
    ProofRequest,
    ProofResult,
    ProofTask,
)
from young_prism.messages.notices import NO_LOSSY_FORMAT, not_a_candidate
from young_prism.services.catalogue import Catalogue, CatalogueEntry
from young_prism.services.planning import plan_of
from young_prism.store.records import Source
from young_prism.web.context import catalogue_of, services, source_or_404
from young_prism.web.proof.page import blueprint, entry_or_404, page_name
from young_prism.web.proof.view import PLURALS, USUAL_TARGET, file_url, provable

_MOST = 10


class OtherOriginal(NamedTuple):
    """One of the others: what came of it, and the part of the picture that suffers most."""

    entry: CatalogueEntry
    size: Size
    format: ImageFormat
    result: ProofResult | None
    error: YoungPrismError | None
    url: str
    exact_url: str
    window: str


@blueprint.get("/s/<slug>/proof/others")
def overview(slug: str) -> str:
    """Show a contact sheet of others with the same setting."""
    return render_template("proof/others.html", **_sheet(slug))


@blueprint.get("/s/<slug>/proof/others/state")
def others_state(slug: str) -> Response:
    """Return the current state of the sheet."""
    sheet = _sheet(slug)
    return jsonify(done=sheet["done"], html=render_template("proof/_sheet.html", **sheet))


def _sheet(slug: str) -> dict[str, Any]:
    source = source_or_404(slug)
    catalogue = catalogue_of(source)
    entry = entry_or_404(catalogue, request.args.get("original", ""))
    target = _target()
    setting = request.args.get("setting", "target")
    requests: list[tuple[CatalogueEntry, ProofRequest]] = []
    for sibling in _chosen(catalogue, entry):
        made = _requests(source, catalogue, sibling, None if setting != "target" else target, setting)
        if made:
            requests.append((sibling, made))
    exact = [request.exact() for _, request in requests]
    results = services().proofs.request(page_name(slug), [*(request for _, request in requests), *exact])
    sheet = [
        sheet_tile(source, entry, request, result, exact_result)
        for (entry, request), result, exact_result in zip(
            requests, results[: len(requests)], results[len(requests) :], strict=True
        )
    ]
    sheet.sort(key=lambda row: row.result.score if row.result and row.result.score is not None else 1000)
    scores = [
        other_original.result.score
        for other_original in sheet
        if other_original.result and other_original.result.score is not None
    ]
    first = requests[0][1].candidate if requests else None
    label = first.label if first and setting != "target" else f"target {target:g}"
    return {
        "source": source,
        "entry": entry,
        "kind": PLURALS[kind_key(entry.facts)],
        "sheet": sheet,
        "done": None not in results,
        "label": label,
        "format": first.format.label if first else "",
        "by_target": setting == "target",
        "target": target,
        "scores": (min(scores), max(scores)) if scores else None,
        "made": sum(row.result.bytes for row in sheet if row.result),
        "query": request.query_string.decode(),
    }


def _target() -> float:
    value = request.args.get("target", USUAL_TARGET, type=float)
    return value if 10 <= value <= 98 else USUAL_TARGET


def _chosen(catalogue: Catalogue, entry: CatalogueEntry) -> list[CatalogueEntry]:
    """Return others of the kind at even steps through their weight for each pixel, this one left out."""

    def alike(facts: Facts) -> bool:
        return provable(facts) and kind_key(facts) == kind_key(entry.facts)

    same = sorted(
        (
            candidate_entry
            for candidate_entry in catalogue.entries
            if not candidate_entry.out and candidate_entry is not entry and alike(candidate_entry.facts)
        ),
        key=lambda entry: (entry.facts.bytes_per_pixel, entry.path),
    )
    if len(same) <= _MOST:
        return same
    return [same[int((step + 0.5) * len(same) / _MOST)] for step in range(_MOST)]


class Rung(NamedTuple):
    """One rung of a planned original."""

    original: PlannedOriginal
    facet: str
    size: Size


def rung_of(source: Source, catalogue: Catalogue, entry: CatalogueEntry, width: int) -> Rung | None:
    """Return the widest rung of an original up to a width, or its narrowest; None where nothing is made of it."""
    original = next(iter(plan_of(source, catalogue, facts={entry.path: entry.facts}).originals), None)
    if original is None or not original.renditions:
        return None
    facet = original.renditions[0].facet
    sizes = sorted({r.size for r in original.renditions if r.facet == facet})
    return Rung(original, facet, max((size for size in sizes if size.width <= width), default=sizes[0]))


def _requests(
    source: Source, catalogue: Catalogue, entry: CatalogueEntry, target: float | None, setting: str
) -> ProofRequest | None:
    rung = rung_of(source, catalogue, entry, request.args.get("width", 1200, type=int))
    if rung is None:
        return None
    recipe = effective_recipe(entry.path, catalogue.recipe)
    settings = formats_for(entry.facts, recipe).settings()
    lossy = [setting for setting in settings.values() if not isinstance(setting, Png)]
    if target is not None and not lossy:
        abort(404, NO_LOSSY_FORMAT)
    candidate = _candidate(setting if target is None else request.args.get("on", ""), settings, recipe)
    if target is None and candidate is None:
        abort(404, not_a_candidate(setting))
    if candidate is None or (target is not None and candidate.quality is None):
        first = lossy[0]  # by its quality, also where the recipe has it lossless
        candidate = candidate_of(f"{format_of(first).value}-{first.quality}", settings)
    task = ProofTask.ENCODE if target is None else ProofTask.SEARCH
    return ProofRequest(source.folder, rung.original, rung.facet, rung.size, task, candidate, target)


def _candidate(name: str, settings: Mapping[ImageFormat, RasterSettings], recipe: Recipe) -> Candidate | None:
    try:
        return candidate_of(name, settings, sharpen=recipe.finishing.sharpen == "mild")
    except RecipeError:
        return None


def sheet_tile(
    source: Source,
    entry: CatalogueEntry,
    request: ProofRequest,
    result: ProofResult | YoungPrismError | None,
    exact: ProofResult | YoungPrismError | None,
) -> OtherOriginal:
    """Return an original on a contact sheet, with its renditions so far."""
    left, top = result.worst if isinstance(result, ProofResult) else (0, 0)
    return OtherOriginal(
        entry,
        request.size,
        request.candidate.format,
        result if isinstance(result, ProofResult) else None,
        result if isinstance(result, YoungPrismError) else None,
        file_url(source, result),
        file_url(source, exact),
        f"{left} {top} {min(WINDOW.width, request.size.width)} {min(WINDOW.height, request.size.height)}",
    )

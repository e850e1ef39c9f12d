"""A contact sheet of chosen pictures as the recipe makes them, each where it suffers most, before and after at one key."""

from __future__ import annotations

from typing import Any

from flask import Response, jsonify, render_template, request

from young_prism.core.plan.resolve import effective_recipe, formats_for
from young_prism.core.proof.candidate import candidate_of, name_of
from young_prism.core.recipe.codecs import Lossy
from young_prism.core.recipe.formats import ordered_formats
from young_prism.engine.proof.tasks import ProofRequest, ProofTask
from young_prism.services.catalogue import Catalogue, CatalogueEntry
from young_prism.store.records import Source
from young_prism.web.context import catalogue_of, services, source_or_404
from young_prism.web.proof.others import OtherOriginal, rung_of, sheet_tile
from young_prism.web.proof.page import blueprint, page_name
from young_prism.web.proof.view import provable

MOST_COMPARED = 48
"""Pictures on one sheet."""
_WIDTH = 1200
ORDERS = {"score": "worst score first", "bytes": "most bytes first", "saved": "least saved first"}


@blueprint.get("/s/<slug>/proof/selected")
def selected(slug: str) -> str:
    """Show the contact sheet of the originals in the address."""
    return render_template("proof/selected.html", **_sheet(slug))


@blueprint.get("/s/<slug>/proof/selected/state")
def selected_state(slug: str) -> Response:
    """Return the current state of the sheet."""
    sheet = _sheet(slug)
    return jsonify(done=sheet["done"], html=render_template("proof/_selected.html", **sheet))


def _sheet(slug: str) -> dict[str, Any]:
    source = source_or_404(slug)
    catalogue = catalogue_of(source)
    chosen = dict.fromkeys(path for path in request.args.getlist("path") if path in catalogue.by_path)
    entries = [catalogue.by_path[path] for path in list(chosen)[:MOST_COMPARED]]
    provable_entries = [entry for entry in entries if provable(entry.facts)]
    fmt = request.args.get("format", "")
    order = request.args.get("sort", "score")
    pairs = [(entry, made) for entry in provable_entries if (made := _request(source, catalogue, entry, fmt))]
    exact = [made.exact() for _, made in pairs]
    results = services().proofs.request(page_name(slug), [*(made for _, made in pairs), *exact])
    tiles = [
        sheet_tile(source, entry, made, result, exact_result)
        for (entry, made), result, exact_result in zip(
            pairs, results[: len(pairs)], results[len(pairs) :], strict=True
        )
    ]
    tiles.sort(key=lambda tile: _rank(tile, order))
    return {
        "source": source,
        "sheet": tiles,
        "done": None not in results,
        "left_out": sorted({entry.path for entry in entries} - {entry.path for entry, _ in pairs}),
        "unseen": len(chosen) - len(entries),
        "paths": list(chosen),
        "format": fmt,
        "order": order,
        "orders": ORDERS,
        "before": sum(tile.entry.facts.bytes for tile in tiles if tile.result),
        "after": sum(tile.result.bytes for tile in tiles if tile.result),
    }


def _rank(tile: OtherOriginal, order: str) -> tuple[bool, float, str]:
    """Return the place of a picture in an order; what is not made yet comes last."""
    result = tile.result
    if result is None:
        return True, 0.0, tile.entry.path
    if order == "bytes":
        return False, -float(result.bytes), tile.entry.path
    if order == "saved":
        return False, -result.bytes / max(1, tile.entry.facts.bytes), tile.entry.path
    return False, 100.0 if result.score is None else result.score, tile.entry.path


def _request(source: Source, catalogue: Catalogue, entry: CatalogueEntry, fmt: str) -> ProofRequest | None:
    """Return a picture as the recipe makes it: in a format, or in the first that it has; None where it makes none."""
    rung = rung_of(source, catalogue, entry, _WIDTH)
    if rung is None:
        return None
    recipe = effective_recipe(entry.path, catalogue.recipe)
    settings = formats_for(entry.facts, recipe).settings()
    formats = [
        option for option in ordered_formats(settings, recipe.formats.order) if fmt in ("", option.value)
    ]
    if not formats:
        return None
    made = settings[formats[0]]
    sharpen = recipe.finishing.sharpen == "mild"
    target = made.target if isinstance(made, Lossy) and not made.is_lossless else None
    name = f"{formats[0].value}-{made.quality}" if isinstance(made, Lossy) and target else name_of(made)
    task = ProofTask.SEARCH if target else ProofTask.ENCODE
    candidate = candidate_of(name, settings, sharpen=sharpen)
    return ProofRequest(source.folder, rung.original, rung.facet, rung.size, task, candidate, target)

"""One original: its spectrum, its renditions shown for real, and its snippet."""

from __future__ import annotations

from dataclasses import dataclass
from typing import NamedTuple

from flask import Blueprint, abort, flash, redirect, render_template, request, session, url_for
from werkzeug import Response

from young_prism.core.errors import IncomingError, RecipeError
from young_prism.core.images.facts import Facts
from young_prism.core.manifest.model import RenditionEntry, SkippedEntry
from young_prism.core.markup.delivered import Delivered
from young_prism.core.markup.picture import MarkupContext, art_direction_of, snippet_markup
from young_prism.core.markup.urls import path_url
from young_prism.core.naming.rule import WHOLE_FACET
from young_prism.core.plan.model import PlannedOriginal, SkippedOriginal
from young_prism.core.plan.resolve import effective_recipe
from young_prism.core.recipe.model import Markup
from young_prism.core.report.visitor import DeliveredRung, phone_fetches
from young_prism.core.selection.geometry import Geometry, GeometryModel
from young_prism.core.selection.image_metadata import NO_METADATA
from young_prism.core.types import ImageFormat
from young_prism.engine.output.ledger import Ledger
from young_prism.messages.notices import RECIPE_UPDATED, SAVED_FOR_NEXT_RUN
from young_prism.reports.drawing.spectrum import (
    Spectrum,
    SpectrumLine,
    draw_spectrum,
)
from young_prism.services.catalogue import Catalogue, CatalogueEntry
from young_prism.services.planning import plan_of
from young_prism.store.decisions import out_of, recipe_text
from young_prism.store.records import Source
from young_prism.web.context import catalogue_of, services, source_or_404
from young_prism.web.picture.cuts import cuts_of, detail_from
from young_prism.web.picture.decisions import decisions_of, with_decisions
from young_prism.web.picture.shaping import geometry_editor, geometry_from

blueprint = Blueprint(
    "picture",
    __name__,
    template_folder="templates",
    static_folder="static",
    static_url_path="/static/picture",
)


@dataclass(frozen=True, slots=True)
class Cell:
    """One place of the matrix format × width: what was delivered, or why nothing."""

    format: ImageFormat
    width: int
    facet: str
    entry: RenditionEntry | None
    dropped: SkippedEntry | None

    @property
    def bytes(self) -> int:
        """Bytes of what was made, delivered or not."""
        entry = self.entry or self.dropped
        return entry.bytes if entry else 0


@blueprint.get("/s/<slug>/picture/<path:path>")
def index(slug: str, path: str) -> str | Response:
    """Show one original. The address holds the rendition looked at, and what the snippet is to say."""
    source = source_or_404(slug)
    catalogue = catalogue_of(source)
    entry = _entry_or_404(catalogue, path)
    if not entry.facts.seen:
        # Nothing is planned before its pixels are seen: Intake shows what is known so far.
        return redirect(url_for("intake.index", slug=slug, show=path))
    order = [entry.path for entry in catalogue.entries]
    at = order.index(path)
    ledger = Ledger.from_output(out_of(source))
    original, left_out = _planned(source, catalogue, entry)
    cells = _cells(original, ledger) if original else []
    delivered = [cell.entry for cell in cells if cell.entry]
    whole = [rendition for rendition in delivered if rendition.facet is None]
    chosen = next((entry for entry in delivered if entry.path == request.args.get("show")), None)
    own_recipe = effective_recipe(path, catalogue.recipe)
    metadata = catalogue.details.get(path, NO_METADATA)
    alt = request.args.get("alt", metadata.alt)
    preview = Delivered(
        path,
        tuple(delivered),
        _markup(snippet_markup(own_recipe)),
        art_direction_of(own_recipe),
        entry.facts.transparent,
    )
    return render_template(
        "picture/index.html",
        source=source,
        path=path,
        facts=entry.facts,
        entry=entry,
        original=original,
        left_out=left_out,
        flags=entry.flags,
        cells=[cell for cell in cells if cell.facet == WHOLE_FACET],
        tables=_tables(cells),
        formats=list(dict.fromkeys(cell.format for cell in cells)),
        delivered=delivered,
        dropped=list({cell.format: cell.dropped for cell in cells if cell.dropped}.values()),
        chosen=chosen,
        spectrum=_spectrum(source, path, entry.facts, [cell for cell in cells if cell.facet == WHOLE_FACET]),
        phone=phone_fetches(best_rungs(whole)) if whole else None,
        markup=preview.markup,
        alt=alt,
        snippet=preview.html(MarkupContext(alt, metadata.caption_line)),
        live=_live(source, preview, alt),
        previous=order[at - 1] if at else None,
        following=order[at + 1] if at + 1 < len(order) else None,
        path_url=path_url,
        cuts=cuts_of(source, catalogue, entry, own_recipe) if not entry.facts.passes_through else None,
        detail=metadata,
        shape=None if entry.facts.passes_through else geometry_editor(metadata.geometry, own_recipe, path),
        shape_undo="Undo the last change" if _last_geometry(source, path) is not None else "",
        own=None
        if entry.facts.passes_through
        else decisions_of(path, entry.facts, catalogue.recipe, recipe_text(source)),
    )


@blueprint.post("/s/<slug>/detail/<path:path>")
def detail(slug: str, path: str) -> Response:
    """Keep the focal point that was pressed, or the title that was typed; an empty title is none."""
    source = source_or_404(slug)
    entry = _entry_or_404(catalogue_of(source), path)
    before = catalogue_of(source).details.get(path, NO_METADATA)
    services().store.metadata.set(source.id, path, detail_from(request.form, before))
    return redirect(url_for("picture.index", slug=slug, path=entry.path, _anchor="cuts"), code=303)


@blueprint.post("/s/<slug>/geometry/<path:path>")
def geometry(slug: str, path: str) -> Response:
    """Turn, mirror, straighten or crop an original, take all of it back, or undo the last change."""
    source = source_or_404(slug)
    entry = _entry_or_404(catalogue_of(source), path)
    before = catalogue_of(source).details.get(path, NO_METADATA)
    try:
        if "undo" in request.form:
            shaped = _last_geometry(source, path) or before.geometry
        else:
            shaped = geometry_from(request.form, before.geometry)
    except IncomingError as error:
        flash(str(error), "error")
    else:
        session["geometry"] = [source.id, path, GeometryModel.from_geometry(before.geometry).written()]
        services().store.metadata.set(source.id, path, before._replace(geometry=shaped))
        flash(SAVED_FOR_NEXT_RUN, "done")
    return redirect(url_for("picture.index", slug=slug, path=entry.path, _anchor="shape"), code=303)


def _last_geometry(source: Source, path: str) -> Geometry | None:
    """Return the geometry that an original had before the last change of this visitor."""
    source_id, last_path, stored = session.get("geometry", (0, "", {}))
    return (
        GeometryModel.model_validate(stored).geometry()
        if (source_id, last_path) == (source.id, path)
        else None
    )


@blueprint.post("/s/<slug>/exception/<path:path>")
def exception(slug: str, path: str) -> Response:
    """Change what the recipe decides for this original alone."""
    source = source_or_404(slug)
    entry = _entry_or_404(catalogue_of(source), path)
    try:
        text = with_decisions(recipe_text(source), path, entry.facts, request.form.to_dict())
        services().store.sources.set_recipe(source.id, text)
        flash(RECIPE_UPDATED, "info")
    except RecipeError as error:
        flash(error.what, "error")
    return redirect(url_for("picture.index", slug=slug, path=path, _anchor="own"), code=303)


def _entry_or_404(catalogue: Catalogue, path: str) -> CatalogueEntry:
    entry = catalogue.by_path.get(path)
    if entry is None:
        abort(
            404,
            f"There is no original “{path}” in this source. It may have been renamed; look at the source again.",
        )
    return entry


def _planned(
    source: Source, catalogue: Catalogue, entry: CatalogueEntry
) -> tuple[PlannedOriginal | None, SkippedOriginal | None]:
    """Plan an original together with the others of its folder: two with one name are told apart only there.

    Where nothing is made of it, say why.
    """
    facts = {
        sibling.path: sibling.facts
        for sibling in catalogue.entries
        if sibling.facts.seen
        and (not sibling.out or sibling is entry)
        and (sibling.folder == entry.folder or not catalogue.recipe.names.stays_in_its_folder)
    }
    plan = plan_of(source, catalogue, facts=facts)
    return (
        next((original for original in plan.originals if original.path == entry.path), None),
        next((left for left in plan.left_out if left.path == entry.path), None),
    )


def _cells(original: PlannedOriginal, ledger: Ledger) -> list[Cell]:
    return [
        Cell(
            planned.format,
            planned.size.width,
            planned.facet,
            ledger.made[planned.path, planned.key] if ledger.is_there(planned) else None,
            ledger.skipped.get((planned.path, planned.key)),
        )
        for planned in original.renditions
    ]


def best_rungs(delivered: list[RenditionEntry]) -> list[DeliveredRung]:
    """Return the rungs of the format that a current browser takes: the first one delivered."""
    return [
        DeliveredRung(entry.width, entry.bytes) for entry in delivered if entry.format == delivered[0].format
    ]


def _markup(markup: Markup) -> Markup:
    """Return the recipe's markup with what the address asks for; a value that cannot be used is left alone."""
    sizes = request.args.get("sizes", "").strip()
    base_url = request.args.get("base", "").strip()
    if base_url and not any(char in base_url for char in ' ,"<>'):
        markup = markup.model_copy(update={"base_url": base_url})
    return markup.model_copy(update={"sizes": sizes}) if sizes else markup


def _live(source: Source, delivered: Delivered, alt: str | None) -> str:
    """Return the snippet as it works on this page: served from here, as wide as its place, the picture whole."""
    base = url_for("files.rendition", slug=source.slug, path="x").removesuffix("x")
    markup = Markup(base_url=base, sizes="(max-width: 900px) 100vw, 60vw", loading="eager")
    # Without a placeholder, whose inline style our Content-Security-Policy refuses.
    whole = tuple(
        rendition.model_copy(update={"placeholder": None})
        for rendition in delivered.renditions
        if rendition.facet is None
    )
    return Delivered(delivered.path, whole, markup, (), delivered.transparent).html(MarkupContext(alt or ""))


class Table(NamedTuple):
    """The matrix of one facet: its widths, and for each format its cells by width."""

    facet: str
    widths: list[int]
    rows: list[tuple[ImageFormat, dict[int, Cell], int]]


def _tables(cells: list[Cell]) -> list[Table]:
    tables = []
    for facet in dict.fromkeys(cell.facet for cell in cells):
        cells_of_facet = [cell for cell in cells if cell.facet == facet]
        formats = dict.fromkeys(cell.format for cell in cells_of_facet)
        rows = [
            (
                fmt,
                {cell.width: cell for cell in cells_of_facet if cell.format is fmt},
                sum(cell.bytes for cell in cells_of_facet if cell.format is fmt),
            )
            for fmt in formats
        ]
        tables.append(Table(facet, sorted({cell.width for cell in cells_of_facet}), rows))
    return tables


def _spectrum(source: Source, path: str, facts: Facts, cells: list[Cell]) -> Spectrum:
    lines = [
        SpectrumLine(
            cell.format,
            cell.width,
            cell.bytes,
            "done" if cell.entry else "dropped" if cell.dropped else "planned",
            url_for("picture.index", slug=source.slug, path=path, show=cell.entry.path) if cell.entry else "",
        )
        for cell in cells
    ]
    return draw_spectrum(lines, facts.size.width, facts.bytes, width=860, height=200)

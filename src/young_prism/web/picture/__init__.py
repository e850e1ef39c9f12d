"""One original: its spectrum, its renditions shown for real, and its snippet."""

from __future__ import annotations

from dataclasses import dataclass

from flask import Blueprint, abort, redirect, render_template, request, url_for
from werkzeug import Response

from young_prism.core.manifest.model import DroppedEntry, RenditionEntry
from young_prism.core.markup.urls import path_url
from young_prism.core.plan.model import PlannedOriginal
from young_prism.core.recipe.model import Markup
from young_prism.core.report.visitor import Rung, phone_fetches
from young_prism.core.values import ImageFormat
from young_prism.engine.ledger import Ledger
from young_prism.engine.record import snippet
from young_prism.store.models import SourceRow
from young_prism.web.catalogue import Catalogue, Entry, out_of
from young_prism.web.context import catalogue_of, source_or_404
from young_prism.web.drawing.spectrum import Line, Spectrum, draw_spectrum
from young_prism.web.planning import plan_of

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
    entry: RenditionEntry | None
    dropped: DroppedEntry | None

    @property
    def bytes(self) -> int:
        """Bytes of what was made, delivered or not."""
        found = self.entry or self.dropped
        return found.bytes if found else 0


@blueprint.get("/s/<slug>/picture/<path:path>")
def index(slug: str, path: str) -> str | Response:
    """Show one original. The address holds the rendition looked at, and what the snippet is to say."""
    source = source_or_404(slug)
    catalogue = catalogue_of(source)
    entry = catalogue.by_path.get(path)
    if entry is None:
        abort(
            404,
            f"There is no original “{path}” in this source. It may have been renamed; look at the source again.",
        )
    if not entry.facts.seen:
        # Nothing is planned before its pixels are seen: Intake shows what is known so far.
        return redirect(url_for("intake.index", slug=slug, show=path))
    order = [other.path for other in catalogue.entries]
    at = order.index(path)
    ledger = Ledger.load(out_of(source))
    original = _planned(source, catalogue, entry)
    cells = _cells(original, ledger)
    delivered = [cell.entry for cell in cells if cell.entry]
    chosen = next((entry for entry in delivered if entry.path == request.args.get("show")), None)
    markup = _markup(catalogue.recipe.snippet_markup)
    alt = request.args.get("alt", "")
    return render_template(
        "picture/index.html",
        source=source,
        path=path,
        facts=entry.facts,
        entry=entry,
        original=original,
        flags=entry.flags,
        cells=cells,
        widths=sorted({cell.width for cell in cells}),
        formats=list(dict.fromkeys(cell.format for cell in cells)),
        delivered=delivered,
        dropped=list({cell.format: cell.dropped for cell in cells if cell.dropped}.values()),
        chosen=chosen,
        spectrum=_spectrum(source, original, cells),
        phone=phone_fetches(best_rungs(delivered)) if delivered else None,
        markup=markup,
        alt=alt,
        snippet=snippet(delivered, markup, alt=alt) if delivered else "",
        live=_live(source, delivered, alt),
        previous=order[at - 1] if at else None,
        following=order[at + 1] if at + 1 < len(order) else None,
        path_url=path_url,
    )


def _planned(source: SourceRow, catalogue: Catalogue, entry: Entry) -> PlannedOriginal:
    """Plan an original together with the others of its folder: two with one name are told apart only there."""
    beside = {
        other.path: other.facts
        for other in catalogue.entries
        if other.facts.seen
        and (not other.out or other is entry)
        and (other.folder == entry.folder or not catalogue.recipe.names.stays_in_its_folder)
    }
    plan = plan_of(source, catalogue, facts=beside)
    return next(o for o in plan.originals if o.path == entry.path)


def _cells(original: PlannedOriginal, ledger: Ledger) -> list[Cell]:
    return [
        Cell(
            planned.format,
            planned.size.width,
            ledger.made[planned.path, planned.key] if ledger.is_there(planned) else None,
            ledger.dropped.get((planned.path, planned.key)),
        )
        for planned in original.renditions
    ]


def best_rungs(delivered: list[RenditionEntry]) -> list[Rung]:
    """Return the rungs of the format that a current browser takes: the first one delivered."""
    return [Rung(entry.width, entry.bytes) for entry in delivered if entry.format == delivered[0].format]


def _markup(markup: Markup) -> Markup:
    """Return the recipe's markup with what the address asks for; a value that cannot be used is left alone."""
    sizes = request.args.get("sizes", "").strip()
    base_url = request.args.get("base", "").strip()
    if base_url and not any(char in base_url for char in ' ,"<>'):
        markup = markup.model_copy(update={"base_url": base_url})
    return markup.model_copy(update={"sizes": sizes}) if sizes else markup


def _live(source: SourceRow, delivered: list[RenditionEntry], alt: str) -> str:
    """Return the snippet as it works on this page: served from here, as wide as its place."""
    if not delivered:
        return ""
    base = url_for("files.rendition", slug=source.slug, path="x").removesuffix("x")
    return snippet(
        delivered, Markup(base_url=base, sizes="(max-width: 900px) 100vw, 60vw", loading="eager"), alt=alt
    )


def _spectrum(source: SourceRow, original: PlannedOriginal, cells: list[Cell]) -> Spectrum:
    lines = [
        Line(
            cell.format,
            cell.width,
            cell.bytes,
            "done" if cell.entry else "dropped" if cell.dropped else "planned",
            url_for("picture.index", slug=source.slug, path=original.path, show=cell.entry.path)
            if cell.entry
            else "",
        )
        for cell in cells
    ]
    return draw_spectrum(lines, original.facts.size.width, original.facts.bytes, width=860, height=200)

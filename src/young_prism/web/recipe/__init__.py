"""The stop Recipe: the decisions as TOML, and beside them what they make of this source while they are typed."""

from __future__ import annotations

from collections import Counter
from collections.abc import Sequence
from dataclasses import dataclass
from functools import lru_cache
from pathlib import Path

from flask import Blueprint, Response, flash, redirect, render_template, request, url_for
from werkzeug import Response as BaseResponse

from young_prism.core.errors import RecipeError
from young_prism.core.ladder.layout import needs_of
from young_prism.core.ladder.optimum import Waste, waste_of
from young_prism.core.ladder.rungs import widths_of
from young_prism.core.manifest.model import MANIFEST_NAME
from young_prism.core.plan.model import Plan, PlannedOriginal
from young_prism.core.recipe.model import Recipe
from young_prism.core.recipe.starts import starts
from young_prism.core.recipe.toml import read_recipe, write_recipe
from young_prism.engine.ledger import JOURNAL, Ledger
from young_prism.engine.scan import STATE_FOLDER
from young_prism.store.models import SourceRow
from young_prism.web.catalogue import Catalogue, out_of, recipe_of
from young_prism.web.context import catalogue_of, services, source_or_404
from young_prism.web.drawing.ladder import LadderDrawing, draw_ladder
from young_prism.web.planning import plan_of

blueprint = Blueprint(
    "recipe", __name__, template_folder="templates", static_folder="static", static_url_path="/static/recipe"
)

_NAMES_SHOWN = 40
_REMARKS_SHOWN = 20


@dataclass(frozen=True, slots=True)
class Outcome:
    """What a recipe makes of a source: its plan in figures, or the error that it has."""

    error: str = ""
    recipe: Recipe | None = None
    plan: Plan | None = None
    matrix: tuple[tuple[str, tuple[tuple[str, int], ...]], ...] = ()
    """Kind in words -> format -> number of renditions."""
    states: tuple[tuple[str, int], ...] = ()
    names: tuple[tuple[str, str], ...] = ()
    remarks: tuple[tuple[str, str], ...] = ()
    more_remarks: int = 0
    ladder: LadderDrawing | None = None
    rungs: tuple[int, ...] = ()
    waste: Waste | None = None
    sizes: str = ""


@blueprint.get("/s/<slug>/recipe")
def index(slug: str) -> str:
    """Show a source's recipe; with `start` in the address one to start from, which is not kept yet."""
    source = source_or_404(slug)
    chosen = next((start for start in starts() if start.name == request.args.get("start")), None)
    text = chosen.text if chosen else source.recipe or write_recipe(recipe_of(source))
    return _page(source, text, unsaved=chosen is not None)


@blueprint.post("/s/<slug>/recipe/check")
def check(slug: str) -> str:
    """Say what the recipe that is being typed would make. Nothing is kept."""
    source = source_or_404(slug)
    text = request.form.get("toml", "")
    if "part" in request.args:
        return render_template(
            "recipe/_outcome.html", source=source, outcome=_outcome(source, catalogue_of(source), text)
        )
    return _page(source, text, unsaved=True)


@blueprint.post("/s/<slug>/recipe")
def save(slug: str) -> str | BaseResponse:
    """Keep a recipe that can be used, as it was typed."""
    source = source_or_404(slug)
    text = request.form.get("toml", "").replace("\r\n", "\n")
    try:
        recipe = read_recipe(text)
    except RecipeError:
        return _page(source, text, unsaved=True)
    services().store.set_recipe(source.id, text)
    flash(f"“{recipe.name}” is the recipe of this source now. Nothing is made before the next run.", "info")
    return redirect(url_for("recipe.index", slug=slug), code=303)


@blueprint.get("/s/<slug>/recipe.toml")
def download(slug: str) -> Response:
    """Send the recipe as a file for a repository."""
    source = source_or_404(slug)
    text = source.recipe or write_recipe(recipe_of(source))
    return Response(
        text,
        mimetype="application/toml",
        headers={"Content-Disposition": f'attachment; filename="{source.slug}.toml"'},
    )


def _page(source: SourceRow, text: str, *, unsaved: bool) -> str:
    return render_template(
        "recipe/index.html",
        source=source,
        text=text,
        unsaved=unsaved,
        starts=starts(),
        chosen=request.args.get("start", ""),
        outcome=_outcome(source, catalogue_of(source), text),
    )


def _outcome(source: SourceRow, catalogue: Catalogue, text: str) -> Outcome:
    try:
        recipe = read_recipe(text)
    except RecipeError as error:
        return Outcome(error=error.what)
    plan = plan_of(source, catalogue, recipe)
    layout = recipe.ladder.layout
    fixed = widths_of(recipe.ladder) if not (recipe.ladder.steps or recipe.ladder.percents) else ()
    needs = needs_of(layout) if layout else []
    heaviest = sorted(plan.originals, key=lambda original: (-original.facts.bytes, original.path))
    return Outcome(
        recipe=recipe,
        plan=plan,
        matrix=_matrix(plan),
        states=_states(out_of(source, recipe), plan),
        names=_names(heaviest),
        remarks=tuple(plan.warnings[:_REMARKS_SHOWN]),
        more_remarks=max(0, len(plan.warnings) - _REMARKS_SHOWN),
        ladder=draw_ladder(fixed, needs) if fixed else None,
        rungs=fixed,
        waste=waste_of(fixed, needs) if needs else None,
        sizes=recipe.snippet_markup.sizes,
    )


def _matrix(plan: Plan) -> tuple[tuple[str, tuple[tuple[str, int], ...]], ...]:
    table: dict[str, Counter[str]] = {}
    for original in plan.originals:
        row = table.setdefault(original.facts.kind_label, Counter())
        row.update(rendition.format.value for rendition in original.renditions)
    return tuple((kind, tuple(row.most_common())) for kind, row in sorted(table.items()))


def _states(out: Path, plan: Plan) -> tuple[tuple[str, int], ...]:
    """Count how the plan stands to what lies in the output folder, by its records alone: no file is hashed here."""
    ledger = _ledger_as_of(str(out), *_stamps(out))
    states: Counter[str] = Counter()
    planned = set()
    for original in plan.originals:
        for rendition in original.renditions:
            place = (rendition.path, rendition.key)
            planned.add(rendition.path)
            if place in ledger.made:
                states["made already"] += 1
            elif place in ledger.dropped:
                states["tried, and left out"] += 1
            else:
                states["to be made anew" if rendition.path in ledger.owned else "new"] += 1
    orphans = len(set(ledger.owned) - planned)
    if orphans:
        states["made before, no longer planned"] = orphans
    return tuple(states.items())


@lru_cache(maxsize=4)
def _ledger_as_of(out: str, *_stamps: int) -> Ledger:
    """Return the records of an output folder, read once for each state: they are asked for with every key that is typed."""
    return Ledger.load(Path(out))


def _stamps(out: Path) -> list[int]:
    stamps = []
    for name in (MANIFEST_NAME, f"{STATE_FOLDER}/{JOURNAL}"):
        try:
            info = (out / name).stat()
            stamps += [info.st_mtime_ns, info.st_size]
        except OSError:
            stamps += [0, 0]
    return stamps


def _names(originals: Sequence[PlannedOriginal]) -> tuple[tuple[str, str], ...]:
    """Return pairs of an original and a name that it gives, its widest fallback: enough to see the rule at work."""
    return tuple(
        (original.path, original.renditions[-1].path)
        for original in originals[:_NAMES_SHOWN]
        if original.renditions
    )

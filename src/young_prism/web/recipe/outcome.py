"""What a recipe makes of a source: its plan in figures, names and remarks, or the error that it has."""

from __future__ import annotations

from collections import Counter
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from young_prism.core.errors import RecipeError
from young_prism.core.ladder.layout import needs_of
from young_prism.core.ladder.optimum import Need, Waste, best_rungs, waste_of
from young_prism.core.ladder.rungs import rungs_for, widths_of
from young_prism.core.markup.picture import snippet_markup
from young_prism.core.plan.model import Plan, PlannedOriginal, SkippedOriginal
from young_prism.core.recipe.formats import KINDS_OF_STILLS
from young_prism.core.recipe.ladder import Ladder
from young_prism.core.recipe.model import Recipe
from young_prism.core.recipe.profiles import ProfileName
from young_prism.core.recipe.toml import read_recipe
from young_prism.core.types import ImageFormat, Size
from young_prism.engine.output.records import cached_ledger
from young_prism.engine.source.watermarks import find_watermarks
from young_prism.reports.drawing.ladder import LadderDrawing, draw_ladder
from young_prism.services.catalogue import Catalogue
from young_prism.services.planning import (
    Guess,
    ProfileCost,
    plan_of,
)
from young_prism.store.decisions import out_of
from young_prism.store.records import Source
from young_prism.web.context import guess_for, profile_costs_for
from young_prism.web.recipe.watermark import MarkPreview, mark_preview

_NAMES_SHOWN = 40
_REMARKS_SHOWN = 20
_BEST = 5


@dataclass(frozen=True, slots=True)
class Reached:
    """One need with the rung that serves it, and the share of that rung's pixels that are beyond the need."""

    need: Need
    rung: int
    beyond: float


@dataclass(frozen=True, slots=True)
class LadderView:
    """A ladder with what visitors need. `of` names the original whose rungs they are, where they depend on it."""

    rungs: tuple[int, ...]
    drawing: LadderDrawing
    movable: bool
    waste: Waste | None = None
    best: tuple[int, Waste] | None = None
    """How many rungs the best ladder of the usual number has, and its waste."""
    reached: tuple[Reached, ...] = ()
    of: str = ""


@dataclass(frozen=True, slots=True)
class RecipeOutcome:
    """The plan in figures, or the error of a recipe that cannot be used."""

    error: str = ""
    recipe: Recipe | None = None
    plan: Plan | None = None
    matrix: tuple[tuple[str, tuple[tuple[str, int], ...]], ...] = ()
    """Kind in words -> format -> number of renditions."""
    kinds: tuple[tuple[str, int], ...] = ()
    """Kind in words -> number of originals."""
    states: tuple[tuple[str, int], ...] = ()
    names: tuple[tuple[str, str], ...] = ()
    remarks: tuple[tuple[str, str], ...] = ()
    more_remarks: int = 0
    failed: tuple[SkippedOriginal, ...] = ()
    mark_errors: tuple[RecipeError, ...] = ()
    marked: MarkPreview | None = None
    ladder: LadderView | None = None
    sizes: str = ""
    estimate: Guess | None = None
    profiles: Mapping[ProfileName, ProfileCost] = field(default_factory=dict)
    """What renditions weigh in each profile in the smallest format of each picture, and how long making all takes."""

    @property
    def filled(self) -> dict[str, Any]:
        """The formats of each kind with the efforts that the profile fills in, by the kind's key."""
        if self.recipe is None:
            return {}
        formats = self.recipe.formats
        return {kind: formats.for_kind(kind) for kind in KINDS_OF_STILLS} | {
            "animation": formats.for_animations()
        }

    @property
    def unhappy(self) -> bool:
        """Whether another name rule would do better: some originals were told apart, or their names are trouble."""
        return self.plan is not None and any(
            original.renamed or original.troubled for original in self.plan.originals
        )


def recipe_outcome(source: Source, catalogue: Catalogue, text: str) -> RecipeOutcome:
    """Work out what a recipe makes of a source. Nothing is written."""
    try:
        recipe = read_recipe(text)
    except RecipeError as error:
        return RecipeOutcome(error=error.what)
    plan = plan_of(source, catalogue, recipe)
    out = out_of(source, recipe)
    failed = tuple(left for left in plan.left_out if left.failed)
    renamed = [original for original in plan.originals if original.renamed]
    heaviest = sorted(plan.originals, key=lambda original: (-original.facts.bytes, original.path))
    warnings = plan.grouped_warnings
    return RecipeOutcome(
        recipe=recipe,
        plan=plan,
        matrix=_matrix(plan),
        kinds=tuple(Counter(original.facts.kind_label for original in plan.originals).items()),
        states=_states(out, plan),
        names=_names([*renamed, *(original for original in heaviest if not original.renamed)]),
        remarks=tuple(warnings[:_REMARKS_SHOWN]),
        more_remarks=max(0, len(warnings) - _REMARKS_SHOWN),
        failed=failed,
        mark_errors=find_watermarks(recipe, catalogue.watermark_folders).errors,
        marked=mark_preview(source, catalogue, recipe, plan),
        ladder=ladder_view(recipe.ladder, heaviest),
        sizes=snippet_markup(recipe).sizes,
        estimate=guess_for(source, catalogue, plan, recipe),
        profiles=profile_costs_for(source, catalogue, plan, recipe),
    )


def ladder_view(ladder: Ladder, heaviest: Sequence[PlannedOriginal]) -> LadderView | None:
    """Look at a ladder: on its needs, as a list, or as the heaviest original has it. None without anything to show."""
    if ladder.steps or ladder.percents:
        picture = next((original for original in heaviest if not original.facts.passes_through), None)
        size = picture.facts.size if picture else Size(3000, 2000)
        rungs = tuple(rung.width for rung in rungs_for(size, ladder))
        name = picture.path if picture else "an image of 3000 × 2000"
        return LadderView(rungs, draw_ladder(rungs, []), movable=False, of=name)
    rungs = widths_of(ladder)
    needs = needs_of(ladder.layout) if ladder.layout else []
    if not needs:
        return LadderView(rungs, draw_ladder(rungs, []), movable=True)
    best = best_rungs(needs, _BEST)
    return LadderView(
        rungs,
        draw_ladder(rungs, needs),
        movable=True,
        waste=waste_of(rungs, needs),
        best=(len(best), waste_of(best, needs)),
        reached=tuple(_reached(need, rungs) for need in needs),
    )


def _reached(need: Need, rungs: tuple[int, ...]) -> Reached:
    rung = next((rung for rung in rungs if rung >= need.width), rungs[-1])
    return Reached(need, rung, max(0.0, 1 - (need.width / rung) ** 2))


def _matrix(plan: Plan) -> tuple[tuple[str, tuple[tuple[str, int], ...]], ...]:
    table: dict[str, Counter[ImageFormat]] = {}
    for original in plan.originals:
        row = table.setdefault(original.facts.kind_label, Counter())
        row.update([rendition.format for rendition in original.renditions])
    return tuple(
        (kind, tuple((fmt.value, number) for fmt, number in row.most_common()))
        for kind, row in sorted(table.items())
    )


def _states(out: Path, plan: Plan) -> tuple[tuple[str, int], ...]:
    """Count how the plan stands to what lies in the output folder, by its records alone: no file is hashed here."""
    ledger = cached_ledger(out)
    if not ledger.owned and not ledger.skipped:
        return (("new", plan.renditions),) if plan.renditions else ()
    planned = [
        (rendition.path, rendition.key) for original in plan.originals for rendition in original.renditions
    ]
    made, dropped, owned = ledger.made, ledger.skipped, ledger.owned
    left = [path for path, key in planned if (path, key) not in made and (path, key) not in dropped]
    count = sum(map(made.__contains__, planned))
    replaced = sum(map(owned.__contains__, left))
    states = {
        "made already": count,
        "tried and skipped": len(planned) - len(left) - count,
        "to be created again": replaced,
        "new": len(left) - replaced,
        "orphaned": len(owned.keys() - {path for path, _ in planned}),
    }
    return tuple((state, number) for state, number in states.items() if number)


def _names(originals: Sequence[PlannedOriginal]) -> tuple[tuple[str, str], ...]:
    """Return pairs of an original and a name that it gives, its widest fallback: enough to see the rule at work."""
    return tuple(
        (original.path, original.renditions[-1].path)
        for original in originals[:_NAMES_SHOWN]
        if original.renditions
    )

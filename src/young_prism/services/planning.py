"""The plan of a source as pages show it."""

from __future__ import annotations

from collections.abc import Mapping
from pathlib import Path
from typing import NamedTuple

from young_prism.core.images.facts import Facts
from young_prism.core.plan.estimate import Estimate, Experience, estimate, estimate_profiles
from young_prism.core.plan.make import make_plan
from young_prism.core.plan.model import Plan
from young_prism.core.recipe.model import Recipe
from young_prism.core.recipe.profiles import ProfileName
from young_prism.core.report.formatting import count
from young_prism.engine.build.calibration import (
    DEFAULT_PACE,
    actual_sizes,
    calibrate,
)
from young_prism.engine.build.name_context import name_context
from young_prism.engine.output.ledger import Ledger
from young_prism.engine.output.records import RecordsState, cached_ledger, records_state
from young_prism.engine.source.watermarks import find_watermarks
from young_prism.services.catalogue import Catalogue, CatalogueCache
from young_prism.store.decisions import out_of
from young_prism.store.records import Source


def plan_of(
    source: Source,
    catalogue: Catalogue,
    recipe: Recipe | None = None,
    facts: Mapping[str, Facts] | None = None,
) -> Plan:
    """Plan a source's originals in scope, or those whose `facts` are given, by its own recipe or another.

    What is known by its header alone joins the plan when its pixels have been seen.
    """
    recipe = recipe or catalogue.recipe
    known = catalogue.in_scope if facts is None else facts
    marks = find_watermarks(recipe, catalogue.watermark_folders).by_file
    context = name_context(recipe.names, cached_ledger(out_of(source, recipe)), Path(source.folder), known)
    return make_plan(_seen(known), recipe, details=catalogue.details, marks=marks, context=context)


class Guess(NamedTuple):
    """What a plan will weigh and how long it will take, and on what that rests."""

    bytes: int
    seconds: float
    basis: str


def guess_of(
    source: Source, catalogue: Catalogue, plan: Plan, recipe: Recipe, *, pace: float | None, workers: int
) -> Guess:
    """Estimate bytes and seconds of a plan from what was made of this source before.

    `pace` is the seconds that a unit of work took in earlier runs, None before the first one.
    """
    ledger = cached_ledger(out_of(source, recipe))
    estimated: Estimate = estimate(plan.originals, experience_of(catalogue, ledger), actual_sizes(ledger))
    seconds = estimated.work * (pace or DEFAULT_PACE / workers)
    if estimated.known == plan.renditions:
        return Guess(estimated.bytes, seconds, "Everything exists and was counted.")
    if ledger.made:
        return Guess(
            estimated.bytes, seconds, f"Judged by {count(len(ledger.made), 'rendition')} made before."
        )
    return Guess(estimated.bytes, seconds, "An estimate until the first run.")


class ProfileCost(NamedTuple):
    """What the renditions of a plan weigh in a profile, each picture in its smallest format, and how long making all takes."""

    bytes: int
    seconds: float


def profile_costs(
    source: Source, catalogue: Catalogue, plan: Plan, recipe: Recipe, *, pace: float | None, workers: int
) -> dict[ProfileName, ProfileCost]:
    """Estimate a plan in each profile, as if nothing were made yet; `pace` as for `guess_of`."""
    experience = experience_of(catalogue, cached_ledger(out_of(source, recipe)))
    return {
        profile: ProfileCost(guess.bytes, guess.work * (pace or DEFAULT_PACE / workers))
        for profile, guess in estimate_profiles(plan, experience).items()
    }


_EXPERIENCE: CatalogueCache[tuple[str, RecordsState], Experience] = CatalogueCache(2)


def experience_of(catalogue: Catalogue, ledger: Ledger) -> Experience:
    """Return what earlier builds teach about bytes, computed once for each state of the output folder."""

    def learned() -> Experience:
        watermarks = find_watermarks(catalogue.recipe, catalogue.watermark_folders).by_file
        return calibrate(ledger, _seen(catalogue.in_scope), catalogue.details, watermarks)

    return _EXPERIENCE.get(catalogue, (str(ledger.out), records_state(ledger.out)), learned)


def _seen(facts: Mapping[str, Facts]) -> dict[str, Facts]:
    return {path: known for path, known in facts.items() if known.seen}

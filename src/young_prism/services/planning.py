"""The plan of a source as pages show it."""

from __future__ import annotations

from collections.abc import Mapping
from functools import lru_cache
from pathlib import Path
from typing import NamedTuple

from young_prism.core.images.facts import Facts
from young_prism.core.manifest.model import MANIFEST_NAMES
from young_prism.core.plan.estimate import Estimate, Experience, estimate
from young_prism.core.plan.make import make_plan
from young_prism.core.plan.model import Plan
from young_prism.core.recipe.model import Recipe
from young_prism.core.report.formatting import count
from young_prism.engine.build.calibration import (
    DEFAULT_PACE,
    actual_sizes,
    calibrate,
)
from young_prism.engine.files import STATE_FOLDER
from young_prism.engine.output.ledger import JOURNAL, Ledger
from young_prism.engine.source.watermarks import find_watermarks
from young_prism.services.catalogue import Catalogue
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
    marks = find_watermarks(recipe, [Path(source.folder)]).by_file
    return make_plan(_seen(known), recipe, details=catalogue.details, marks=marks)


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
    ledger = ledger_as_of(out_of(source, recipe))
    estimated: Estimate = estimate(
        plan.originals, experience_of(source, catalogue, ledger), actual_sizes(ledger)
    )
    seconds = estimated.work * (pace or DEFAULT_PACE / workers)
    if estimated.known == plan.renditions:
        return Guess(estimated.bytes, seconds, "All of it is there and counted as it is.")
    if ledger.made:
        return Guess(
            estimated.bytes, seconds, f"Judged by {count(len(ledger.made), 'rendition')} made before."
        )
    return Guess(estimated.bytes, seconds, "A rule of thumb, until the first run.")


def experience_of(source: Source, catalogue: Catalogue, ledger: Ledger) -> Experience:
    """Return what was learned from what is there, worked out once for each state of the output folder."""
    known: tuple[Ledger, Experience] | None = catalogue.kept.get("experience")
    if known is None or known[0] is not ledger:
        marks = find_watermarks(catalogue.recipe, [Path(source.folder)]).by_file
        known = (ledger, calibrate(ledger, _seen(catalogue.in_scope), catalogue.details, marks))
        catalogue.kept["experience"] = known
    return known[1]


def _seen(facts: Mapping[str, Facts]) -> dict[str, Facts]:
    return {path: known for path, known in facts.items() if known.seen}


def ledger_as_of(out: Path) -> Ledger:
    """Return the records of an output folder, read once for each state: they are asked for with every key that is typed."""
    return _ledger_as_of(str(out), *_stamps(out))


@lru_cache(maxsize=4)
def _ledger_as_of(out: str, *_stamps: int) -> Ledger:
    return Ledger.load(Path(out))


def _stamps(out: Path) -> list[int]:
    stamps = []
    for name in (*MANIFEST_NAMES, f"{STATE_FOLDER}/{JOURNAL}"):
        try:
            info = (out / name).stat()
            stamps += [info.st_mtime_ns, info.st_size]
        except OSError:
            stamps += [0, 0]
    return stamps

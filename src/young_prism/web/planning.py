"""The plan of a source as pages show it."""

from __future__ import annotations

import os
from collections.abc import Mapping
from functools import lru_cache
from pathlib import Path
from typing import NamedTuple

from young_prism.core.manifest.model import MANIFEST_NAME
from young_prism.core.originals.facts import Facts
from young_prism.core.plan.estimate import Estimate, Experience, Made, estimate, learned, nothing_made
from young_prism.core.plan.make import make_plan
from young_prism.core.plan.model import Plan, PlannedRendition
from young_prism.core.recipe.model import Recipe
from young_prism.core.report.figures import count
from young_prism.engine.ledger import JOURNAL, Ledger, read_manifest
from young_prism.engine.marks import find_marks
from young_prism.engine.scan import STATE_FOLDER
from young_prism.store.models import SourceRow
from young_prism.web.catalogue import Catalogue, out_of
from young_prism.web.context import services


def plan_of(
    source: SourceRow,
    catalogue: Catalogue,
    recipe: Recipe | None = None,
    facts: Mapping[str, Facts] | None = None,
) -> Plan:
    """Plan a source's originals in scope, or those whose `facts` are given, by its own recipe or another.

    What is known by its header alone joins the plan when its pixels have been seen.
    """
    recipe = recipe or catalogue.recipe
    known = catalogue.in_scope if facts is None else facts
    marks = find_marks(recipe, [Path(source.folder)]).by_file
    seen = {path: one for path, one in known.items() if one.seen}
    return make_plan(seen, recipe, details=catalogue.details, marks=marks)


_USUAL_PACE = 0.6
"""Seconds of one core for a unit of work: about what the demo source took (docs/performance.md)."""


class Guess(NamedTuple):
    """What a plan will weigh and how long it will take, and on what that rests."""

    bytes: int
    seconds: float
    basis: str


def guess_of(source: SourceRow, catalogue: Catalogue, plan: Plan, recipe: Recipe) -> Guess:
    """Estimate a plan by what was made of this source before, and by the pace of earlier runs."""
    ledger = ledger_as_of(out_of(source, recipe))
    found: Estimate = estimate(plan.originals, experience_of(source, catalogue, ledger), made_in(ledger))
    parts = services()
    pace = parts.store.pace(source.id)
    seconds = found.work * (pace or _USUAL_PACE / (parts.settings.jobs or os.cpu_count() or 1))
    if found.known == plan.renditions:
        return Guess(found.bytes, seconds, "All of it is there and counted as it is.")
    if ledger.made:
        return Guess(found.bytes, seconds, f"Judged by {count(len(ledger.made), 'rendition')} made before.")
    return Guess(found.bytes, seconds, "A rule of thumb, until the first run.")


def experience_of(source: SourceRow, catalogue: Catalogue, ledger: Ledger) -> Experience:
    """Return what was learned from what is there, by the recipe that made it; once for each state of the output folder."""
    known: tuple[Ledger, Experience] | None = catalogue.kept.get("experience")
    if known is None or known[0] is not ledger:
        manifest = read_manifest(ledger.out / MANIFEST_NAME)
        originals = plan_of(source, catalogue, manifest.recipe).originals if manifest else ()
        known = (ledger, learned(originals, made_in(ledger)))
        catalogue.kept["experience"] = known
    return known[1]


def made_in(ledger: Ledger) -> Made:
    made, dropped = ledger.made, ledger.dropped
    if not made and not dropped:
        return nothing_made

    def bytes_of(rendition: PlannedRendition) -> int | None:
        place = (rendition.path, rendition.key)
        entry = made.get(place)
        if entry:
            return entry.bytes
        return 0 if place in dropped else None

    return bytes_of


def ledger_as_of(out: Path) -> Ledger:
    """Return the records of an output folder, read once for each state: they are asked for with every key that is typed."""
    return _ledger_as_of(str(out), *_stamps(out))


@lru_cache(maxsize=4)
def _ledger_as_of(out: str, *_stamps: int) -> Ledger:
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

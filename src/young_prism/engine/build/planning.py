"""Scan, look, plan: everything before a run, and all of a dry run."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from pathlib import Path

from young_prism.core.selection.image_metadata import MetadataByPath
from young_prism.core.selection.scope import Scope
from young_prism.core.plan.make import make_plan
from young_prism.core.plan.model import SkippedOriginal, WatermarkFile, Plan, PlannedRendition
from young_prism.core.recipe.model import Recipe
from young_prism.engine.events import OnEvent, ignore_event
from young_prism.engine.output.ledger import Ledger, owned_paths
from young_prism.engine.source.inspection import (
    KnownFacts,
    InspectionResult,
    inspect_scanned,
    no_known_facts,
)
from young_prism.engine.workers.pool import Pool
from young_prism.engine.source.walk import (
    WHOLE_SOURCE,
    Scan,
    scan,
)


@dataclass(frozen=True, slots=True)
class PreparedPlan:
    """A plan, with the ledger of the output folder that tells what of it is done already."""

    plan: Plan
    inspection: InspectionResult
    ledger: Ledger

    def state(self, rendition: PlannedRendition) -> str:
        """Return how a planned rendition stands to what lies in the output folder.

        `new`; `unchanged` (there already); `left out` (tried before, and not worth delivering); `stale` (ours,
        made from something else); `blocked` (a file that we did not make has its name).
        """
        ledger = self.ledger
        if ledger.is_there(rendition):
            return "unchanged"
        if (rendition.path, rendition.key) in ledger.skipped:
            return "skipped"
        if ledger.is_foreign(rendition.path):
            return "blocked"
        return "stale" if ledger.is_ours(rendition.path) else "new"


@dataclass(frozen=True, slots=True, kw_only=True)
class PlanRequest:
    """What a plan hangs on beside the files: the rules, and what was said of originals.

    `known` may answer for originals that the output folder's own records do not know; `details` are what was said of
    single originals, `marks` the recipe's watermarks. `pool` is asked for only when a worker is needed.
    """

    source: Path
    recipe: Recipe
    pool: Callable[[], Pool]
    on_event: OnEvent = ignore_event
    known_facts: KnownFacts = no_known_facts
    scope: Scope = WHOLE_SOURCE
    details: MetadataByPath = field(default_factory=dict)
    marks: Mapping[str, WatermarkFile] = field(default_factory=dict)


def plan_source(request: PlanRequest, out: Path, scanned: Scan | None = None) -> PreparedPlan:
    """Make the plan for building what of the source is in scope into `out`. Nothing is written.

    What a walk has `found` already is not walked again.
    """
    ledger = Ledger.load(out)
    if scanned is None:
        scanned = scan(request.source, output=out, scope=request.scope, owned=owned_paths(request.source))
    return plan_inspected(request, ledger, scanned)


def plan_inspected(request: PlanRequest, ledger: Ledger, scanned: Scan) -> PreparedPlan:
    """Look at what was found, and make the plan of it, with the ledger that knows of it."""
    scope = request.scope
    looks = inspect_scanned(
        request.source,
        scanned,
        request.pool,
        known_facts=lambda one: ledger.known_facts(one) or request.known_facts(one),
        on_event=request.on_event,
    )
    facts = {path: facts for path, facts in looks.facts.items() if path not in scope.out}
    by_hand = [
        SkippedOriginal(
            path=path,
            error="Taken out of scope.",
            remedy="Put it back on Intake to have it made.",
            failed=False,
        )
        for path in looks.by_path
        if path in scope.out
    ]
    left_out = [*looks.left_out, *by_hand]
    plan = make_plan(facts, request.recipe, left_out, details=request.details, marks=request.marks)
    return PreparedPlan(plan, looks, ledger)

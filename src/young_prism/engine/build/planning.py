"""Planning: walk, inspect and plan. Everything before a run, and all of a dry run."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from enum import StrEnum

from young_prism.core.plan.make import make_plan
from young_prism.core.plan.model import Plan, PlannedRendition, SkippedOriginal
from young_prism.engine.build.name_context import name_context
from young_prism.engine.build.request import BuildRequest
from young_prism.engine.events import OnEvent, ignore_event
from young_prism.engine.output.ledger import Ledger, owned_paths
from young_prism.engine.source.inspection import InspectionResult, inspect_scanned
from young_prism.engine.source.walk import Scan, scan
from young_prism.engine.workers.pool import Pool
from young_prism.messages.originals import EXCLUDED


class RenditionStatus(StrEnum):
    """How a planned rendition compares with what lies in the output folder."""

    NEW = "new"
    UNCHANGED = "unchanged"
    SKIPPED = "skipped"
    """Made before, and not worth delivering."""
    STALE = "stale"
    """Our file, made from something else."""
    BLOCKED = "blocked"
    """A file that Young Prism did not make has its name."""


@dataclass(frozen=True, slots=True)
class PreparedPlan:
    """A plan with the inspection it rests on, and the ledger of the output folder."""

    plan: Plan
    inspection: InspectionResult
    ledger: Ledger

    def state(self, rendition: PlannedRendition) -> RenditionStatus:
        """Return how a planned rendition compares with what lies in the output folder."""
        ledger = self.ledger
        if ledger.is_there(rendition):
            return RenditionStatus.UNCHANGED
        if (rendition.path, rendition.key) in ledger.skipped:
            return RenditionStatus.SKIPPED
        if ledger.is_foreign(rendition.path):
            return RenditionStatus.BLOCKED
        return RenditionStatus.STALE if ledger.is_ours(rendition.path) else RenditionStatus.NEW


def plan_source(
    request: BuildRequest, pool: Callable[[], Pool], on_event: OnEvent = ignore_event
) -> PreparedPlan:
    """Plan all originals of a request. Nothing is written.

    `pool` opens the workers and is called only when one is needed. Raises `SourceError`.
    """
    ledger = Ledger.from_output(request.out)
    scanned = request.scan
    if scanned is None:
        owned = owned_paths(request.source)
        scanned = scan(request.source, output=request.out, scope=request.scope, owned=owned)
    return plan_inspected(request, ledger, scanned, pool, on_event)


def plan_inspected(
    request: BuildRequest, ledger: Ledger, scanned: Scan, pool: Callable[[], Pool], on_event: OnEvent
) -> PreparedPlan:
    """Inspect and plan the originals of a walk, all of the source or some of it."""
    inspection = inspect_scanned(
        request.source,
        scanned,
        pool,
        known_facts=lambda file: ledger.known_facts(file) or request.known_facts(file),
        on_event=on_event,
    )
    excluded = request.scope.out
    facts = {path: known for path, known in inspection.facts.items() if path not in excluded}
    left_out = [
        *inspection.left_out,
        *(SkippedOriginal.of(path, EXCLUDED) for path in inspection.by_path if path in excluded),
    ]
    plan = make_plan(
        facts,
        request.recipe,
        left_out,
        details=request.metadata,
        marks=request.watermarks,
        context=name_context(request.recipe.names, ledger, request.source, facts),
    )
    return PreparedPlan(plan, inspection, ledger)

"""The figures of a run, added up from its events."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace

from young_prism.core.recipe.model import Recipe
from young_prism.core.report.summary import Summary
from young_prism.core.types import Outcome
from young_prism.engine.events import ItemDone, OriginalDone, PlanReady, ReusedUnchanged

_MADE = (Outcome.MADE.value, Outcome.KEPT.value)


class RunFigures:
    """Adds up the events of a run. `earlier` are the outcomes that it had, by path, before it was interrupted."""

    def __init__(self, recipe: Recipe, *, verify: bool, earlier: Mapping[str, str] | None = None) -> None:
        self.summary = Summary()
        self.verify = verify and recipe.finishing.verify
        self.before = self.after = 0
        self.outcomes = dict.fromkeys((outcome.value for outcome in Outcome), 0)
        self._earlier = dict(earlier or {})

    def planned(self, event: PlanReady) -> None:
        """Count what the plan leaves out."""
        failed = sum(left.failed for left in event.plan.left_out)
        self.outcomes[Outcome.FAILED.value] += failed
        self.outcomes[Outcome.SKIPPED.value] += len(event.plan.left_out) - failed

    def unchanged(self, event: ReusedUnchanged) -> None:
        """Count what is as it was."""
        for outcome, number in event.outcomes.items():
            self.outcomes[outcome.value] += number
        self.before += event.bytes_originals
        self.after += event.bytes_renditions
        self.summary.add_unchanged(event.shares)

    def done(self, event: OriginalDone) -> tuple[ItemDone, ...]:
        """Count an original; return its items with the outcomes that they have in this run."""
        items = (
            tuple(self._with_earlier_outcome(item) for item in event.items) if self._earlier else event.items
        )
        delivered = 0
        for item in items:
            self.outcomes[item.outcome.value] += 1
            if item.outcome not in (Outcome.SKIPPED, Outcome.FAILED):
                delivered += item.bytes
        if delivered:
            self.before += event.bytes
            self.after += delivered
        results = [item.result for item in items]
        self.summary.add(event.share, results, event.seconds, verified=self.verify)
        return items

    def _with_earlier_outcome(self, item: ItemDone) -> ItemDone:
        """Return an item as it was: what was made before a pause was not reused."""
        earlier = self._earlier.get(item.path)
        if item.outcome is not Outcome.REUSED or earlier not in _MADE:
            return item
        return replace(item, outcome=Outcome(earlier), remedy="")

"""Scan, look, plan: everything before a run, and all of a dry run."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass
from pathlib import Path

from young_prism.core.originals.details import NO_DETAILS, Details
from young_prism.core.originals.scope import Scope
from young_prism.core.plan.make import make_plan
from young_prism.core.plan.model import NO_MARKS, LeftOut, Mark, Plan, PlannedRendition
from young_prism.core.recipe.model import Recipe
from young_prism.engine.events import Listener, nobody
from young_prism.engine.ledger import Ledger
from young_prism.engine.looking import Known, Looks, look_folder, nothing_known
from young_prism.engine.pool import Pool
from young_prism.engine.scan import WHOLE


@dataclass(frozen=True, slots=True)
class Prepared:
    """A plan, with the ledger of the output folder that tells what of it is done already."""

    plan: Plan
    looks: Looks
    ledger: Ledger

    def state(self, rendition: PlannedRendition) -> str:
        """Return how a planned rendition stands to what lies in the output folder.

        `new`; `unchanged` (there already); `left out` (tried before, and not worth delivering); `stale` (ours,
        made from something else); `blocked` (a file that we did not make has its name).
        """
        ledger = self.ledger
        if ledger.is_there(rendition):
            return "unchanged"
        if (rendition.path, rendition.key) in ledger.dropped:
            return "left out"
        if ledger.is_foreign(rendition.path):
            return "blocked"
        return "stale" if ledger.is_ours(rendition.path) else "new"


def prepare(
    source: Path,
    out: Path,
    recipe: Recipe,
    pool: Callable[[], Pool],
    *,
    listen: Listener = nobody,
    known: Known = nothing_known,
    scope: Scope = WHOLE,
    details: Details = NO_DETAILS,
    marks: Mapping[str, Mark] = NO_MARKS,
) -> Prepared:
    """Make the plan for building what of `source` is in `scope` into `out`. Nothing is written.

    `known` may answer for originals that the output folder's own records do not know; `details` are what was said of
    single originals, `marks` the recipe's watermarks.
    """
    ledger = Ledger.load(out)
    looks = look_folder(
        source,
        pool,
        output=out,
        scope=scope,
        known=lambda found: ledger.known_facts(found) or known(found),
        listen=listen,
    )
    asked = {path: facts for path, facts in looks.facts.items() if path not in scope.out}
    by_hand = [
        LeftOut(
            path=path,
            error="Taken out of scope.",
            remedy="Put it back on Intake to have it made.",
            failed=False,
        )
        for path in looks.seen
        if path in scope.out
    ]
    return Prepared(
        make_plan(asked, recipe, [*looks.left_out, *by_hand], details=details, marks=marks), looks, ledger
    )

"""Scan, look, plan: everything before a run, and all of a dry run."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass
from pathlib import Path

from young_prism.core.originals.facts import Facts
from young_prism.core.pixels.decode import MAX_PIXELS
from young_prism.core.plan.make import make_plan
from young_prism.core.plan.model import LeftOut, Plan, PlannedRendition
from young_prism.core.recipe.model import Recipe
from young_prism.engine.events import Listener, Looked, nobody
from young_prism.engine.ledger import Ledger
from young_prism.engine.pool import Pool
from young_prism.engine.scan import Found, scan
from young_prism.engine.tasks import look_file

_LOOK_TIMEOUT_S = 60.0

Known = Callable[[Found], Facts | None]
"""Answers from an earlier look, as long as the original's stamp is the same."""


def nothing_known(_found: Found) -> None:
    """Know nothing from an earlier look."""


@dataclass(frozen=True, slots=True)
class Looks:
    """What looking at a source found."""

    seen: Mapping[str, tuple[Found, Facts]]
    left_out: tuple[LeftOut, ...]
    notes: tuple[str, ...]

    @property
    def facts(self) -> dict[str, Facts]:
        """Facts by path."""
        return {path: facts for path, (_, facts) in self.seen.items()}


def look_folder(
    source: Path,
    pool: Callable[[], Pool],
    *,
    output: Path | None = None,
    known: Known = nothing_known,
    listen: Listener = nobody,
    max_pixels: int = MAX_PIXELS,
) -> Looks:
    """Look at every original of a source; one that cannot be read is left out, with its error.

    `pool` is asked for only when something must be read; `known` may answer from an earlier look. Raises
    `SourceError` when the source itself cannot be walked.
    """
    found = scan(source, output=output)
    seen: dict[str, tuple[Found, Facts]] = {}
    left_out = list(found.left_out)
    unknown = []
    for original in found.originals:
        facts = known(original)
        if facts is None:
            unknown.append(original)
        else:
            seen[original.path] = (original, facts)
    total = len(found.originals)
    if unknown:
        unknown.sort(key=lambda original: -original.bytes)
        results = pool().run(
            look_file,
            unknown,
            arguments=lambda original: (str(source), original.path, max_pixels),
            timeout_s=lambda _: _LOOK_TIMEOUT_S,
        )
        for number, (original, facts, error) in enumerate(results, start=len(seen) + 1):
            if error is None:
                seen[original.path] = (original, facts)
            else:
                left_out.append(LeftOut.because(original.path, error))
            listen(Looked(number, total))
    left_out.sort(key=lambda left: left.path)
    return Looks(dict(sorted(seen.items())), tuple(left_out), found.notes)


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
) -> Prepared:
    """Make the plan for building `source` into `out`. Nothing is written.

    `known` may answer for originals that the output folder's own records do not know.
    """
    ledger = Ledger.load(out)
    looks = look_folder(
        source, pool, output=out, known=lambda found: ledger.known_facts(found) or known(found), listen=listen
    )
    return Prepared(make_plan(looks.facts, recipe, looks.left_out), looks, ledger)

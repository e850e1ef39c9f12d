"""Scan, look, plan: everything before a run, and all of a dry run."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping
from dataclasses import dataclass
from pathlib import Path

from young_prism.core.errors import YoungPrismError
from young_prism.core.originals.facts import Facts
from young_prism.core.pixels.decode import MAX_PIXELS
from young_prism.core.plan.make import make_plan
from young_prism.core.plan.model import LeftOut, Plan, PlannedRendition
from young_prism.core.recipe.model import Recipe
from young_prism.engine.events import Listener, Looked, nobody
from young_prism.engine.ledger import Ledger
from young_prism.engine.pool import Pool
from young_prism.engine.scan import Found, scan
from young_prism.engine.tasks import look_file, look_files

_LOOK_TIMEOUT_S = 60.0
_BATCH_BYTES = 2_000_000
_BATCH_FILES = 64

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
        results = _look_at(source, unknown, pool(), max_pixels)
        for number, (original, result) in enumerate(results, start=len(seen) + 1):
            if isinstance(result, YoungPrismError):
                left_out.append(LeftOut.because(original.path, result))
            else:
                seen[original.path] = (original, result)
            listen(Looked(number, total))
    left_out.sort(key=lambda left: left.path)
    return Looks(dict(sorted(seen.items())), tuple(left_out), found.notes)


def _look_at(
    source: Path, unknown: list[Found], pool: Pool, max_pixels: int
) -> Iterator[tuple[Found, Facts | YoungPrismError]]:
    """Look at originals in worker processes, small ones many at a time: handing a task over costs as much as a look.

    Where a worker dies or hangs over several, each of them is looked at alone, so that only the culprit fails.
    """
    alone: list[Found] = []
    for done in pool.run(
        look_files,
        _batches(unknown),
        arguments=lambda batch: (str(source), [original.path for original in batch], max_pixels),
        timeout_s=lambda batch: _LOOK_TIMEOUT_S + len(batch),
    ):
        if done.error is None:
            yield from zip(done.item, done.result, strict=True)
        elif len(done.item) == 1:
            yield done.item[0], done.error
        else:
            alone += done.item
    for single in pool.run(
        look_file,
        alone,
        arguments=lambda original: (str(source), original.path, max_pixels),
        timeout_s=lambda _: _LOOK_TIMEOUT_S,
    ):
        yield single.item, single.error or single.result


def _batches(originals: list[Found]) -> Iterator[list[Found]]:
    """Group originals, heaviest first, so that a batch holds little: a large one is a batch of its own."""
    batch: list[Found] = []
    weight = 0
    for original in sorted(originals, key=lambda original: (-original.bytes, original.path)):
        if batch and (weight + original.bytes > _BATCH_BYTES or len(batch) >= _BATCH_FILES):
            yield batch
            batch, weight = [], 0
        batch.append(original)
        weight += original.bytes
    if batch:
        yield batch


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

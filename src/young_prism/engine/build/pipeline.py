"""The whole way from a folder of originals to a folder of renditions with its manifest."""

from __future__ import annotations

import os
import time
from collections.abc import Callable, Iterator, Mapping
from contextlib import ExitStack, contextmanager
from dataclasses import dataclass
from datetime import UTC, datetime
from pathlib import Path

from young_prism.core.errors import OutputError
from young_prism.core.selection.image_metadata import NO_DETAILS, Details
from young_prism.core.selection.scope import Scope
from young_prism.core.plan.model import NO_MARKS, Mark
from young_prism.core.recipe.model import Recipe
from young_prism.engine.build.delivery import BuildResult, Delivery
from young_prism.engine.events import Listener, Looked, nobody
from young_prism.engine.output.originals_backup import Keep
from young_prism.engine.output.ledger import Ledger, ours_in
from young_prism.engine.output.lock import held
from young_prism.engine.source.inspection import Known, nothing_known
from young_prism.engine.output.manifest_file import manifest_target
from young_prism.engine.build.incremental import Partly, prepare_partly
from young_prism.engine.workers.pool import lazy_pool
from young_prism.engine.build.planning import Asking, prepare
from young_prism.engine.build.manifest_builder import Only
from young_prism.engine.build.executor import Run, With
from young_prism.engine.source.walk import (
    WHOLE,
    Scan,
    scan,
)
from young_prism.engine.build.snapshot import (
    Changes,
    SaidOf,
    Standing,
    asked,
    event_of,
    renewed,
    result_of,
    what_is_said,
)

__all__ = ["BuildResult", "With", "build"]

USUALLY = With()


def build(
    source: Path,
    out: Path,
    recipe: Recipe,
    *,
    using: With = USUALLY,
    listen: Listener = nobody,
    known: Known = nothing_known,
    scope: Scope = WHOLE,
    details: Details = NO_DETAILS,
    marks: Mapping[str, Mark] = NO_MARKS,
    only: Only | None = None,
    stopped: Callable[[], bool] = lambda: False,
) -> BuildResult:
    """Make every rendition of what of `source` is in `scope`, and is not there yet, into `out`.

    Originals are only read, but for those whose names renditions take in place: they are kept first. An item fails alone.
    Raises `SourceError` and `OutputError` when nothing can be done at all, or no more. `details` are what was said of single
    originals, `marks` the recipe's watermarks. `only` says which originals to do now. Once `stopped()` is true, what is
    under way is finished, and the rest is left for the next time.
    """
    began = time.monotonic()
    with ExitStack() as stack:
        stack.enter_context(_locked(source, out, beside=recipe.names.into_source))
        kept: Mapping[str, str] = {}
        if recipe.names.layout == "in-place":
            keep = Keep(using.keep) if using.keep else Keep.beside(source)
            kept = _keep(keep, source, scope)
            source = keep.current
        standing = using.pool
        pool = (
            (lambda: standing)
            if standing
            else stack.enter_context(lazy_pool(using.jobs, memory=using.memory, nice=using.nice))
        )
        asking = Asking(
            source=source,
            recipe=recipe,
            pool=pool,
            listen=listen,
            known=known,
            scope=scope,
            details=details,
            marks=marks,
        )
        before = None if kept or only else _Before.of(asking, out)
        if before and before.nothing_changed:
            result = before.result()
            result.seconds = time.monotonic() - began
            return result
        partly = before.partly() if before else None
        prepared = partly.prepared if partly else prepare(asking, out, before.found if before else None)
        elsewhere = using.cluster
        workers = (lambda: stack.enter_context(elsewhere())) if elsewhere else pool
        delivery = Delivery(prepared.ledger, recipe, listen, cache=using.cache, stopped=stopped, kept=kept)
        run = Run(
            source=source,
            prepared=prepared,
            partly=partly,
            using=using,
            open_workers=workers,
            delivery=delivery,
            listen=listen,
            stopped=stopped,
            only=only,
        )
        result = run.execute()
        if before and not result.stopped:
            before.renewed(run).write()
    result.seconds = time.monotonic() - began
    return result


@dataclass(frozen=True, slots=True)
class _Before:
    """What a walk found, and what of it stands since the last build: all of it is new where there is no record."""

    asking: Asking
    standing: Standing
    found: Scan
    changes: Changes | None
    said: SaidOf

    @staticmethod
    def of(asking: Asking, out: Path) -> _Before:
        """Walk the source, and compare; where renditions lie in it, the record knows them without reading the manifest."""
        context = asked(asking.recipe, asking.marks)
        standing = Standing.read(out, context)
        source = asking.source
        beside = standing and os.path.realpath(source) == os.path.realpath(out)
        ours = standing.ours if standing and beside else ours_in(source)
        found = scan(source, output=out, scope=asking.scope, ours=ours)
        said = what_is_said(asking.details, asking.scope)
        changes = standing.changes(found, said) if standing else None
        return _Before(asking, standing or Standing.empty(out, context), found, changes, said)

    @property
    def nothing_changed(self) -> bool:
        """Whether there is nothing to do."""
        return self.changes is not None and self.changes.none

    def result(self) -> BuildResult:
        """Return the result where there is nothing to do, and say so."""
        stood = self.standing.originals
        result = result_of(self.standing.out, stood, self.found.left_out)
        result.notes = self.found.notes
        number = len(self.found.originals)
        self.asking.listen(Looked(number, number))
        self.asking.listen(event_of(result, stood, everything=True))
        return result

    def partly(self) -> Partly | None:
        """Return the plan for what changed alone, and say what stands; None where all has to be planned."""
        partly = self.changes and prepare_partly(self.asking, self.standing, self.changes, self.found)
        if partly:
            stands = result_of(self.standing.out, partly.stood)
            self.asking.listen(event_of(stands, partly.stood, everything=False))
        return partly

    def renewed(self, run: Run) -> Standing:
        """Return what stands after a run."""
        same = run.partly.stood if run.partly else ()
        return renewed(self.standing, same, run.stood(self.found, self.said), self.found, run.orphans)


def _keep(keep: Keep, site: Path, scope: Scope) -> dict[str, str]:
    """Keep the originals of a site whose names renditions will take; return their hashes by path."""
    ledger = Ledger.load(site)
    # By content, not by name: somebody may have put a new original where a rendition lay.
    found = scan(site, scope=scope, ours={path for path in ledger.owned if ledger.is_ours(path)})
    entries = keep.take(site, [one.path for one in found.originals], datetime.now(UTC).astimezone().date())
    return {path: kept.sha256 for path, kept in entries.items()}


@contextmanager
def _locked(source: Path, out: Path, *, beside: bool) -> Iterator[None]:
    """Hold the output folder for one build, having made sure that it is a possible one."""
    same = os.path.realpath(source) == os.path.realpath(out)
    if beside and not same:
        raise OutputError(
            "The recipe puts renditions beside their originals, and this is another folder.",
            file=str(out),
            remedy="Give the source as the output folder too, or set layout in [names] to mirrored.",
        )
    if same and not beside:
        raise OutputError(
            "The output folder is the source folder itself.",
            file=str(out),
            remedy='Choose a folder of its own, or set layout = "beside" in [names].',
        )
    manifest_target(out, into_site=beside)  # before anything is written
    with held(out):
        yield

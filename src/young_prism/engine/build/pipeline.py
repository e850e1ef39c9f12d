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
from young_prism.core.selection.image_metadata import EMPTY_METADATA, MetadataByPath
from young_prism.core.selection.scope import Scope
from young_prism.core.plan.model import NO_WATERMARKS, WatermarkFile
from young_prism.core.recipe.model import Recipe
from young_prism.engine.build.delivery import BuildOutcome, Delivery
from young_prism.engine.events import OnEvent, OriginalInspected, ignore_event
from young_prism.engine.output.originals_backup import OriginalsBackup
from young_prism.engine.output.ledger import Ledger, owned_paths
from young_prism.engine.output.lock import output_lock
from young_prism.engine.source.inspection import KnownFacts, no_known_facts
from young_prism.engine.output.manifest_file import manifest_target
from young_prism.engine.build.incremental import IncrementalPlan, plan_incremental
from young_prism.engine.workers.pool import lazy_pool
from young_prism.engine.build.planning import PlanRequest, plan_source
from young_prism.engine.build.manifest_builder import PathFilter
from young_prism.engine.build.executor import BuildExecutor, BuildOptions
from young_prism.engine.source.walk import (
    WHOLE_SOURCE,
    Scan,
    scan,
)
from young_prism.engine.build.snapshot import (
    SourceChanges,
    DetailFingerprint,
    BuildSnapshot,
    inputs_fingerprint,
    to_event,
    updated_snapshot,
    to_result,
    detail_fingerprint,
)

__all__ = ["BuildOutcome", "BuildOptions", "build"]

DEFAULT_OPTIONS = BuildOptions()


def build(
    source: Path,
    out: Path,
    recipe: Recipe,
    *,
    using: BuildOptions = DEFAULT_OPTIONS,
    listen: OnEvent = ignore_event,
    known: KnownFacts = no_known_facts,
    scope: Scope = WHOLE_SOURCE,
    details: MetadataByPath = EMPTY_METADATA,
    marks: Mapping[str, WatermarkFile] = NO_WATERMARKS,
    only: PathFilter | None = None,
    stopped: Callable[[], bool] = lambda: False,
) -> BuildOutcome:
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
            keep = OriginalsBackup(using.backup) if using.backup else OriginalsBackup.beside(source)
            kept = _back_up(keep, source, scope)
            source = keep.current
        standing = using.pool
        pool = (
            (lambda: standing)
            if standing
            else stack.enter_context(lazy_pool(using.jobs, memory=using.memory, nice=using.nice))
        )
        asking = PlanRequest(
            source=source,
            recipe=recipe,
            pool=pool,
            on_event=listen,
            known_facts=known,
            scope=scope,
            details=details,
            marks=marks,
        )
        before = None if kept or only else _SourceDiff.of(asking, out)
        if before and before.nothing_changed:
            result = before.result()
            result.seconds = time.monotonic() - began
            return result
        partly = before.partly() if before else None
        prepared = partly.prepared if partly else plan_source(asking, out, before.found if before else None)
        elsewhere = using.cluster
        workers = (lambda: stack.enter_context(elsewhere())) if elsewhere else pool
        delivery = Delivery(prepared.ledger, recipe, listen, cache=using.cache, stopped=stopped, kept=kept)
        run = BuildExecutor(
            source=source,
            prepared=prepared,
            incremental=partly,
            options=using,
            open_workers=workers,
            delivery=delivery,
            on_event=listen,
            is_cancelled=stopped,
            only=only,
        )
        result = run.execute()
        if before and not result.stopped:
            before.renewed(run).write()
    result.seconds = time.monotonic() - began
    return result


@dataclass(frozen=True, slots=True)
class _SourceDiff:
    """What a walk found, and what of it stands since the last build: all of it is new where there is no record."""

    asking: PlanRequest
    standing: BuildSnapshot
    found: Scan
    changes: SourceChanges | None
    said: DetailFingerprint

    @staticmethod
    def of(asking: PlanRequest, out: Path) -> _SourceDiff:
        """Walk the source, and compare; where renditions lie in it, the record knows them without reading the manifest."""
        context = inputs_fingerprint(asking.recipe, asking.marks)
        standing = BuildSnapshot.read(out, context)
        source = asking.source
        beside = standing and os.path.realpath(source) == os.path.realpath(out)
        ours = standing.ours if standing and beside else owned_paths(source)
        found = scan(source, output=out, scope=asking.scope, owned=ours)
        said = detail_fingerprint(asking.details, asking.scope)
        changes = standing.changes(found, said) if standing else None
        return _SourceDiff(asking, standing or BuildSnapshot.empty(out, context), found, changes, said)

    @property
    def nothing_changed(self) -> bool:
        """Whether there is nothing to do."""
        return self.changes is not None and self.changes.is_empty

    def result(self) -> BuildOutcome:
        """Return the result where there is nothing to do, and say so."""
        stood = self.standing.originals
        result = to_result(self.standing.out, stood, self.found.left_out)
        result.notes = self.found.notes
        number = len(self.found.originals)
        self.asking.on_event(OriginalInspected(number, number))
        self.asking.on_event(to_event(result, stood, everything=True))
        return result

    def partly(self) -> IncrementalPlan | None:
        """Return the plan for what changed alone, and say what stands; None where all has to be planned."""
        partly = self.changes and plan_incremental(self.asking, self.standing, self.changes, self.found)
        if partly:
            stands = to_result(self.standing.out, partly.unchanged)
            self.asking.on_event(to_event(stands, partly.unchanged, everything=False))
        return partly

    def renewed(self, run: BuildExecutor) -> BuildSnapshot:
        """Return what stands after a run."""
        same = run.incremental.unchanged if run.incremental else ()
        return updated_snapshot(self.standing, same, run.snapshot_rows(self.found, self.said), self.found, run.orphans)


def _back_up(keep: OriginalsBackup, site: Path, scope: Scope) -> dict[str, str]:
    """Keep the originals of a site whose names renditions will take; return their hashes by path."""
    ledger = Ledger.load(site)
    # By content, not by name: somebody may have put a new original where a rendition lay.
    found = scan(site, scope=scope, owned={path for path in ledger.owned if ledger.is_ours(path)})
    entries = keep.back_up(site, [one.path for one in found.originals], datetime.now(UTC).astimezone().date())
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
    with output_lock(out):
        yield

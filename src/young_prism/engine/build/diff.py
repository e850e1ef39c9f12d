"""What changed in a source since the snapshot of the last build."""

from __future__ import annotations

import os
from collections.abc import Callable
from dataclasses import dataclass

from young_prism.core.file_stamp import FileStamp
from young_prism.engine.build.incremental import IncrementalPlan, plan_incremental
from young_prism.engine.build.outcome import BuildOutcome, FullPlanReason
from young_prism.engine.build.request import BuildRequest
from young_prism.engine.build.snapshot import (
    BuildSnapshot,
    DetailFingerprint,
    OriginalSnapshot,
    SourceChanges,
    detail_fingerprint,
    inputs_fingerprint,
    to_event,
    to_outcome,
    updated_snapshot,
)
from young_prism.engine.events import OnEvent, OriginalInspected
from young_prism.engine.output.ledger import owned_paths
from young_prism.engine.source.walk import Scan, scan
from young_prism.engine.workers.pool import Pool


@dataclass(frozen=True, slots=True)
class SourceDiff:
    """A walk of the source, compared with the snapshot. Without a usable snapshot everything counts as new."""

    request: BuildRequest
    snapshot: BuildSnapshot
    scan: Scan
    changes: SourceChanges | None
    detail_hash: DetailFingerprint

    @classmethod
    def from_request(cls, request: BuildRequest) -> SourceDiff:
        """Walk the source, unless the request brings a walk, and compare it with the snapshot of the output folder."""
        fingerprint = inputs_fingerprint(request.recipe, request.watermarks)
        snapshot = BuildSnapshot.from_output(request.out, fingerprint)
        scanned = request.scan
        if scanned is None:
            is_beside = os.path.realpath(request.source) == os.path.realpath(request.out)
            owned = snapshot.owned if snapshot and is_beside else owned_paths(request.source)
            scanned = scan(request.source, output=request.out, scope=request.scope, owned=owned)
        detail_hash = detail_fingerprint(request.metadata, request.scope)
        changes = snapshot.changes(scanned, detail_hash) if snapshot else None
        return cls(
            request, snapshot or BuildSnapshot.empty(request.out, fingerprint), scanned, changes, detail_hash
        )

    @property
    def is_empty(self) -> bool:
        """Whether there is nothing to do."""
        return self.changes is not None and self.changes.is_empty

    def unchanged_outcome(self, on_event: OnEvent) -> BuildOutcome:
        """Return the outcome of a build with nothing to do, and send its events."""
        originals = self.snapshot.originals
        outcome = to_outcome(self.snapshot.out, originals, self.scan.left_out, includes=self.request.includes)
        outcome.notes = self.scan.notes
        number = len(self.scan.originals)
        on_event(OriginalInspected(number, number))
        on_event(to_event(outcome, originals, everything=True, includes=self.request.includes))
        return outcome

    def plan(self, pool: Callable[[], Pool], on_event: OnEvent) -> IncrementalPlan | FullPlanReason:
        """Return a plan of what changed, or why the whole source must be planned."""
        if self.changes is None:
            return FullPlanReason.NO_SNAPSHOT
        return plan_incremental(
            self.request, self.snapshot, self.changes, self.scan, pool=pool, on_event=on_event
        )

    def updated(
        self,
        unchanged: tuple[OriginalSnapshot, ...],
        made: list[OriginalSnapshot],
        orphans: dict[str, FileStamp],
    ) -> BuildSnapshot:
        """Return the snapshot after a build that left `unchanged` as it was and made the rest."""
        rows = [*made, *self._deferred(made)]
        return updated_snapshot(self.snapshot, unchanged, rows, self.scan, orphans)

    def _deferred(self, made: list[OriginalSnapshot]) -> list[OriginalSnapshot]:
        """Return the rows of originals that changed and were not asked for: still changed for the next build."""
        if self.request.only is None or self.changes is None:
            return []
        done = {row.path for row in made}
        paths = {file.path for file in self.scan.originals}
        return [
            row._replace(stamp=None)
            for row in self.changes.previous
            if row.path in paths and row.path not in done
        ]

"""Incremental build: only what changed is inspected, planned and made.

Manifest and outcome are those of a full build, byte for byte; tests compare the two. `outcome.FullPlanReason` lists what
cannot be built incrementally.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping
from dataclasses import dataclass, replace
from pathlib import Path

from young_prism.core.manifest.model import Manifest, OriginalEntry
from young_prism.core.manifest.text import ManifestText, entry_texts, read_entry
from young_prism.core.naming.collisions import casefold_keys
from young_prism.core.plan.model import Plan
from young_prism.core.types import ImageFormat
from young_prism.engine.build.manifest_builder import (
    build_manifest,
    encoders_of,
    failure_entries,
)
from young_prism.engine.build.outcome import BuildOutcome, FullPlanReason
from young_prism.engine.build.planning import (
    PreparedPlan,
    plan_inspected,
)
from young_prism.engine.build.request import BuildRequest, PathFilter
from young_prism.engine.build.snapshot import (
    BuildSnapshot,
    OriginalSnapshot,
    SourceChanges,
    to_event,
    to_outcome,
)
from young_prism.engine.events import OnEvent
from young_prism.engine.output.ledger import Ledger
from young_prism.engine.output.manifest_file import manifest_file
from young_prism.engine.source.walk import Scan
from young_prism.engine.workers.pool import Pool


@dataclass(frozen=True, slots=True)
class IncrementalPlan:
    """A plan of what changed, and the unchanged originals next to it."""

    prepared: PreparedPlan
    unchanged: tuple[OriginalSnapshot, ...]
    entries: Mapping[str, bytes]
    """Manifest entries of the unchanged originals, as they stand in the file."""
    outcome: BuildOutcome
    """What the unchanged originals add to the outcome."""

    def manifest(self, outcome: BuildOutcome, only: PathFilter | None) -> tuple[Manifest, bytes]:
        """Return the manifest without its originals, and the text of the whole. `outcome` counts all originals."""
        plan = self.prepared.plan
        changed = build_manifest(plan, self.prepared.ledger, (), only=only)
        formats = {ImageFormat(name) for original in self.unchanged for name in original.formats}
        frame = changed.model_copy(
            update={
                "originals": (),
                "encoders": encoders_of(formats | plan.formats),
                "skipped": failure_entries(left for left in outcome.skipped if not left.rendition),
                "failed": failure_entries(outcome.failures),
            }
        )
        entries = {**self.entries, **entry_texts(changed.originals)}
        text = ManifestText(frame, tuple(entries[path] for path in sorted(entries)))
        return frame, text.as_json()


def plan_incremental(
    request: BuildRequest,
    snapshot: BuildSnapshot,
    changes: SourceChanges,
    scan: Scan,
    *,
    pool: Callable[[], Pool],
    on_event: OnEvent,
) -> IncrementalPlan | FullPlanReason:
    """Plan what changed, and send the event that reports what did not.

    Returns:
        The plan; or the reason why it would not be the same as a plan of all originals, or would take no less time.
    """
    reason = _needs_full_plan(request, changes, scan)
    if reason:
        return reason
    records = _PreviousRecords.from_snapshot(snapshot)
    ledger = records and records.ledger_of(changes)
    if not (records and ledger):
        return FullPlanReason.RECORDS_DIFFER
    ledger.load_orphans(records.text.frame.orphaned, snapshot.orphans)
    prepared = plan_inspected(request, ledger, replace(scan, originals=changes.changed), pool, on_event)
    if not _names_stay_valid(prepared.plan, changes):
        return FullPlanReason.NAMES_DEPEND
    # The files of an unchanged original with the same content are reused under other names.
    contents = {original.facts.sha256 for original in prepared.plan.originals}
    for original in changes.unchanged:
        if original.files and original.sha256 in contents and (entry := records.entry(original)):
            ledger.load_for_reuse(entry, original.stamps)
    entries = {
        original.path: records.entries[original.path] for original in changes.unchanged if original.files
    }
    outcome = to_outcome(snapshot.out, changes.unchanged, includes=request.includes)
    on_event(to_event(outcome, changes.unchanged, everything=False, includes=request.includes))
    return IncrementalPlan(prepared, changes.unchanged, entries, outcome)


def _needs_full_plan(request: BuildRequest, changes: SourceChanges, scan: Scan) -> FullPlanReason | None:
    """Return what rules an incremental plan out before anything is read."""
    names = request.recipe.names
    if names.into_source:
        return FullPlanReason.BESIDE_ORIGINALS
    if names.remembers:
        return FullPlanReason.COUNTER
    if len(changes.changed) * 2 > len(scan.originals):
        return FullPlanReason.MOSTLY_CHANGED
    return None


@dataclass(frozen=True, slots=True)
class _PreviousRecords:
    """The manifest of the last build next to its snapshot: the same originals in the same order."""

    out: Path
    text: ManifestText
    entries: Mapping[str, bytes]

    @classmethod
    def from_snapshot(cls, snapshot: BuildSnapshot) -> _PreviousRecords | None:
        listed = [original.path for original in snapshot.originals if original.files]
        try:
            text = ManifestText.from_json(manifest_file(snapshot.out).read_bytes())
            return cls(snapshot.out, text, dict(zip(listed, text.entries, strict=True)))
        except (OSError, ValueError):
            return None

    def ledger_of(self, changes: SourceChanges) -> Ledger | None:
        """Return a ledger that knows only the changed originals; None where the manifest does not fit the snapshot."""
        ledger = Ledger(self.out, partial=True)
        ledger.made_by = self.text.frame.generator, self.text.frame.recipe
        for was in changes.previous:
            if was.files:
                entry = self.entry(was)
                if entry is None:
                    return None
                ledger.load_entry(entry, was.stamps)
        return ledger

    def entry(self, original: OriginalSnapshot) -> OriginalEntry | None:
        """Return an original's entry, None where the manifest says something else than the record."""
        try:
            entry = read_entry(self.entries[original.path])
        except (KeyError, ValueError):
            return None
        return entry if entry.path == original.path else None


def _names_stay_valid(plan: Plan, changes: SourceChanges) -> bool:
    """Return whether the changed originals get the same names as in a plan of all, and leave the others theirs.

    No changed original may take a name already in use. If an unchanged original was renamed because of a collision, the
    original it collided with must still exist.
    """
    if any(original.renamed for original in plan.originals) or any(
        original.renamed for original in changes.previous
    ):
        return False
    new = casefold_keys([r.path for original in plan.originals for r in original.renditions])
    old = casefold_keys(_names_of(changes.previous))
    if old - new and any(original.renamed for original in changes.unchanged):
        return False
    return new <= old or (new - old).isdisjoint(casefold_keys(_names_of(changes.unchanged)))


def _names_of(originals: Iterable[OriginalSnapshot]) -> list[str]:
    return [path for original in originals for path in original.names]

"""The short way of a build where most is as it was: only what changed is looked at, planned and made.

Its manifest and its count are those of the long way, byte for byte and figure for figure: tests compare them. Where the plan of
what changed might have changed the names of what did not, there is no short way.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass, replace
from pathlib import Path

from young_prism.core.manifest.model import Manifest, OriginalEntry
from young_prism.core.manifest.text import ManifestText, entry_texts, read_entry
from young_prism.core.naming.collisions import casefold_keys
from young_prism.core.naming.rule import uses
from young_prism.core.plan.model import Plan
from young_prism.core.types import ImageFormat
from young_prism.engine.build.delivery import BuildOutcome
from young_prism.engine.output.ledger import Ledger
from young_prism.engine.output.manifest_file import manifest_file
from young_prism.engine.build.planning import (
    PlanRequest,
    PreparedPlan,
    plan_inspected,
)
from young_prism.engine.build.manifest_builder import (
    encoders_of,
    failure_entries,
    build_manifest,
)
from young_prism.engine.source.walk import Scan
from young_prism.engine.build.snapshot import (
    SourceChanges,
    BuildSnapshot,
    OriginalSnapshot,
)


@dataclass(frozen=True, slots=True)
class IncrementalPlan:
    """A plan of what changed, and what stands beside it with its entries in the manifest."""

    prepared: PreparedPlan
    unchanged: tuple[OriginalSnapshot, ...]
    entries: Mapping[str, bytes]

    def manifest(self, result: BuildOutcome) -> tuple[Manifest, bytes]:
        """Return the manifest without its originals, and the text of the whole. `result` counts what stands as well."""
        plan = self.prepared.plan
        own = build_manifest(plan, self.prepared.ledger, ())
        formats = {ImageFormat(one) for stood in self.unchanged for one in stood.formats}
        frame = own.model_copy(
            update={
                "originals": (),
                "encoders": encoders_of(formats | plan.formats),
                "skipped": failure_entries(result.skipped),
                "failed": failure_entries(result.failures),
            }
        )
        entries = {**self.entries, **entry_texts(own.originals)}
        text = ManifestText(frame, tuple(entries[path] for path in sorted(entries)))
        return frame, text.as_json()


def plan_incremental(request: PlanRequest, snapshot: BuildSnapshot, changes: SourceChanges, scan: Scan) -> IncrementalPlan | None:
    """Make the plan for what changed alone; None where that cannot be told from what is known, or is no shorter."""
    # A counter hangs on all originals; beside its original a rendition may not take the name of any of them.
    names = request.recipe.names
    if names.into_source or uses(names.rule, "counter") or len(changes.changed) * 2 > len(scan.originals):
        return None
    records = _PreviousRecords.read(snapshot)
    ledger = records and records.ledger_of(changes)
    if not (records and ledger):
        return None
    ledger.load_orphans(records.text.frame.orphaned, snapshot.orphans)
    prepared = plan_inspected(request, ledger, replace(scan, originals=changes.changed))
    if not _names_stay_valid(prepared.plan, changes):
        return None
    # A copy of an original that stands costs nothing but its names.
    contents = {original.facts.sha256 for original in prepared.plan.originals}
    for one in changes.unchanged:
        if one.files and one.sha256 in contents and (entry := records.entry(one)):
            ledger.load_for_reuse(entry, one.stamps)
    entries = {one.path: records.entries[one.path] for one in changes.unchanged if one.files}
    return IncrementalPlan(prepared, changes.unchanged, entries)


@dataclass(frozen=True, slots=True)
class _PreviousRecords:
    """A manifest beside the record of what stands: the same originals in the same order."""

    out: Path
    text: ManifestText
    entries: Mapping[str, bytes]

    @staticmethod
    def read(snapshot: BuildSnapshot) -> _PreviousRecords | None:
        listed = [one.path for one in snapshot.originals if one.files]
        try:
            text = ManifestText.of(manifest_file(snapshot.out).read_bytes())
            return _PreviousRecords(snapshot.out, text, dict(zip(listed, text.entries, strict=True)))
        except (OSError, ValueError):
            return None

    def ledger_of(self, changes: SourceChanges) -> Ledger | None:
        """Return a ledger that knows what changed, and nothing else."""
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
    """Whether all originals together would be named as the changed ones are alone, and the others were.

    Nobody steps on another's names; and where somebody had to give way before, nothing that he gave way to is gone.
    """
    if any(one.renamed for one in plan.originals) or any(one.renamed for one in changes.previous):
        return False
    new = casefold_keys([r.path for original in plan.originals for r in original.renditions])
    old = casefold_keys(_names_of(changes.previous))
    if old - new and any(one.renamed for one in changes.unchanged):
        return False
    return new <= old or (new - old).isdisjoint(casefold_keys(_names_of(changes.unchanged)))


def _names_of(originals: Iterable[OriginalSnapshot]) -> list[str]:
    return [path for one in originals for path in one.names]

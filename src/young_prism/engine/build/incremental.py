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
from young_prism.core.naming.collisions import same_name_keys
from young_prism.core.naming.rule import uses
from young_prism.core.plan.model import Plan
from young_prism.core.types import ImageFormat
from young_prism.engine.build.delivery import BuildResult
from young_prism.engine.output.ledger import Ledger
from young_prism.engine.output.manifest_file import manifest_file
from young_prism.engine.build.planning import (
    Asking,
    Prepared,
    prepare_looked,
)
from young_prism.engine.build.manifest_builder import (
    encoders_of,
    failure_entries,
    make_manifest,
)
from young_prism.engine.source.walk import Scan
from young_prism.engine.build.snapshot import (
    Changes,
    Standing,
    Stood,
)


@dataclass(frozen=True, slots=True)
class Partly:
    """A plan of what changed, and what stands beside it with its entries in the manifest."""

    prepared: Prepared
    stood: tuple[Stood, ...]
    entries: Mapping[str, bytes]

    def manifest(self, result: BuildResult) -> tuple[Manifest, bytes]:
        """Return the manifest without its originals, and the text of the whole. `result` counts what stands as well."""
        plan = self.prepared.plan
        own = make_manifest(plan, self.prepared.ledger, ())
        formats = {ImageFormat(one) for stood in self.stood for one in stood.formats}
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


def prepare_partly(asking: Asking, standing: Standing, changes: Changes, found: Scan) -> Partly | None:
    """Make the plan for what changed alone; None where that cannot be told from what is known, or is no shorter."""
    # A counter hangs on all originals; beside its original a rendition may not take the name of any of them.
    names = asking.recipe.names
    if names.into_source or uses(names.rule, "counter") or len(changes.changed) * 2 > len(found.originals):
        return None
    records = _Records.read(standing)
    ledger = records and records.ledger_of(changes)
    if not (records and ledger):
        return None
    ledger.take_orphans(records.text.frame.orphaned, standing.orphans)
    prepared = prepare_looked(asking, ledger, replace(found, originals=changes.changed))
    if not _names_hold(prepared.plan, changes):
        return None
    # A copy of an original that stands costs nothing but its names.
    contents = {original.facts.sha256 for original in prepared.plan.originals}
    for one in changes.same:
        if one.files and one.sha256 in contents and (entry := records.entry(one)):
            ledger.lend_entry(entry, one.stamps)
    entries = {one.path: records.entries[one.path] for one in changes.same if one.files}
    return Partly(prepared, changes.same, entries)


@dataclass(frozen=True, slots=True)
class _Records:
    """A manifest beside the record of what stands: the same originals in the same order."""

    out: Path
    text: ManifestText
    entries: Mapping[str, bytes]

    @staticmethod
    def read(standing: Standing) -> _Records | None:
        listed = [one.path for one in standing.originals if one.files]
        try:
            text = ManifestText.of(manifest_file(standing.out).read_bytes())
            return _Records(standing.out, text, dict(zip(listed, text.entries, strict=True)))
        except (OSError, ValueError):
            return None

    def ledger_of(self, changes: Changes) -> Ledger | None:
        """Return a ledger that knows what changed, and nothing else."""
        ledger = Ledger(self.out, partial=True)
        ledger.made_by = self.text.frame.generator, self.text.frame.recipe
        for was in changes.before:
            if was.files:
                entry = self.entry(was)
                if entry is None:
                    return None
                ledger.take_entry(entry, was.stamps)
        return ledger

    def entry(self, one: Stood) -> OriginalEntry | None:
        """Return an original's entry, None where the manifest says something else than the record."""
        try:
            entry = read_entry(self.entries[one.path])
        except (KeyError, ValueError):
            return None
        return entry if entry.path == one.path else None


def _names_hold(plan: Plan, changes: Changes) -> bool:
    """Whether all originals together would be named as the changed ones are alone, and the others were.

    Nobody steps on another's names; and where somebody had to give way before, nothing that he gave way to is gone.
    """
    if any(one.renamed for one in plan.originals) or any(one.renamed for one in changes.before):
        return False
    new = same_name_keys([r.path for original in plan.originals for r in original.renditions])
    old = same_name_keys(_names(changes.before))
    if old - new and any(one.renamed for one in changes.same):
        return False
    return new <= old or (new - old).isdisjoint(same_name_keys(_names(changes.same)))


def _names(stood: Iterable[Stood]) -> list[str]:
    return [path for one in stood for path in one.names]

"""Calibration of estimates by earlier builds, or by a sample made now."""

from __future__ import annotations

import time
from collections.abc import Callable, Mapping
from pathlib import Path
from typing import NamedTuple

from young_prism.core.images.facts import Facts
from young_prism.core.manifest.model import RenditionEntry
from young_prism.core.plan.estimate import NO_EXPERIENCE, Experience, KnownBytes, learn, no_known_bytes
from young_prism.core.plan.make import make_plan
from young_prism.core.plan.memory import expected_memory
from young_prism.core.plan.model import Plan, PlannedOriginal, WatermarkFile
from young_prism.core.selection.image_metadata import MetadataByPath
from young_prism.engine.output.ledger import Ledger
from young_prism.engine.output.manifest_file import manifest_file, read_manifest
from young_prism.engine.workers.pool import Pool
from young_prism.engine.workers.protocol import Job
from young_prism.engine.workers.tasks import render_file, render_timeout_s

DEFAULT_PACE = 0.6
"""Seconds of one core for a unit of work: about what the demo source took (docs/performance.md)."""


def actual_sizes(ledger: Ledger) -> KnownBytes:
    """Return what tells the bytes of a rendition that was made in just this way; 0 where it was not worth delivering."""
    sizes = {
        key: entry.bytes if isinstance(entry, RenditionEntry) else 0 for key, entry in ledger.by_key.items()
    }
    return sizes.get if sizes else no_known_bytes


def calibrate(
    ledger: Ledger, facts: Mapping[str, Facts], details: MetadataByPath, marks: Mapping[str, WatermarkFile]
) -> Experience:
    """Compare what lies in an output folder with what had been guessed, by the recipe that made it."""
    manifest = read_manifest(manifest_file(ledger.out))
    if manifest is None:
        return NO_EXPERIENCE
    plan = make_plan(facts, manifest.recipe, details=details, marks=marks)
    return learn(plan.originals, actual_sizes(ledger))


class CalibrationSample(NamedTuple):
    """What a sample taught: bytes, and seconds for a unit of work with all workers, None where too little was made."""

    experience: Experience
    pace: float | None
    originals: int


def take_sample(source: Path, plan: Plan, pool: Callable[[], Pool], number: int) -> CalibrationSample:
    """Make the renditions of some originals, spread over kinds and sizes, and keep none of them.

    The first to be done only starts the clock: workers take their time to start.
    """
    chosen = _spread(plan, number)
    sizes: dict[str, int] = {}
    began, work = 0.0, 0.0
    job: Job[PlannedOriginal] = Job(
        function=render_file,
        arguments=lambda original: (str(source), original, {}, True, None),
        timeout_s=render_timeout_s,
        seconds=lambda original: original.work,
        memory=expected_memory,
    )
    for done in pool().run(chosen, job):
        if began:
            work += done.item.work
        began = began or time.monotonic()
        for rendered in (done.result.rendered if done.result else None) or []:
            sizes[rendered.planned.key] = rendered.bytes if rendered.data else 0
    seconds = time.monotonic() - began
    return CalibrationSample(
        learn(chosen, sizes.get),
        seconds / work if work > 0.5 else None,
        len(chosen),
    )


def _spread(plan: Plan, number: int) -> list[PlannedOriginal]:
    """Return originals at even steps through all of them, in the order of kinds and of their weight."""
    ordered = sorted(
        (original for original in plan.originals if original.renditions),
        key=lambda original: (original.facts.kind_label, original.facts.bytes, original.path),
    )
    if len(ordered) <= number:
        return ordered
    return [ordered[int((step + 0.5) * len(ordered) / number)] for step in range(number)]

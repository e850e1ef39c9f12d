"""Batching of work: a worker gets a whole original or, towards the end of a build, a slice of its renditions.

Long ones come first, and what would be the last straggler is divided, so that all workers end together. A divided
original is decoded once a part; that is why not all are.
"""

from __future__ import annotations

import math
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field

from young_prism.core.plan.model import PlannedRendition, is_searched
from young_prism.core.render.results import EncodedFile
from young_prism.engine.build.work import RemainingWork

_STRAGGLER_SHARE = 0.8
"""An original is divided when it is more than this much of what is left for each worker, itself included.

By a simulation with the measured cost of a further decoding: earlier, and finer, costs more than it brings.
"""

_MIN_SLICE_S = 0.5
"""Seconds of work under which a part costs more than it brings."""

_MIN_DECODINGS = 3
"""A part must be this many times the work of decoding its original."""


@dataclass(slots=True)
class OriginalJob:
    """An original that is worked on, by one worker or in parts; `pieces` are those that are there."""

    work: RemainingWork
    parts: int = 1
    pieces: dict[str, EncodedFile] = field(default_factory=dict)
    seconds: float = 0.0
    failed: bool = False


@dataclass(frozen=True, slots=True)
class JobSlice:
    """What one worker is given: an original, or those of its renditions with these paths."""

    job: OriginalJob
    paths: frozenset[str] | None
    work: float


def slice_jobs(todo: Sequence[RemainingWork], workers: int) -> Iterator[JobSlice]:
    """Yield what workers are given, the longest first."""
    ordered = sorted(todo, key=lambda work: (-work.work, work.original.path))
    left = sum(work.work for work in ordered)
    for item in ordered:
        yield from _slice_job(item, left / workers, workers)
        left -= item.work


def _slice_job(work: RemainingWork, share: float, workers: int) -> Iterator[JobSlice]:
    units = _units(work)
    number = _slice_count(work, share, workers)
    bins: list[list[str]] = [[] for _ in range(min(number, len(units)))]
    if len(bins) < 2 or not all(known.delivered for known in work.known.values()):
        yield JobSlice(OriginalJob(work), None, work.work)
        return
    loads = [0.0] * len(bins)
    for unit in units:
        lightest = loads.index(min(loads))
        bins[lightest] += [rendition.path for rendition in unit]
        loads[lightest] += sum(rendition.work for rendition in unit)
    whole = OriginalJob(work, parts=len(bins))
    for load, paths in sorted(zip(loads, bins, strict=True), key=lambda pair: -pair[0]):
        yield JobSlice(whole, frozenset(paths), load + work.original.decoding)


def _units(work: RemainingWork) -> list[list[PlannedRendition]]:
    """Return what must stay together, the longest first: a rendition, or all of a format whose searches follow each other."""
    units: dict[tuple[str, str], list[PlannedRendition]] = {}
    for rendition in work.original.renditions:
        if rendition.path not in work.known:
            together = is_searched(rendition.settings)
            key = (rendition.facet, rendition.format.value) if together else ("", rendition.path)
            units.setdefault(key, []).append(rendition)
    return sorted(units.values(), key=lambda unit: (-sum(r.work for r in unit), unit[0].path))


def _slice_count(work: RemainingWork, share: float, workers: int) -> int:
    """Return in how many parts an original is worked on, given the work that is left for each worker."""
    least = max(_MIN_SLICE_S, _MIN_DECODINGS * work.original.decoding)
    if work.work <= _STRAGGLER_SHARE * share or work.work < 2 * least:
        return 1
    return min(workers, max(2, math.ceil(work.work / max(share, least))))

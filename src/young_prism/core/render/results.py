"""Results of rendering, and which renditions are worth delivering: decided from their bytes alone."""

from __future__ import annotations

import hashlib
from collections.abc import Mapping
from dataclasses import dataclass
from typing import NamedTuple

from young_prism.core.naming.rule import WHOLE_FACET
from young_prism.core.plan.model import VIDEO, PlannedOriginal, PlannedRendition
from young_prism.core.recipe.formats import Squeeze
from young_prism.core.render.pruning import RungFile, redundant_files
from young_prism.core.types import Outcome
from young_prism.messages.output import FAILED_VERIFICATION


@dataclass(frozen=True, slots=True, kw_only=True)
class Rendered:
    """One planned rendition, done: `data` is None where it was not worth delivering."""

    planned: PlannedRendition
    outcome: Outcome
    reason: str
    data: bytes | None
    bytes: int
    sha256: str
    placeholder: str = ""
    reused: bool = False
    """It was made before, and only its name is new."""


class EncodedFile(NamedTuple):
    """The file of a rendition before it is judged; `kept` are bytes of the original's own, or what was never lossy again."""

    data: bytes
    reason: str
    is_kept: bool = False
    placeholder: str = ""
    clear: bool = False
    """Its pixels are transparent somewhere, and the format can say so."""
    fault: str = ""
    """It is not what it was to be, and this is why."""


class PriorResult(NamedTuple):
    """A rendition that was made before, in just this way: its bytes, and whether it was worth delivering."""

    bytes: int
    delivered: bool


NO_PRIOR_RESULTS: Mapping[str, PriorResult] = {}


def finalize(
    original: PlannedOriginal, known: Mapping[str, PriorResult], pieces: Mapping[str, EncodedFile]
) -> list[Rendered]:
    """Judge what was made of an original, wherever it was made: of the `known` ones, those are handed back that are not worth delivering now."""
    sizes = bytes_by_path(known, pieces)
    dropped = formats_to_drop(original, sizes)
    return [
        _faulty(planned, pieces[planned.path].fault)
        if planned.path in pieces and pieces[planned.path].fault
        else _dropped(planned, sizes[planned.path], dropped[planned.path])
        if planned.path in dropped
        else _delivered(planned, pieces[planned.path])
        for planned in original.renditions
        if planned.path in dropped or planned.path in pieces
    ]


def bytes_by_path(known: Mapping[str, PriorResult], pieces: Mapping[str, EncodedFile]) -> dict[str, int]:
    """Return the bytes of each rendition; what is not what it was to be weighs nothing against the others."""
    fine = {path: len(file.data) for path, file in pieces.items() if not file.fault}
    return {path: result.bytes for path, result in known.items()} | fine


def formats_to_drop(original: PlannedOriginal, sizes: Mapping[str, int]) -> dict[str, str]:
    """Return which of an original's renditions are not worth delivering, by path, and why; from the bytes of each."""
    available = [r for r in original.renditions if r.path in sizes]
    left_out = redundant_files(RungFile(r.facet, r.format, sizes[r.path], r.share) for r in available)
    dropped = {r.path: left_out[r.facet, r.format] for r in available if (r.facet, r.format) in left_out}
    moving = [r for r in available if r.facet == WHOLE_FACET and r.path not in dropped]
    lightest = min(moving, key=lambda r: sizes[r.path], default=None)
    for video in available:
        if video.facet == VIDEO and lightest and sizes[video.path] >= sizes[lightest.path]:
            dropped[video.path] = (
                f"the animation in {lightest.format.label} has {sizes[lightest.path]:,} bytes, and this video {sizes[video.path]:,}"
            )
    return dropped


def _faulty(planned: PlannedRendition, fault: str) -> Rendered:
    if isinstance(planned.settings, Squeeze):
        reason = f"It was not squeezed: {fault}."
    elif planned.settings is None:
        reason = f"The original is damaged: {fault}."
    else:
        reason = f"{FAILED_VERIFICATION} {fault}."
    return Rendered(
        planned=planned,
        outcome=Outcome.FAILED,
        reason=reason,
        data=None,
        bytes=0,
        sha256="",
    )


def _delivered(planned: PlannedRendition, made: EncodedFile) -> Rendered:
    return Rendered(
        planned=planned,
        outcome=Outcome.KEPT if made.is_kept else Outcome.MADE,
        reason=made.reason,
        bytes=len(made.data),
        sha256=hashlib.sha256(made.data).hexdigest(),
        data=made.data,
        placeholder=made.placeholder,
    )


def _dropped(planned: PlannedRendition, size: int, reason: str) -> Rendered:
    return Rendered(planned=planned, outcome=Outcome.SKIPPED, reason=reason, bytes=size, sha256="", data=None)

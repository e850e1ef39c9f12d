"""What a worker does for a proof: one candidate of one rung, made, scored and put on the disk by its content.

A worker keeps the last rungs that it decoded, since the next candidate is most likely one of theirs.
"""

from __future__ import annotations

import hashlib
import json
import time
from collections import OrderedDict
from collections.abc import Callable
from dataclasses import asdict, dataclass, replace
from enum import StrEnum
from functools import cached_property
from pathlib import Path
from typing import TYPE_CHECKING, Any, TypeVar

from pydantic_core import from_json

from young_prism.core.errors import ChangedError, YoungPrismError
from young_prism.core.plan.keys import add_crop, add_parent_rung, rendition_key, settings_digest
from young_prism.core.plan.memory import expected_memory
from young_prism.core.plan.model import PlannedOriginal
from young_prism.core.plan.resolve import has_watermark
from young_prism.core.proof.candidate import Candidate
from young_prism.core.types import ImageFormat, Size
from young_prism.engine.output.atomic import write_atomically
from young_prism.engine.workers.protocol import Job
from young_prism.engine.workers.tasks import read_original, render_timeout_s
from young_prism.messages.originals import CHANGED_SINCE_INSPECTION

if TYPE_CHECKING:
    from young_prism.core.proof.bench import ProofBench

_BENCHES = 2
WINDOW = Size(240, 160)
"""The part of a picture that a contact sheet shows."""


class ProofTask(StrEnum):
    """What is wanted of a rung."""

    EXACT = "exact"
    """Its own pixels, without loss."""
    ENCODE = "try"
    """A candidate, with its score."""
    SEARCH = "find"
    """A candidate brought to a target."""
    MAP = "map"
    """Where a candidate's score is lost."""


@dataclass(frozen=True)
class ProofRequest:
    """One thing to be made for a proof. Of an exact rung only whether it is sharpened comes from the candidate."""

    root: str
    original: PlannedOriginal
    facet: str
    size: Size
    task: ProofTask
    candidate: Candidate
    target: float | None = None

    @cached_property
    def key(self) -> str:
        """A key that changes with everything that the result depends on."""
        cut = next((r.cut for r in self.original.renditions if r.facet == self.facet), None)
        largest = max(r.size for r in self.original.renditions if r.facet == self.facet)
        sharpen = "mild" if self.candidate.sharpen else "none"
        finishing = self.original.finishing.model_copy(update={"sharpen": sharpen, "min_score": 0.0})
        exact = self.task is ProofTask.EXACT
        settings = None if exact else self.candidate.settings
        fmt = ImageFormat.PNG if exact else self.candidate.format
        wears = has_watermark(finishing, self.facet, self.size, None if exact else fmt)
        rest = settings_digest(fmt, settings, finishing, self.original.mark if wears else None)
        if exact:  # a copy has no finishing in its key, and this is none
            rest = hashlib.sha256(f"{rest} {finishing.model_dump_json()}".encode()).hexdigest()[:16]
        rest = add_parent_rung(add_crop(rest, cut) if cut else rest, largest)
        whole = f"{rendition_key(self.original.facts.sha256, self.size, rest)} {self.task} {self.target} 1"
        return hashlib.sha256(whole.encode()).hexdigest()[:40]

    def exact(self) -> ProofRequest:
        """Return the wish for the same rung without loss."""
        return replace(self, task=ProofTask.EXACT, target=None)

    def with_candidate(self, candidate: Candidate, task: ProofTask = ProofTask.ENCODE) -> ProofRequest:
        """Return the wish for a candidate on the same rung."""
        return replace(self, task=task, candidate=candidate, target=None)

    @property
    def ending(self) -> str:
        """The ending of its file."""
        return self.candidate.format.ext if self.task in (ProofTask.ENCODE, ProofTask.SEARCH) else "png"


@dataclass(frozen=True, slots=True)
class ProofResult:
    """Result of a proof. `score` and `ssim` are against the rung's own pixels; `worst` is the left and upper edge of `WINDOW`."""

    key: str
    file: str
    bytes: int
    score: float | None = None
    ssim: float | None = None
    quality: int | None = None
    seconds: float = 0.0
    note: str = ""
    reached: bool = True
    worst: tuple[int, int] = (0, 0)


RequestOf = TypeVar("RequestOf")


def proof_job(
    folder: Path, stopped: Callable[[], bool] = lambda: False
) -> Job[tuple[RequestOf, ProofRequest]]:
    """Return how a pool makes what is wanted; with each goes who asks for it."""
    return Job(
        function=run_proof,
        arguments=lambda item: (str(folder), item[1]),
        timeout_s=lambda item: render_timeout_s(item[1].original),
        memory=lambda item: expected_memory(item[1].original),
        # One at a time: whoever comes now must not wait behind what was handed out.
        seconds=lambda _: 1.0,
        is_cancelled=stopped,
    )


def part_around(result: ProofResult, size: Size, part_size: Size) -> tuple[int, int, int, int]:
    """Return the part of a rung, as large as `shown` where the rung is, in whose middle it suffers most: left, top, width, height."""
    width, height = min(part_size.width, size.width), min(part_size.height, size.height)
    left = result.worst[0] - (width - WINDOW.width) // 2
    top = result.worst[1] - (height - WINDOW.height) // 2
    return min(max(0, left), size.width - width), min(max(0, top), size.height - height), width, height


def run_proof(folder: str, request: ProofRequest) -> ProofResult:
    """Make what is wanted, and put it into a folder. Raises the errors of `core.proof.bench.Bench`, with the file's name."""
    try:
        known = load_cached(Path(folder), request)
        return known or _compute(Path(folder), request)
    except YoungPrismError as error:
        raise error.with_file(error.file or request.original.path) from error


def load_cached(folder: Path, request: ProofRequest) -> ProofResult | None:
    """Return what was made of it before, if it is there whole."""
    file = folder / request.key[:2] / f"{request.key}.json"
    try:
        plain = from_json(file.read_bytes())
        result = ProofResult(**{**plain, "worst": tuple(plain["worst"])})
        is_complete = (folder / result.file).stat().st_size == result.bytes
    except (OSError, ValueError, TypeError, KeyError):
        return None
    return result if is_complete else None


def _compute(folder: Path, request: ProofRequest) -> ProofResult:
    from young_prism.core.proof.bench import difference_map, worst_window

    bench = _bench(request)
    candidate = request.candidate
    file = f"{request.key[:2]}/{request.key}.{request.ending}"
    facts: dict[str, Any] = {}
    if request.task is ProofTask.EXACT:
        data = bench.lossless_png(sharpen=candidate.sharpen)
    elif request.task is ProofTask.MAP:
        data = difference_map(bench.measure(candidate).lost)
    elif request.task is ProofTask.SEARCH and request.target is not None and candidate.quality is not None:
        search_result, seconds = bench.search(candidate, request.target)
        data = search_result.data
        facts = {
            "score": search_result.score,
            "quality": search_result.quality,
            "seconds": seconds,
            "note": search_result.explanation,
            "reached": search_result.reached,
            "worst": worst_window(bench.lost(candidate, data), WINDOW),
        }
    else:
        measured = bench.measure(candidate)
        data = measured.data
        facts = {
            "score": measured.score,
            "ssim": measured.ssim,
            "quality": candidate.quality,
            "seconds": measured.seconds,
            "note": measured.note,
            "worst": worst_window(measured.lost, WINDOW),
        }
    result = ProofResult(key=request.key, file=file, bytes=len(data), **facts)
    write_atomically(folder / file, data, durable=False)
    plain = json.dumps(asdict(result)).encode()
    write_atomically(folder / request.key[:2] / f"{request.key}.json", plain, durable=False)
    return result


_benches: OrderedDict[tuple[Any, ...], ProofBench] = OrderedDict()


def _bench(request: ProofRequest) -> ProofBench:
    """Return the rung that something is wanted of, decoded if it is not at hand."""
    from young_prism.core.proof.bench import ProofBench

    original = request.original
    key = (original.facts.sha256, request.facet, request.size, original.finishing, original.mark)
    if key in _benches:
        _benches.move_to_end(key)
        return _benches[key]
    data = read_original(request.root, original.path)
    if hashlib.sha256(data).hexdigest() != original.facts.sha256:
        raise ChangedError.of(CHANGED_SINCE_INSPECTION, file=original.path)
    _benches[key] = ProofBench(data, original, request.facet, request.size, clock=time.perf_counter)
    while len(_benches) > _BENCHES:
        _benches.popitem(last=False)
    return _benches[key]

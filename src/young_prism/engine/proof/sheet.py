"""A proof without a page: some pictures, each with its candidates, made by a pool and handed back."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import NamedTuple

from young_prism.core.errors import DamagedError, YoungPrismError
from young_prism.core.images.facts import Facts
from young_prism.core.plan.make import make_plan
from young_prism.core.plan.resolve import formats_for
from young_prism.core.proof.candidate import PROOFED, Candidate, candidate_of
from young_prism.core.proof.suggest import curve_names
from young_prism.core.recipe.codecs import Png, RasterSettings
from young_prism.core.recipe.model import Recipe
from young_prism.core.render.quality_search import format_of
from young_prism.core.types import (
    MAX_PIXELS,
    ImageFormat,
    Kind,
    Size,
)
from young_prism.engine.proof.tasks import (
    ProofRequest,
    ProofResult,
    ProofTask,
    proof_job,
)
from young_prism.engine.workers.protocol import Job, Workers
from young_prism.engine.workers.tasks import inspect_file
from young_prism.messages.message import Message
from young_prism.messages.originals import NO_RENDITIONS
from young_prism.messages.recipes import nothing_to_compare

_INSPECTION_TIMEOUT_S = 120.0
DEFAULT_WIDTH = 1200


class SheetRow(NamedTuple):
    """One candidate with its result."""

    candidate: Candidate
    target: float | None
    result: ProofResult | None
    error: YoungPrismError | None


_NO_SIZE = Size(0, 0)


@dataclass(slots=True)
class ProofSheet:
    """One picture with its candidates in the order of formats; `exact` is the rung without loss, for looking at."""

    path: str
    facts: Facts | None = None
    size: Size = _NO_SIZE
    rows: list[SheetRow] = field(default_factory=list)
    exact: ProofResult | None = None
    error: YoungPrismError | None = None


def proof_sheets(
    pictures: Sequence[Path],
    recipe: Recipe,
    pool: Workers,
    folder: Path,
    *,
    names: Sequence[str] = (),
    target: float | None = None,
    width: int = DEFAULT_WIDTH,
    exact: bool = False,
    on_progress: Callable[[int, int], None] = lambda _done, _all: None,
) -> list[ProofSheet]:
    """Prove some pictures, each by itself; files are put into `folder`. A picture that cannot be used has its error.

    `names` are the candidates' short names, those that the recipe's formats suggest if left out; with a `target` each lossy
    format is brought to it. `tick` is told how many of how many are done. Raises `RecipeError` for a name that is none.
    """
    sheets = {str(path): ProofSheet(str(path)) for path in pictures}
    looks: Job[str] = Job(
        function=inspect_file,
        arguments=lambda path: (str(Path(path).resolve().parent), Path(path).name, MAX_PIXELS),
        timeout_s=lambda _: _INSPECTION_TIMEOUT_S,
    )
    for done in pool.run(list(sheets), looks):
        sheets[done.item].facts, sheets[done.item].error = done.result, done.error
    wish = _SheetOptions(recipe, names, target, width)
    requests: list[tuple[ProofSheet, ProofRequest]] = []
    for sheet in sheets.values():
        if sheet.facts is not None:
            requests += [(sheet, request) for request in _requests(sheet, sheet.facts, wish)]
    if not exact:
        requests = [(sheet, request) for sheet, request in requests if request.task is not ProofTask.EXACT]
    job: Job[tuple[ProofSheet, ProofRequest]] = proof_job(folder)
    ended: dict[tuple[str, str], tuple[ProofResult | None, YoungPrismError | None]] = {}
    for number, result in enumerate(pool.run(requests, job), start=1):
        sheet, proof_request = result.item
        ended[sheet.path, proof_request.key] = (result.result, result.error)
        on_progress(number, len(requests))
    for sheet, proof_request in requests:
        outcome, error = ended[sheet.path, proof_request.key]
        if proof_request.task is ProofTask.EXACT:
            sheet.exact = outcome
        else:
            sheet.rows.append(SheetRow(proof_request.candidate, proof_request.target, outcome, error))
    return list(sheets.values())


class _SheetOptions(NamedTuple):
    """What is asked for of every picture."""

    recipe: Recipe
    names: Sequence[str]
    target: float | None
    width: int


def _requests(sheet: ProofSheet, facts: Facts, wish: _SheetOptions) -> list[ProofRequest]:
    recipe, names, target, width = wish
    if facts.kind not in (Kind.PHOTO, Kind.GRAPHIC):
        sheet.error = DamagedError.of(nothing_to_compare(facts.kind_label))
        return []
    path = Path(sheet.path)
    # One rung of its own, as wide as asked for, whatever the recipe's ladder has.
    ladder = recipe.ladder.model_copy(
        update={"widths": (width,), "steps": None, "layout": None, "percents": (), "measure": "width"}
    )
    planned = make_plan(
        {path.name: facts}, recipe.model_copy(update={"ladder": ladder, "facets": (), "overrides": ()})
    )
    original = next(iter(planned.originals), None)
    if original is None or not original.renditions:
        left = next(iter(planned.left_out), None)
        problem = left.error if left else NO_RENDITIONS.problem
        sheet.error = DamagedError.of(Message(problem, NO_RENDITIONS.remedy))
        return []
    formats = formats_for(facts, recipe)
    settings = formats.settings()
    sheet.size = max(rendition.size for rendition in original.renditions)
    sharpen = recipe.finishing.sharpen == "mild"
    chosen = list(names)
    if not names and target is None:
        order = [fmt.value for fmt in PROOFED]
        usual = curve_names(formats, drawn=facts.kind is Kind.GRAPHIC)
        chosen = sorted(usual, key=lambda name: order.index(name.split("-")[0]))
    candidates = [candidate_of(name, settings, sharpen=sharpen) for name in chosen]
    root = str(path.resolve().parent)
    first = candidates[0] if candidates else candidate_of("webp-80", settings, sharpen=sharpen)
    base = ProofRequest(root, original, original.renditions[0].facet, sheet.size, ProofTask.EXACT, first)
    aims = [] if target is None else _search_candidates(settings, sharpen=sharpen)
    finds = [
        ProofRequest(root, original, base.facet, sheet.size, ProofTask.SEARCH, candidate, target)
        for candidate in aims
    ]
    return [base, *finds, *(base.with_candidate(candidate) for candidate in candidates)]


def _search_candidates(settings: dict[ImageFormat, RasterSettings], *, sharpen: bool) -> list[Candidate]:
    """Return where a search begins in each lossy format."""
    return [
        candidate_of(
            f"{format_of(candidate_settings).value}-{candidate_settings.quality}", settings, sharpen=sharpen
        )
        for candidate_settings in settings.values()
        if not isinstance(candidate_settings, Png)
    ]

"""What a proof page shows: an original at one rung, its candidates, and the curve that they make."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any, NamedTuple

from flask import abort, request, url_for

from young_prism.core.errors import RecipeError, YoungPrismError
from young_prism.core.images.facts import Facts
from young_prism.core.ladder.layout import shown_width
from young_prism.core.plan.model import PlannedOriginal
from young_prism.core.plan.resolve import (
    effective_recipe,
    formats_for,
    kind_key,
)
from young_prism.core.proof.candidate import PROOFED, Candidate, candidate_of, name_of
from young_prism.core.proof.curve import CurveEstimate, Point, at_score
from young_prism.core.proof.suggest import curve_names, first_strip, quickest_first
from young_prism.core.recipe.codecs import Lossy, RasterSettings
from young_prism.core.recipe.formats import FormatSet
from young_prism.core.recipe.model import Recipe
from young_prism.core.types import (
    ImageFormat,
    Kind,
    Size,
)
from young_prism.engine.proof.tasks import (
    ProofRequest,
    ProofResult,
    ProofTask,
)
from young_prism.services.catalogue import Catalogue, CatalogueEntry
from young_prism.services.planning import plan_of
from young_prism.store.records import Source

MOST_CANDIDATES = 8
USUAL_TARGET = 74.0
_USUAL_RUNG = 1200
"""Pixels: what a page most often shows, and a screen can hold."""
GROUNDS = ("grey", "black", "white", "page", "checks")
VIEWS = ("strip", "crops")
ARRIVED = (100, 50, 25, 10)
"""Percent of a file's bytes that have arrived, as a slow network delivers them."""
ZOOMS = {"1": "100 %", "2": "200 %", "4": "400 %", "layout": "layout"}


class ShownCandidate(NamedTuple):
    """A candidate as the page shows it: the result, an error, or nothing yet."""

    candidate: Candidate
    result: ProofResult | None
    error: YoungPrismError | None
    url: str
    map_url: str


@dataclass(frozen=True, slots=True)
class ProofView:
    """All that an address of the proof page says, and what follows from it."""

    entry: CatalogueEntry
    original: PlannedOriginal
    recipe: Recipe
    formats: FormatSet
    facet: str
    facets: list[str]
    size: Size
    rungs: list[Size]
    candidates: list[Candidate]
    more: list[Candidate]
    target: float
    way: str
    zoom: str
    ground: str
    hurts: bool
    arrived: int
    position: tuple[float, float]
    chosen: str
    css_width: float | None
    """How wide the layout shows it on a screen of 1280 pixels; None without a layout."""
    density: float

    @property
    def settings(self) -> Mapping[ImageFormat, RasterSettings]:
        """What the recipe makes of this kind of picture."""
        return self.formats.settings()

    @property
    def kind(self) -> str:
        """The kind in words, as more than one of them."""
        return PLURALS[kind_key(self.entry.facts)]

    def requests(self, root: str) -> list[ProofRequest]:
        """Return what there is to make, in the order of `State`."""
        plain = self.candidates[0]._replace(sharpen=self.original.finishing.sharpen == "mild")
        base = ProofRequest(root, self.original, self.facet, self.size, ProofTask.EXACT, plain)
        strip = [base.with_candidate(candidate) for candidate in self.candidates]
        maps = (
            [base.with_candidate(candidate, ProofTask.MAP) for candidate in self.candidates]
            if self.hurts
            else []
        )
        return [base, *strip, *maps, *(base.with_candidate(candidate) for candidate in self.more)]

    def rank(self, request: ProofRequest) -> tuple[int, int]:
        """Return where something comes in the order of making: what shows first, and of that what is made soonest."""
        if request.task is ProofTask.EXACT:
            return (0, 0)
        soon = quickest_first([candidate.name for candidate in (*self.candidates, *self.more)])
        is_listed = any(candidate.name == request.candidate.name for candidate in self.candidates)
        return (
            1 if is_listed and request.task is ProofTask.ENCODE else 2 if is_listed else 3,
            soon.index(request.candidate.name),
        )


PLURALS = {
    "photo": "photos",
    "photo_transparent": "transparent photos",
    "graphic": "graphics",
    "graphic_transparent": "transparent graphics",
}


def provable(facts: Facts) -> bool:
    """Whether there is anything to prove of an original: a still picture whose pixels were seen."""
    return facts.seen and facts.kind in (Kind.PHOTO, Kind.GRAPHIC)


def view_of(source: Source, catalogue: Catalogue, entry: CatalogueEntry) -> ProofView:
    """Read the address. What it says of candidates that are none is left out; an original that is not planned is a 404."""
    facts = entry.facts
    plan = plan_of(source, catalogue, facts={entry.path: facts})
    original = next(iter(plan.originals), None)
    if original is None or not original.renditions:
        left = next(iter(plan.left_out), None)
        abort(
            404, f"Nothing is made of “{entry.path}”. {left.error if left else 'The recipe leaves it out.'}"
        )
    recipe = effective_recipe(entry.path, catalogue.recipe)
    formats = formats_for(facts, recipe)
    facets = list(dict.fromkeys(r.facet for r in original.renditions))
    facet = request.args.get("facet", facets[0])
    facet = facet if facet in facets else facets[0]
    rungs = sorted({r.size for r in original.renditions if r.facet == facet})
    size = _rung(rungs, request.args.get("width", type=int))
    sharpen = recipe.finishing.sharpen == "mild"
    names = request.args.getlist("c") or first_strip(formats)
    added = request.args.get("add", "")
    candidates = _candidates([*names, added] if added else names, formats, sharpen=sharpen)[:MOST_CANDIDATES]
    if not candidates:
        candidates = _candidates(first_strip(formats), formats, sharpen=sharpen)
    listed_names = {candidate.name for candidate in candidates}
    more = [
        candidate
        for candidate in _candidates(
            curve_names(formats, drawn=facts.kind is Kind.GRAPHIC), formats, sharpen=sharpen
        )
        if candidate.name not in listed_names
    ]
    name = next((name_of(setting) for setting in formats.settings().values()), "")
    chosen = request.args.get("on", name if name in listed_names else candidates[len(candidates) // 2].name)
    zoom, density = request.args.get("zoom", "1"), request.args.get("density", 1.0, type=float)
    arrived = request.args.get("arrived", type=int)
    layout = recipe.ladder.layout
    css_width = shown_width(layout, 1280) if layout else None
    if zoom == "layout" and css_width:
        size = next((rung for rung in rungs if rung.width >= css_width * density), rungs[-1])
    return ProofView(
        entry=entry,
        original=original,
        recipe=recipe,
        formats=formats,
        facet=facet,
        facets=facets,
        size=size,
        rungs=rungs,
        candidates=candidates,
        more=more,
        target=_target(formats),
        way=_one_of(request.args.get("view"), VIEWS),
        zoom=zoom if zoom in ZOOMS and (zoom != "layout" or css_width) else "1",
        ground=_one_of(request.args.get("ground"), GROUNDS),
        hurts="hurts" in request.args,
        arrived=arrived if arrived in ARRIVED else ARRIVED[0],
        position=(_share("x"), _share("y")),
        chosen=chosen if chosen in listed_names else candidates[0].name,
        css_width=css_width,
        density=2.0 if density >= 2 else 1.0,
    )


def _target(formats: FormatSet) -> float:
    target = request.args.get("target", type=float)
    targets = [
        setting.target
        for setting in formats.settings().values()
        if isinstance(setting, Lossy) and setting.target
    ]
    value = target if target is not None and 10 <= target <= 98 else None
    return round(value or next(iter(targets), USUAL_TARGET), 1)


def _one_of(value: str | None, known: Sequence[str]) -> str:
    return value if value is not None and value in known else known[0]


def _share(name: str) -> float:
    value = request.args.get(name, 0.5, type=float)
    return value if 0 <= value <= 1 else 0.5


def _rung(rungs: list[Size], width: int | None) -> Size:
    if width is not None:
        sizes = [rung for rung in rungs if rung.width == width]
        if sizes:
            return sizes[0]
    return max((rung for rung in rungs if rung.width <= _USUAL_RUNG), default=rungs[0])


def _candidates(names: Sequence[str], formats: FormatSet, *, sharpen: bool) -> list[Candidate]:
    candidates: dict[str, Candidate] = {}
    for name in names:
        try:
            candidates[name] = candidate_of(name, formats.settings(), sharpen=sharpen)
        except RecipeError:
            continue
    return list(candidates.values())


@dataclass(frozen=True, slots=True)
class ProofState:
    """The current results of a view."""

    exact_url: str
    candidates: list[ShownCandidate]
    points: dict[ImageFormat, list[tuple[Point, str]]]
    """By format: measured points, each with the name of its candidate."""
    exact_points: list[tuple[Candidate, ProofResult]]
    """Candidates without a quality."""
    done: bool
    error: YoungPrismError | None

    def at_target(self, target: float) -> dict[ImageFormat, CurveEstimate | None]:
        """Read off what a target needs in each format."""
        return {
            fmt: at_score([point for point, _ in self.points[fmt]], target)
            for fmt in PROOFED
            if fmt in self.points
        }


def state_of(
    source: Source, view: ProofView, results: Sequence[ProofResult | YoungPrismError | None]
) -> ProofState:
    """Put together what a page shows of the results, in the order of `View.wanted`."""
    exact, rest = results[0], list(results[1:])
    strip = rest[: len(view.candidates)]
    maps = rest[len(strip) : 2 * len(strip)] if view.hurts else [None] * len(strip)
    more = rest[-len(view.more) :] if view.more else []
    shown_candidates = [
        ShownCandidate(
            candidate,
            result if isinstance(result, ProofResult) else None,
            result if isinstance(result, YoungPrismError) else None,
            file_url(source, result, view.arrived),
            file_url(source, of_map),
        )
        for candidate, result, of_map in zip(view.candidates, strip, maps, strict=True)
    ]
    points: dict[ImageFormat, list[tuple[Point, str]]] = {}
    plain: list[tuple[Candidate, ProofResult]] = []
    for candidate, candidate_result in zip([*view.candidates, *view.more], [*strip, *more], strict=True):
        if not isinstance(candidate_result, ProofResult) or candidate_result.score is None:
            continue
        if candidate.quality is None:
            plain.append((candidate, candidate_result))
        else:
            point = Point(candidate_result.score, candidate_result.bytes, candidate.quality)
            points.setdefault(candidate.format, []).append((point, candidate.name))
    error = exact if isinstance(exact, YoungPrismError) else None
    return ProofState(file_url(source, exact), shown_candidates, points, plain, None not in results, error)


def file_url(source: Source, result: ProofResult | YoungPrismError | None, arrived: int = ARRIVED[0]) -> str:
    """Return the address of a file that was made for a proof; empty until it is made.

    Args:
        source: The source.
        result: The file.
        arrived: Percent of its bytes that are sent.
    """
    if not isinstance(result, ProofResult):
        return ""
    share: dict[str, Any] = {} if arrived == ARRIVED[0] else {"arrived": arrived}
    return url_for("proof.file", slug=source.slug, name=result.file.rpartition("/")[2], v=1, **share)

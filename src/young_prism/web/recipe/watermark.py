"""The watermark of a recipe on the page: which files there are to choose from, and how it looks on three pictures."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from flask import url_for

from young_prism.core.errors import YoungPrismError
from young_prism.core.images.facts import Facts
from young_prism.core.naming.rule import WHOLE_FACET
from young_prism.core.plan.model import Plan, PlannedOriginal
from young_prism.core.plan.resolve import has_watermark
from young_prism.core.proof.candidate import candidate_of
from young_prism.core.proof.suggest import representative_originals
from young_prism.core.recipe.model import Recipe
from young_prism.core.types import ImageFormat, Kind, Size
from young_prism.engine.proof.tasks import ProofRequest, ProofResult, ProofTask
from young_prism.services.catalogue import Catalogue, CatalogueEntry
from young_prism.store.records import Source
from young_prism.web.context import services

_PICTURES = 3
_OFFERED = 8
"""Files of the source that are offered: those called like a mark, then the smallest."""
_CALLED = ("mark", "logo", "brand", "sign")
_SHOWN_IN = (ImageFormat.WEBP, ImageFormat.JPEG, ImageFormat.AVIF, ImageFormat.JXL)
"""Formats in which it is shown, the quickest first."""


@dataclass(frozen=True, slots=True)
class MarkChoice:
    """A file that can be the watermark: how the recipe names it, and the address of a small picture of it."""

    name: str
    url: str


@dataclass(frozen=True, slots=True)
class MarkedPicture:
    """A picture at one width: the address of its file, empty while it is made, and whether it wears the watermark."""

    width: int
    facet: str
    url: str
    wears: bool


@dataclass(frozen=True, slots=True)
class MarkPreview:
    """How the watermark looks: by original, its pictures from the widest down. `waiting` says that some are being made."""

    rows: tuple[tuple[str, tuple[MarkedPicture, ...]], ...]
    waiting: bool
    failed: str


def mark_choices(source: Source, catalogue: Catalogue, chosen: str) -> list[MarkChoice]:
    """Return the files that can be chosen: what was sent to the pages, what lies in the source, and what is chosen now."""
    names = services().watermarks.names()
    choices = [MarkChoice(name, url_for("recipe.mark", name=name)) for name in names]
    entries = sorted((entry for entry in catalogue.entries if _can_be_mark(entry.facts)), key=_order)
    offered = entries[:_OFFERED] + [entry for entry in entries[_OFFERED:] if entry.path == chosen]
    for entry in offered:
        url = url_for("files.small", slug=source.slug, width=320, path=entry.path, v=entry.tag)
        choices.append(MarkChoice(entry.path, url))
    if chosen and all(choice.name != chosen for choice in choices):
        choices.append(MarkChoice(chosen, ""))
    return choices


def _can_be_mark(facts: Facts) -> bool:
    return facts.kind is Kind.VECTOR or (facts.format is ImageFormat.PNG and facts.transparent)


def _order(entry: CatalogueEntry) -> tuple[bool, int, str]:
    is_called = any(word in entry.path.lower() for word in _CALLED)
    return (not is_called, entry.facts.size.pixels, entry.path)


def mark_preview(source: Source, catalogue: Catalogue, recipe: Recipe, plan: Plan) -> MarkPreview | None:
    """Return how the watermark looks on three originals at every width; None without a watermark or a still picture.

    What is not made yet is begun; whoever asks again gets it.
    """
    watermark = recipe.finishing.watermark
    if watermark is None:
        return None
    fmt = next((fmt for fmt in _SHOWN_IN if watermark.is_on(fmt)), None)
    planned = {original.path: original for original in plan.originals if original.mark}
    among = {path: facts for path, facts in catalogue.in_scope.items() if path in planned}
    chosen = [planned[suggestion.path] for suggestion in representative_originals(among)[:_PICTURES]]
    if fmt is None or not chosen:
        return None
    requests = [request for original in chosen for request in _requests(source, original, fmt)]
    results = services().proofs.request(
        f"watermark {source.slug}", requests, rank=lambda request: request.size.pixels
    )
    rows = tuple((original.path, _pictures(source, original, fmt, requests, results)) for original in chosen)
    failure = next((result for result in results if isinstance(result, YoungPrismError)), None)
    return MarkPreview(rows, None in results, str(failure) if failure else "")


def _requests(source: Source, original: PlannedOriginal, fmt: ImageFormat) -> list[ProofRequest]:
    candidate = candidate_of(f"{fmt.value}-80", {}, sharpen=original.finishing.sharpen == "mild")
    rungs = {(rendition.facet, rendition.size) for rendition in original.renditions}
    return [
        ProofRequest(source.folder, original, facet, size, ProofTask.ENCODE, candidate)
        for facet, size in sorted(rungs, key=_widest_first)
    ]


def _widest_first(rung: tuple[str, Size]) -> tuple[bool, str, int]:
    facet, size = rung
    return (facet != WHOLE_FACET, facet, -size.width)


def _pictures(
    source: Source,
    original: PlannedOriginal,
    fmt: ImageFormat,
    requests: Sequence[ProofRequest],
    results: Sequence[ProofResult | YoungPrismError | None],
) -> tuple[MarkedPicture, ...]:
    return tuple(
        MarkedPicture(
            request.size.width,
            "" if request.facet == WHOLE_FACET else request.facet,
            url_for("proof.file", slug=source.slug, name=result.file.rpartition("/")[2])
            if isinstance(result, ProofResult)
            else "",
            has_watermark(original.finishing, request.facet, request.size, fmt),
        )
        for request, result in zip(requests, results, strict=True)
        if request.original is original
    )

"""The focal point of an original, and what each facet cuts out around it."""

from __future__ import annotations

from collections.abc import Mapping
from functools import lru_cache
from pathlib import Path
from typing import NamedTuple

from young_prism.core.errors import YoungPrismError
from young_prism.core.images.crops import crop_origin, largest_crop
from young_prism.core.plan.resolve import matches
from young_prism.core.recipe.model import Recipe
from young_prism.core.selection.geometry import NO_GEOMETRY
from young_prism.core.selection.image_metadata import (
    LONGEST_TITLE,
    FocalPoint,
    ImageMetadata,
)
from young_prism.core.types import Size
from young_prism.engine.source.preview import focal_point_of
from young_prism.services.catalogue import Catalogue, CatalogueEntry
from young_prism.store.records import Source
from young_prism.web.context import services
from young_prism.web.files import shape_tag, small_file

_PREVIEW = 1280


class FacetCrop(NamedTuple):
    """One cut: its size in the original, and its place as shares of the original, left, top, width, height."""

    name: str
    aspect: str
    size: Size
    area: tuple[float, float, float, float]
    up_to: int | None


class CropEditor(NamedTuple):
    """The focal point, whether a person set it, and what is cut around it."""

    focal: FocalPoint
    by_hand: bool
    facets: list[FacetCrop]
    size: Size
    """Of the picture that they are cut from, in pixels."""
    shape: str
    """What tells pictures of one original in different shapes apart; empty for the original's own."""


def cuts_of(source: Source, catalogue: Catalogue, entry: CatalogueEntry, recipe: Recipe) -> CropEditor:
    """Return the cuts of an original; where nobody set a focal point, around the one that the engine finds."""
    metadata = catalogue.details.get(entry.path)
    by_hand = metadata is not None and metadata.focal is not None
    shaped = [
        facet
        for facet in recipe.facets
        if facet.ratio and facet.fit == "cut" and not (facet.match and not matches(facet.match, entry.path))
    ]
    focal = metadata.focal if metadata and metadata.focal else (0.5, 0.5)
    if shaped and not by_hand:
        focal = _found_focal(source, entry)
    geometry = metadata.geometry if metadata else NO_GEOMETRY
    whole = geometry.size_of(entry.facts.size)
    facets = []
    for facet in shaped:
        assert facet.ratio is not None  # noqa: S101  (only those were taken)
        own_area = geometry.area_of(facet.name)
        size = largest_crop(own_area.size(whole) if own_area else whole, facet.ratio)
        left, top = own_area.origin(whole, size) if own_area else crop_origin(whole, size, focal)
        area = (left / whole.width, top / whole.height, size.width / whole.width, size.height / whole.height)
        facets.append(FacetCrop(facet.name, facet.aspect or "", size, area, facet.up_to))
    return CropEditor(focal, by_hand, facets, whole, shape_tag(geometry))


def _found_focal(source: Source, entry: CatalogueEntry) -> FocalPoint:
    row = services().store.originals.get(source.id, entry.path)
    file = small_file(source, row, entry.facts, _PREVIEW) if row else None
    try:
        return _found_in(file) if file else (0.5, 0.5)
    except (YoungPrismError, OSError):
        return (0.5, 0.5)


@lru_cache(maxsize=512)
def _found_in(small: Path) -> FocalPoint:
    """Return the point in a small picture that draws the eye. Its name depends on its content, so the result may be kept."""
    return services().bounded(focal_point_of, small)


def detail_from(form: Mapping[str, str], before: ImageMetadata) -> ImageMetadata:
    """Return the metadata of an original after a form was sent: a point, a title, or that it is to be found again."""
    if "find" in form:
        return before._replace(focal=None)
    if "title" in form:
        return before._replace(title=form["title"].strip()[:LONGEST_TITLE])
    try:
        # A picture that is pressed sends pixels, a script sends shares.
        width, height = float(form.get("width", 1)), float(form.get("height", 1))
        x, y = float(form["focal.x"]) / width, float(form["focal.y"]) / height
    except (LookupError, ValueError, ZeroDivisionError):
        return before
    if not (0 <= x <= 1 and 0 <= y <= 1):
        return before
    return before._replace(focal=(round(x, 4), round(y, 4)))

"""The form in which an original is turned, mirrored, straightened and cropped."""

from __future__ import annotations

from collections.abc import Mapping
from typing import NamedTuple

from pydantic import ValidationError

from young_prism.core.errors import IncomingError
from young_prism.core.naming.rule import WHOLE_FACET
from young_prism.core.plan.resolve import matches
from young_prism.core.recipe.model import Recipe
from young_prism.core.selection.geometry import NO_GEOMETRY, Area, AreaModel, Geometry, GeometryModel
from young_prism.messages.uploads import INVALID_GEOMETRY

_ALL = Area(0, 0, 1, 1)
_NEARLY = 1e-3


class ShapedPart(NamedTuple):
    """The whole picture or a facet, with its shape as width over height and the area that a person set."""

    name: str
    aspect: str
    ratio: float | None
    area: Area | None


class GeometryEditor(NamedTuple):
    """What the form shows."""

    geometry: Geometry
    parts: list[ShapedPart]

    @property
    def is_changed(self) -> bool:
        """Whether a person changed anything."""
        return self.geometry != NO_GEOMETRY


def geometry_editor(geometry: Geometry, recipe: Recipe, path: str) -> GeometryEditor:
    """Return what the form shows of an original: the whole picture, and each facet that is cut from it."""
    parts = [ShapedPart(WHOLE_FACET, "", None, geometry.crop)]
    for facet in recipe.facets:
        if facet.fit == "cut" and not (facet.match and not matches(facet.match, path)):
            ratio = facet.ratio[0] / facet.ratio[1] if facet.ratio else None
            parts.append(ShapedPart(facet.name, facet.aspect or "", ratio, geometry.area_of(facet.name)))
    return GeometryEditor(geometry, parts)


def geometry_from(form: Mapping[str, str], before: Geometry) -> Geometry:
    """Return the geometry of a form that was sent. Raises `IncomingError` where it cannot be."""
    if "reset" in form:
        return NO_GEOMETRY
    try:
        sides = [float(form.get(name, "")) / 100 for name in ("left", "top", "width", "height")]
        area = _fitting(Area(*sides))
        is_all = all(abs(side - full) < _NEARLY for side, full in zip(area, _ALL, strict=True))
        changed = GeometryModel(
            turn=int(form.get("turn", "0")),
            mirror="mirror" in form,
            straighten=round(float(form.get("straighten", "0")), 2),
        )
        crop = None if is_all else AreaModel(**area._asdict()).area()
    except (ValueError, ValidationError) as error:
        raise IncomingError.of(INVALID_GEOMETRY) from error
    geometry = changed.geometry()._replace(crop=before.crop, facets=before.facets)
    if (geometry.turn, geometry.mirror) != (before.turn, before.mirror):
        geometry = geometry._replace(crop=None, facets=())  # these lay elsewhere in the picture
    part = form.get("part", WHOLE_FACET)
    return geometry._replace(crop=crop) if part == WHOLE_FACET else geometry.with_facet(part, crop)


def _fitting(area: Area) -> Area:
    """Return an area without what rounding put beyond the picture."""
    left, top = max(0.0, area.left), max(0.0, area.top)
    width, height = min(area.width, 1 - left), min(area.height, 1 - top)
    return Area(round(left, 4), round(top, 4), round(width, 4), round(height, 4))

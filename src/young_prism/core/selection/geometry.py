"""How a person turns, mirrors, straightens and crops an original. The file itself does not change.

The order is fixed: turn by quarters, mirror, straighten, then crop. All places are shares of the picture after the steps before,
so they hold at any size.
"""

from __future__ import annotations

import math
from typing import Annotated, Literal, NamedTuple

from pydantic import BaseModel, ConfigDict, Field, model_validator

from young_prism.core.types import Size

MAX_STRAIGHTEN = 45.0
"""Degrees; more of them are a quarter turn and the rest."""
MIN_SIDE = 0.01
"""The shortest side of a crop, as a share of the picture's."""


class Area(NamedTuple):
    """A rectangle as shares of a picture: left, top, width and height, each from 0 to 1."""

    left: float
    top: float
    width: float
    height: float

    def size(self, whole: Size) -> Size:
        """Return its size in pixels in a picture, at least one pixel on each side."""
        width = min(whole.width, max(1, round(self.width * whole.width)))
        height = min(whole.height, max(1, round(self.height * whole.height)))
        return Size(width, height)

    def origin(self, whole: Size, size: Size) -> tuple[int, int]:
        """Return left and top in pixels of an area of a size around its middle, moved inside where it would stand out."""
        left = round((self.left + self.width / 2) * whole.width - size.width / 2)
        top = round((self.top + self.height / 2) * whole.height - size.height / 2)
        return min(max(0, left), whole.width - size.width), min(max(0, top), whole.height - size.height)


class Geometry(NamedTuple):
    """What is done to an original before anything else.

    Attributes:
        turn: Degrees clockwise: 0, 90, 180 or 270.
        mirror: Whether left and right are exchanged, after the turn.
        straighten: Degrees clockwise, from -45 to 45; the largest rectangle of the same shape without empty corners stays.
        crop: The part that stays as the whole picture; None for all of it.
        facets: The part that a facet is cut from, by its name; each once.
    """

    turn: int = 0
    mirror: bool = False
    straighten: float = 0.0
    crop: Area | None = None
    facets: tuple[tuple[str, Area], ...] = ()

    @property
    def changes_whole(self) -> bool:
        """Whether the whole picture is another one than the original."""
        return bool(self.turn or self.mirror or self.straighten or self.crop)

    @property
    def whole(self) -> Geometry:
        """The same without the areas of facets."""
        return self._replace(facets=())

    def area_of(self, facet: str) -> Area | None:
        """Return the area that a person set for a facet."""
        return dict(self.facets).get(facet)

    def with_facet(self, facet: str, area: Area | None) -> Geometry:
        """Return the geometry with another area for a facet; None takes it away."""
        areas = {**dict(self.facets), facet: area}
        return self._replace(facets=tuple(sorted((name, part) for name, part in areas.items() if part)))

    def size_of(self, original: Size) -> Size:
        """Return the size of the whole picture in pixels.

        Args:
            original: The size of the original, upright.
        """
        straightened = self.straightened_size(original)
        return self.crop.size(straightened) if self.crop else straightened

    def straightened_size(self, original: Size) -> Size:
        """Return the size before the crop, in pixels."""
        turned = Size(original.height, original.width) if self.turn % 180 else original
        return inner_size(turned, self.straighten)


def inner_size(size: Size, degrees: float) -> Size:
    """Return the largest size of the same shape that fits upright into a picture rotated by `degrees`.

    With width w and height h, the rectangle scaled by s touches a side of the rotated picture where
    s * (w * cos + h * sin) = w or s * (w * sin + h * cos) = h (elementary geometry).
    """
    if not degrees:
        return size
    angle = math.radians(abs(degrees))
    cos, sin = math.cos(angle), math.sin(angle)
    scale = min(
        size.width / (size.width * cos + size.height * sin),
        size.height / (size.width * sin + size.height * cos),
    )
    # A pixel less on each side: interpolation at the edge reads beyond the picture.
    return Size(max(1, math.floor(size.width * scale) - 1), max(1, math.floor(size.height * scale) - 1))


NO_GEOMETRY = Geometry()

_Share = Annotated[float, Field(ge=0, le=1)]
_Side = Annotated[float, Field(ge=MIN_SIDE, le=1)]


class AreaModel(BaseModel):
    """An area as people write it."""

    model_config = ConfigDict(extra="forbid")

    left: _Share
    top: _Share
    width: _Side
    height: _Side

    @model_validator(mode="after")
    def _lies_inside(self) -> AreaModel:
        if self.left + self.width > 1 + 1e-6 or self.top + self.height > 1 + 1e-6:
            raise ValueError("the area reaches beyond the picture")
        return self

    def area(self) -> Area:
        """Return it as a value."""
        return Area(self.left, self.top, self.width, self.height)


class GeometryModel(BaseModel):
    """A geometry as people write it, and as it is stored."""

    model_config = ConfigDict(extra="forbid")

    turn: Literal[0, 90, 180, 270] = 0
    mirror: bool = False
    straighten: Annotated[float, Field(ge=-MAX_STRAIGHTEN, le=MAX_STRAIGHTEN)] = 0.0
    crop: AreaModel | None = None
    facets: dict[Annotated[str, Field(max_length=40)], AreaModel] = Field(default_factory=dict)

    def geometry(self) -> Geometry:
        """Return it as a value."""
        return Geometry(
            self.turn,
            self.mirror,
            self.straighten,
            self.crop.area() if self.crop else None,
            tuple(sorted((name, area.area()) for name, area in self.facets.items())),
        )

    @classmethod
    def from_geometry(cls, geometry: Geometry) -> GeometryModel:
        """Return a geometry in the form in which it is written."""
        return cls(
            turn=geometry.turn,
            mirror=geometry.mirror,
            straighten=geometry.straighten,
            crop=AreaModel(**geometry.crop._asdict()) if geometry.crop else None,
            facets={name: AreaModel(**area._asdict()) for name, area in geometry.facets},
        )

    def written(self) -> dict[str, object]:
        """Return it as plain data without what says nothing."""
        return self.model_dump(exclude_defaults=True)

"""The ladder: how large renditions are, as a list of rungs or as a way to come by them."""

from __future__ import annotations

from itertools import pairwise
from typing import Annotated, Literal, Self

from pydantic import Field, field_validator, model_validator

from young_prism.core.recipe.base import ListAsTuple, RecipeModel

MAX_WIDTH = 16383
"""Widest rung: WebP holds 14 bits for each side (RFC 9649, 2.6)."""

Width = Annotated[int, Field(ge=1, le=MAX_WIDTH)]


class LayoutLine(RecipeModel):
    """Share of the viewport that an image takes, up to a viewport width.

    The last line has no `up_to`.
    """

    up_to: Annotated[
        Annotated[int, Field(ge=1, le=100_000)] | None,
        Field(description="Largest viewport width of this line; the last line has none."),
    ] = None
    share: Annotated[float, Field(gt=0, le=1, description="Share of the viewport that the image takes.")] = (
        1.0
    )
    at_most: Annotated[
        Annotated[int, Field(ge=1, le=100_000)] | None,
        Field(description="Largest displayed width in CSS pixels."),
    ] = None


class Layout(RecipeModel):
    """Layout of the pages: lines from the narrowest viewport up, pixel densities, and rungs.

    `rungs` is how many it may be, the best of which are then found, or a list of widths that was chosen by hand.
    `viewports` are pairs of a width in CSS pixels and its share of visits; without them usual ones are taken.
    """

    lines: Annotated[
        tuple[LayoutLine, ...],
        ListAsTuple,
        Field(description="How much of the viewport an image takes, by viewport width."),
    ] = (LayoutLine(),)
    densities: Annotated[
        tuple[Annotated[float, Field(gt=0, le=8)], ...],
        ListAsTuple,
        Field(description="Pixel densities of screens, counted equally."),
    ] = (1, 2, 3)
    rungs: Annotated[
        Annotated[int, Field(ge=1, le=20)] | Annotated[tuple[Width, ...], ListAsTuple, Field(min_length=1)],
        Field(description="Number of rungs with the least waste, or a list of widths."),
    ] = 5
    viewports: Annotated[
        tuple[tuple[Annotated[int, Field(ge=1)], Annotated[float, Field(ge=0)]], ...],
        ListAsTuple,
        Field(description="Viewport widths with their share of visits."),
    ] = ()

    @model_validator(mode="after")
    def _in_order(self) -> Self:
        if not self.lines or not self.densities:
            raise ValueError("at least one line and one density are needed")
        ends = [line.up_to for line in self.lines]
        if ends[-1] is not None:
            raise ValueError("the last line must have no up_to, so that every viewport has a line")
        if None in ends[:-1]:
            raise ValueError("only the last line may have no up_to")
        if any(a >= b for a, b in pairwise(end for end in ends if end)):
            raise ValueError("the lines must go from the narrowest viewport up")
        if self.viewports and not any(share for _, share in self.viewports):
            raise ValueError("the shares of the viewports are all 0")
        return self


class Steps(RecipeModel):
    """Rungs by bytes: from the original down, each step saves a share of the bytes."""

    save: Annotated[float, Field(ge=0.05, le=0.9, description="Share of the bytes that each step saves.")] = (
        0.4
    )
    smallest: Annotated[Width, Field(description="Smallest rung in pixels.")] = 320


class Ladder(RecipeModel):
    """The rungs of each image: a list of `widths`; or by `steps`, from a `layout`, or as `percents` of the original.

    `measure` says what a rung is a number of; by its longest side a portrait weighs no more than a landscape. Nothing is
    larger than `box`. Of two rungs that are nearer than `min_step` times each other the smaller is left out. Of more than
    `max_rungs` those stay that divide the range from the smallest to the largest most evenly.
    """

    widths: Annotated[tuple[Width, ...], ListAsTuple, Field(description="Rungs in pixels.")] = (
        400,
        800,
        1200,
        1600,
        2000,
    )
    steps: Annotated[Steps | None, Field(description="Rungs by steps in bytes, instead of widths.")] = None
    layout: Annotated[
        Layout | None, Field(description="Rungs computed from the layout of pages, instead of widths.")
    ] = None
    percents: Annotated[
        tuple[Annotated[float, Field(gt=0, le=100)], ...],
        ListAsTuple,
        Field(description="Rungs in percent of the original, instead of widths."),
    ] = ()
    measure: Annotated[
        Literal["width", "height", "longest-side"], Field(description="What a rung measures.")
    ] = "width"
    box: Annotated[
        tuple[Width, Width] | None, ListAsTuple, Field(description="Largest width and height in pixels.")
    ] = None
    min_step: Annotated[
        float, Field(ge=1, le=2, description="Factor below which the smaller of two rungs is omitted.")
    ] = 1.05
    max_rungs: Annotated[
        Annotated[int, Field(ge=1, le=100)] | None,
        Field(description="Most rungs; the omitted ones leave the range evenly divided."),
    ] = None
    enlarge: Annotated[
        float, Field(ge=1, le=4, description="Factor by which a rendition may be larger than its original.")
    ] = 1.0

    @field_validator("widths")
    @classmethod
    def _ascending(cls, value: tuple[int, ...]) -> tuple[int, ...]:
        if not value:
            raise ValueError("at least one width is needed")
        return tuple(sorted(set(value)))

    @model_validator(mode="after")
    def _one_way(self) -> Self:
        ways = [name for name in ("steps", "layout", "percents") if getattr(self, name)]
        if len(ways) > 1:
            raise ValueError(f"{' and '.join(ways)} are two ways to say the same; keep one")
        if self.layout and self.measure != "width":
            raise ValueError("a layout asks for widths; leave measure out")
        return self

"""The form of a conversion: what a person types, as options, and options as the form shows them."""

from __future__ import annotations

import re
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from typing import TypeVar

from young_prism.core.conversion.options import CONVERTED_FORMATS, ConvertOptions
from young_prism.core.errors import IncomingError
from young_prism.core.recipe.base import parse_bytes
from young_prism.core.report.formatting import format_bytes, plain_number
from young_prism.core.types import ImageFormat, Size
from young_prism.messages.conversions import (
    CHANGE_VALUE,
    CHOOSE_FROM_LIST,
    GIVE_BOX,
    GIVE_BYTES,
    GIVE_NUMBERS,
    invalid_field,
)

LOOKS_THE_SAME = 85.0
"""The score of a file that is hard to tell from the original side by side."""
SIZES = {
    "own": "Own size",
    "width": "Width in px",
    "longest-side": "Longest side in px",
    "percent": "Percent",
    "box": "Box in px",
}
"""How a size is given, with its label."""

Value = TypeVar("Value")


@dataclass(frozen=True, slots=True, kw_only=True)
class ConversionForm:
    """The fields of the form as text.

    Attributes:
        measure: One of `SIZES`.
        size: The numbers that go with it.
        formats: The formats; empty for each picture's own.
        by: How the quality is found: `target`, `quality`, `bytes` or `lossless`.
        target: The score to reach.
        quality: The qualities.
        bytes: The byte limit of each file.
        poster: Whether the first frame of an animation is made too.
    """

    measure: str = "width"
    size: str = "1920"
    formats: tuple[str, ...] = ("webp",)
    by: str = "target"
    target: str = f"{LOOKS_THE_SAME:g}"
    quality: str = "80"
    bytes: str = "100 kB"
    poster: bool = False

    @classmethod
    def from_fields(cls, fields: Mapping[str, str], formats: Sequence[str]) -> ConversionForm:
        """Return the form as it was sent; fields that are missing have their defaults."""
        usual = cls()
        return cls(
            measure=fields.get("measure", usual.measure),
            size=fields.get("size", "").strip(),
            formats=tuple(formats),
            by=fields.get("by", usual.by),
            target=fields.get("target", "").strip() or usual.target,
            quality=fields.get("quality", "").strip() or usual.quality,
            bytes=fields.get("bytes", "").strip() or usual.bytes,
            poster="poster" in fields,
        )

    @classmethod
    def from_options(cls, options: ConvertOptions) -> ConversionForm:
        """Return the form that says the options."""
        usual = cls()
        measure, numbers = next(
            (
                (measure, values)
                for measure, values in (
                    ("width", options.widths),
                    ("longest-side", options.longest_sides),
                    ("percent", options.percents),
                )
                if values
            ),
            ("own", ()),
        )
        if options.box:
            measure = "box"
        return cls(
            measure=measure,
            size=f"{options.box.width} × {options.box.height}"
            if options.box
            else ", ".join(map(plain_number, numbers)),
            formats=tuple(fmt.value for fmt in options.formats),
            by="lossless"
            if options.lossless
            else "target"
            if options.target is not None
            else "bytes"
            if options.max_bytes
            else "quality",
            target=plain_number(options.target) if options.target is not None else usual.target,
            quality=", ".join(map(str, options.qualities)) or usual.quality,
            bytes=format_bytes(options.max_bytes) if options.max_bytes else usual.bytes,
            poster=options.poster,
        )

    def options(self) -> ConvertOptions:
        """Return the options that the form asks for. Raises `IncomingError` with the field that is wrong."""
        if self.measure not in SIZES:
            raise _wrong("Size", self.measure, CHOOSE_FROM_LIST)
        known = [fmt for fmt in CONVERTED_FORMATS if fmt.value in self.formats]
        box: Size | None = None
        if self.measure == "box":
            box = _box(self.size)
        try:
            return ConvertOptions(
                widths=self._numbers("width", int),
                longest_sides=self._numbers("longest-side", int),
                percents=self._numbers("percent", float),
                box=box,
                formats=tuple(known),
                qualities=_numbers("Quality", self.quality, int) if self.by == "quality" else (),
                target=_numbers("Score", self.target, float)[0] if self.by == "target" else None,
                max_bytes=_bytes(self.bytes) if self.by == "bytes" else None,
                poster=self.poster,
                lossless=self.by == "lossless",
            )
        except ValueError as error:
            raise _wrong("A value", str(error), CHANGE_VALUE) from error

    def _numbers(self, measure: str, kind: Callable[[str], Value]) -> tuple[Value, ...]:
        return _numbers(SIZES[measure], self.size, kind) if self.measure == measure else ()


def offered_formats() -> tuple[ImageFormat, ...]:
    """Return the formats of the form in its order: the usual ones first."""
    return (ImageFormat.WEBP, ImageFormat.AVIF, ImageFormat.JPEG, ImageFormat.PNG, ImageFormat.JXL)


def _numbers(label: str, text: str, kind: Callable[[str], Value]) -> tuple[Value, ...]:
    parts = [part for part in re.split(r"[,;\s]+", text.strip()) if part]
    try:
        numbers = tuple(kind(part.removesuffix("px").removesuffix("%")) for part in parts)
    except ValueError as error:
        raise _wrong(label, text, GIVE_NUMBERS) from error
    if not numbers:
        raise _wrong(label, "nothing", GIVE_NUMBERS)
    return numbers


def _box(text: str) -> Size:
    match = re.fullmatch(r"\s*(\d{1,6})\s*(?:px)?\s*[x×*,;\s]\s*(\d{1,6})\s*(?:px)?\s*", text)
    if not match or not int(match[1]) or not int(match[2]):
        raise _wrong(SIZES["box"], text, GIVE_BOX)
    return Size(int(match[1]), int(match[2]))


def _bytes(text: str) -> int:
    try:
        return parse_bytes(text)
    except ValueError as error:
        raise _wrong("At most", text, GIVE_BYTES) from error


def _wrong(label: str, text: str, remedy: str) -> IncomingError:
    return IncomingError.of(invalid_field(label=label, text=text, remedy=remedy))

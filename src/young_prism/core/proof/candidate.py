"""A candidate: one way to encode a rung, with a short name that an address, a command and a person can carry.

`jxl-70`, `jxl-lossless`, `jxl-from-jpeg`, `avif-58`, `webp-75`, `webp-lossless`, `webp-near60`, `jpeg-80`, `png`, `png-palette`; after that what is other than the
recipe has it: `444` or `420` for chroma, `e5` for the effort, `sharp` or `plain` for sharpening: `jpeg-80-444-sharp`.
"""

from __future__ import annotations

import re
from collections.abc import Mapping
from typing import Any, NamedTuple

from young_prism.core.errors import RecipeError
from young_prism.core.recipe.codecs import (
    Avif,
    Jpeg,
    Jxl,
    LossyOrLossless,
    Png,
    RasterSettings,
    Webp,
    lossy_only,
)
from young_prism.core.types import ImageFormat
from young_prism.messages.recipes import unknown_candidate

_WHITE = "#ffffff"
_USUAL: Mapping[ImageFormat, RasterSettings] = {
    ImageFormat.JXL: Jxl(),
    ImageFormat.AVIF: Avif(),
    ImageFormat.WEBP: Webp(),
    ImageFormat.JPEG: Jpeg(),
    ImageFormat.PNG: Png(),
}
PROOFED = tuple(_USUAL)
"""The formats that have candidates, the smallest first."""

_NUMBER = re.compile(r"\d{1,3}")
PALETTE_SCORE = 10
"""A palette that was asked for is shown however it scores: the lowest target that there is."""


class Candidate(NamedTuple):
    """One way to encode: settings, whether the rung is sharpened before, and its short name."""

    settings: RasterSettings
    sharpen: bool
    name: str

    @property
    def format(self) -> ImageFormat:
        """The format that it makes."""
        return ImageFormat(type(self.settings).__name__.lower())

    @property
    def quality(self) -> int | None:
        """Its quality, None where nothing is lost or quality is not what decides."""
        return None if self.exact or isinstance(self.settings, Png) else self.settings.quality

    @property
    def exact(self) -> bool:
        """Whether it is lossless, or nearly so, by its settings."""
        return isinstance(self.settings, Png) or self.settings.is_lossless

    @property
    def label(self) -> str:
        """Its name in words."""
        parts = _parts(self.name)
        return " ".join([self.format.label, *(_word(part) for part in parts[1:])])


_FROM_JPEG = "from_jpeg"


def _parts(name: str) -> list[str]:
    return name.replace("-from-jpeg", f"-{_FROM_JPEG}").split("-")


_WORDS = {
    _FROM_JPEG: "packed from the JPEG",
    "444": "4:4:4",
    "420": "4:2:0",
    "sharp": "sharpened",
    "plain": "not sharpened",
}


def _word(part: str) -> str:
    if part.startswith("near"):
        return f"near-lossless {part.removeprefix('near')}"
    return f"effort {part[1]}" if re.fullmatch(r"e\d", part) else _WORDS.get(part, part)


def candidate_of(
    name: str, recipe: Mapping[ImageFormat, RasterSettings], *, sharpen: bool = False
) -> Candidate:
    """Return what a short name means, all else as `recipe` has it for that format. Raises `RecipeError` for one that is none."""
    first, *rest = _parts(name)
    if first not in PROOFED or len(rest) != len(set(rest)):
        raise _none_such(name)
    fmt = ImageFormat(first)
    base = recipe.get(fmt, _USUAL[fmt])
    changes: dict[str, Any] = {"palette": None} if fmt is ImageFormat.PNG else dict(_FIXED)
    if isinstance(base, LossyOrLossless):
        changes |= lossy_only(base)
    if isinstance(base, Jxl):
        changes["from_jpeg"] = False
    if isinstance(base, Jpeg) and base.matte is None:
        changes["matte"] = _WHITE
    for index, part in enumerate(rest):
        if part in ("sharp", "plain"):
            sharpen = part == "sharp"
        else:
            changes |= _change(fmt, part, first=index == 0, name=name)
    if fmt is not ImageFormat.PNG and "quality" not in changes and changes.get("lossless") != "always":
        raise _none_such(name)
    settings = type(base).model_validate({**base.model_dump(), **changes})
    return Candidate(settings, sharpen, name)


_FIXED: dict[str, Any] = {
    "target": None,
    "band": None,
    "lowest": None,
    "highest": None,
    "never_larger": False,
}


_MODES: Mapping[tuple[ImageFormat, str], dict[str, Any]] = {
    (ImageFormat.JXL, _FROM_JPEG): {"from_jpeg": True, "lossless": "always"},
    (ImageFormat.JXL, "lossless"): {"lossless": "always"},
    (ImageFormat.WEBP, "lossless"): {"lossless": "always"},
    (ImageFormat.PNG, "palette"): {"palette": PALETTE_SCORE},
}
"""What the first part of a name after the format means where it is no quality."""


def _change(fmt: ImageFormat, part: str, *, first: bool, name: str) -> dict[str, Any]:
    """Return what a part of a name after the format changes."""
    near = part.removeprefix("near")
    if first and fmt is not ImageFormat.PNG and _NUMBER.fullmatch(part) and 1 <= int(part) <= 100:
        return {"quality": int(part)}
    if first and (fmt, part) in _MODES:
        return _MODES[fmt, part]
    if first and fmt is ImageFormat.WEBP and part != near and _NUMBER.fullmatch(near) and int(near) < 100:
        return {"lossless": "always", "near_lossless": int(near)}
    if fmt in (ImageFormat.AVIF, ImageFormat.JPEG) and part in ("420", "444"):
        return {"chroma": f"{part[0]}:{part[1]}:{part[2]}"}
    least, most = _EFFORTS.get(fmt, (0, -1))
    if re.fullmatch(r"e\d", part) and least <= int(part[1]) <= most:
        return {"effort": int(part[1])}
    raise _none_such(name)


_EFFORTS = {ImageFormat.JXL: (1, 9), ImageFormat.AVIF: (0, 9), ImageFormat.WEBP: (0, 6)}


def _none_such(name: str) -> RecipeError:
    return RecipeError.of(unknown_candidate(name))


def name_of(settings: RasterSettings) -> str:
    """Return the short name of what a recipe has for a format, its target aside."""
    fmt = type(settings).__name__.lower()
    if isinstance(settings, Png):
        return "png-palette" if settings.palette is not None else "png"
    if isinstance(settings, Webp) and settings.is_lossless and settings.near_lossless is not None:
        return f"webp-near{settings.near_lossless}"
    if settings.is_lossless:
        return f"{fmt}-lossless"
    return f"{fmt}-{settings.quality}"

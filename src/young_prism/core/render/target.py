"""A rendition at the smallest quality that looks enough like the pixels it was made from."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any, NamedTuple

import numpy as np

from young_prism.core.pixels.vips import pyvips
from young_prism.core.plan.model import PlannedRendition
from young_prism.core.recipe.formats import Avif, Jpeg, Webp
from young_prism.core.score.search import smallest_quality
from young_prism.core.score.ssimulacra2 import Pixels, Reference

_ALL_SCALES = 256
_SMALLEST = 8
"""Pixels: below that there is no score, and the recipe's quality serves."""


class Aimed(NamedTuple):
    """The file, and what is said of it."""

    data: bytes
    reason: str


def aimed(pixels: Any, settings: Avif | Webp | Jpeg, encode: Callable[[Any], bytes]) -> Aimed | None:
    """Search the quality for the target of some settings; None where there is none, or the picture is too small for a score.

    `encode` makes a file by settings with another quality. A WebP that is smaller without loss is that.
    """
    target = settings.target
    if target is None or min(pixels.width, pixels.height) < _SMALLEST:
        return None
    if isinstance(settings, Webp) and settings.lossless == "always":
        return None
    lossy = {"lossless": "never"} if isinstance(settings, Webp) else {}
    reference = Reference(_array(pixels))
    found = smallest_quality(
        lambda quality: encode(settings.model_copy(update={"quality": quality, **lossy})),
        lambda file: reference.score(_array(pyvips.Image.new_from_buffer(file, ""))),
        target,
        settings.quality,
    )
    if lossy and isinstance(settings, Webp) and settings.lossless == "when-smaller":
        lossless = encode(settings.model_copy(update={"lossless": "always"}))
        if len(lossless) <= len(found.file):
            return Aimed(lossless, "lossless, smaller than any quality that reaches the target")
    said = f"quality {found.quality}, score {found.score:.1f}"
    if not found.reached:
        return Aimed(found.file, f"{said}: no quality reaches {target:g}")
    return Aimed(found.file, f"{said} for a target of {target:g}")


def below(floor: float, pixels: Any, file: bytes, planned: PlannedRendition) -> str:
    """Say where a lossy rendition scores under a floor against the pixels that it was made from; empty if it does not."""
    lossy = isinstance(planned.settings, Avif | Webp | Jpeg)
    if not floor or not lossy or min(pixels.width, pixels.height) < _SMALLEST:
        return ""
    if pixels.hasalpha() and not planned.format.has_alpha:
        return ""  # it lies on a matte: these are not its pixels
    score = Reference(_array(pixels)).score(_array(pyvips.Image.new_from_buffer(file, "")))
    return f"its score is {score:.1f}, under {floor:g}" if score < floor else ""


def _array(image: Any) -> Pixels:
    """Return an image of libvips as the score takes it; a small one mirrored at its edges until it has all six scales.

    With fewer the score reads its weights in other places, and no quality reaches a usual target (measured at 200 px).
    """
    if image.interpretation == "b-w" or image.bands < 3:
        image = image.colourspace("srgb")
    array = image.numpy()
    height, width = array.shape[:2]
    if min(height, width) < _ALL_SCALES:
        more = ((0, max(0, _ALL_SCALES - height)), (0, max(0, _ALL_SCALES - width)), (0, 0))
        array = np.pad(array, more, mode="symmetric")
    whole: Pixels = np.ascontiguousarray(array)
    return whole

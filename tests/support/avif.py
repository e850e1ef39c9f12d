"""Small AVIF files by every encoder, to be decoded by other programs."""

from __future__ import annotations

from collections.abc import Iterator
from typing import NamedTuple

import numpy as np

from tests.support import pictures
from young_prism.core.encode import avif
from young_prism.core.recipe.codecs import Avif
from young_prism.core.vips import pyvips

SIDES = ((1, 1), (2, 3), (3, 64), (4, 4), (5, 64), (64, 7), (63, 33), (64, 64))


class SmallAvif(NamedTuple):
    """A file, and the pixels that it was made from: of shape (height, width, 3 or 4)."""

    name: str
    data: bytes
    pixels: np.ndarray


def small_avifs() -> Iterator[SmallAvif]:
    """Yield files of odd and tiny sizes, with and without transparency, by the efforts of both encoders."""
    for width, height in SIDES:
        opaque = np.asarray(pictures.photo(640, 427).resize((width, height)))
        alpha = np.linspace(0, 255, width * height).astype(np.uint8).reshape(height, width, 1)
        for kind, pixels in (("opaque", opaque), ("clear", np.dstack([opaque, alpha]))):
            image = pyvips.Image.new_from_array(np.ascontiguousarray(pixels)).copy(interpretation="srgb")
            for settings in (
                Avif(quality=70, effort=0),
                Avif(quality=70, effort=2),
                Avif(quality=70, effort=3),
            ):
                name = f"{kind}-{width}x{height}-effort-{settings.effort}"
                yield SmallAvif(name, avif.encode(image, settings), pixels)

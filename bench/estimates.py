"""What the estimates of a plan rest on before anything was made: `make bench-estimates`.

Real photographs (those that scikit-image and scikit-learn carry) and graphics made by code are encoded at several sizes,
qualities and efforts. Printed as JSON, for the tables in `core/plan/estimate.py`: bytes a pixel at half a megapixel and the
usual settings, the power of the pixel count that bytes go with, bytes at other qualities over those at the usual one, and
the seconds a megapixel of each effort over those of the usual one.
"""

from __future__ import annotations

import json
import math
import statistics
import time
from collections.abc import Callable
from typing import Any

import numpy as np
from PIL import Image
from tests.support import pictures

from young_prism.core.encode import avif, jpeg, png, webp
from young_prism.core.recipe.codecs import Avif, Jpeg, Png, Webp
from young_prism.core.vips import pyvips

SIZES = (60_000, 250_000, 500_000)
Encode = Callable[[Any, Any], bytes]


def at(image: Image.Image, pixels: int) -> Any:
    """Return a picture reduced to about so many pixels, as libvips has it."""
    share = min(1.0, math.sqrt(pixels / (image.width * image.height)))
    small = image.convert("RGB").resize(
        (round(image.width * share), round(image.height * share)), Image.LANCZOS
    )
    return pyvips.Image.new_from_array(np.asarray(small)).copy(interpretation="srgb").copy_memory()


def bytes_of(images: list[Image.Image], encode: Encode, usual: Any, rest: dict[str, Any]) -> dict[str, Any]:
    """Return bytes a pixel, the power of pixels, and factors of other settings."""
    per_size = [
        [(i.width * i.height, len(encode(i, usual))) for i in (at(image, size) for image in images)]
        for size in SIZES
    ]
    slopes = []
    for small, large in zip(per_size[0], per_size[-1], strict=True):
        if large[0] > small[0]:
            slopes.append(math.log(large[1] / small[1]) / math.log(large[0] / small[0]))
    power = statistics.median(slopes) if slopes else 1.0
    halves = [size / pixels * (pixels / 500_000) ** (1 - power) for pixels, size in per_size[-1]]
    middle = [at(image, SIZES[1]) for image in images]
    base = [len(encode(item, usual)) for item in middle]
    factors = {
        name: round(
            statistics.median(len(encode(item, settings)) / b for item, b in zip(middle, base, strict=True)),
            3,
        )
        for name, settings in rest.items()
    }
    return {
        "bytes a pixel": round(statistics.median(halves), 4),
        "power": round(power, 3),
        "factors": factors,
    }


def seconds_of(images: list[Image.Image], encode: Encode, settings: dict[str, Any]) -> dict[str, float]:
    """Return seconds a megapixel for each setting."""
    some = [at(item, SIZES[1]) for item in images[:4]]
    result = {}
    for name, setting in settings.items():
        began = time.perf_counter()
        for image in some:
            encode(image, setting)
        result[name] = round((time.perf_counter() - began) / sum(i.width * i.height for i in some) * 1e6, 4)
    return result


def main() -> None:
    """Print everything as JSON."""
    opened = [Image.open(file) for file in pictures.real_pictures() if file.suffix in (".jpg", ".png")]
    photos = [image for image in opened if image.mode == "RGB" and image.width * image.height > 150_000]
    graphics = [pictures.graphic(900, 600), pictures.graphic(1200, 700)]
    qualities = (20, 30, 40, 50, 60, 70, 80, 90, 95)
    print(
        json.dumps(
            {
                "photographs": len(photos),
                "avif": bytes_of(
                    photos,
                    avif.encode,
                    Avif(effort=3),
                    {str(q): Avif(quality=q, effort=3) for q in qualities},
                ),
                "webp": bytes_of(
                    photos,
                    webp.encode,
                    Webp(),
                    {str(q): Webp(quality=q) for q in qualities} | {"lossless": Webp(lossless="always")},
                ),
                "jpeg": bytes_of(photos, jpeg.encode, Jpeg(), {str(q): Jpeg(quality=q) for q in qualities}),
                "png": bytes_of(photos, png.encode, Png(), {}),
                "graphic avif": bytes_of(
                    graphics, avif.encode, Avif(quality=70, effort=3, chroma="4:4:4"), {}
                ),
                "graphic webp": bytes_of(graphics, webp.encode, Webp(lossless="always"), {}),
                "graphic png": bytes_of(graphics, png.encode, Png(), {}),
                "seconds avif": seconds_of(photos, avif.encode, {str(e): Avif(effort=e) for e in range(8)}),
                "seconds webp": seconds_of(photos, webp.encode, {str(e): Webp(effort=e) for e in range(7)}),
                "seconds jpeg": seconds_of(photos, jpeg.encode, {"-": Jpeg()}),
                "seconds png": seconds_of(photos, png.encode, {str(e): Png(level=e) for e in range(5)}),
            },
            indent=1,
        )
    )


if __name__ == "__main__":
    main()

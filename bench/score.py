"""How fast is the score, how near the reference package, and what does a target cost? `make bench-score`.

Real photographs (those that scikit-image and scikit-learn carry). Ratios within one run: our score over the package's time
on the same pairs, and a target for every format over the same qualities fixed. Bytes: one fixed quality high enough that no
picture falls below the target, over a quality searched for each, at the same guarantee.
"""

from __future__ import annotations

import io
import json
import statistics
import tempfile
import time
from pathlib import Path

import numpy as np
from PIL import Image
from ssimulacra2.ssimulacra2 import compute_ssimulacra2
from tests import pictures

from young_prism.core.pixels.vips import pyvips
from young_prism.core.recipe.formats import Avif, Jpeg, Webp
from young_prism.core.render.render import encoded
from young_prism.core.render.target import aimed
from young_prism.core.score.ssimulacra2 import Reference, ssimulacra2

TARGET = 72
LONGEST = 640


def photographs() -> list[Image.Image]:
    """Return real photographs, reduced alike."""
    found = []
    for file in pictures.real_pictures():
        if file.suffix in (".jpg", ".png"):
            image = Image.open(file)
            if image.mode == "RGB" and min(image.size) >= 256:
                image.thumbnail((LONGEST, LONGEST), Image.LANCZOS)
                found.append(image)
    return found


def speed(photos: list[Image.Image]) -> dict[str, float]:
    """Time our score and the package's on the same pairs; return the ratio, and how far apart they were."""
    ours = theirs = again = 0.0
    apart = []
    with tempfile.TemporaryDirectory() as folder:
        for image in photos:
            buffer = io.BytesIO()
            image.save(buffer, "JPEG", quality=60)
            pressed = Image.open(buffer).convert("RGB")
            one, other = Path(folder) / "a.png", Path(folder) / "b.png"
            image.save(one)
            pressed.save(other)
            a, b = np.asarray(image), np.asarray(pressed)
            began = time.perf_counter()
            mine = ssimulacra2(a, b)
            ours += time.perf_counter() - began
            reference = Reference(a)
            began = time.perf_counter()
            reference.score(b)
            again += time.perf_counter() - began
            began = time.perf_counter()
            package = float(compute_ssimulacra2(one, other))
            theirs += time.perf_counter() - began
            apart.append(abs(mine - package))
    return {
        "package / ours": round(theirs / ours, 1),
        "package / ours, original's side kept": round(theirs / again, 1),
        "furthest apart, points": round(max(apart), 4),
    }


def cost(photos: list[Image.Image]) -> dict[str, dict[str, float]]:
    """Compare a target with one fixed quality, by format."""
    found = {}
    for settings in (Jpeg(), Webp(), Avif()):
        fixed_s = target_s = 0.0
        bytes_searched = 0
        qualities, encodings = [], []
        for image in photos:
            pixels = pyvips.Image.new_from_array(np.asarray(image)).copy(interpretation="srgb").copy_memory()
            began = time.perf_counter()
            encoded(pixels, settings)
            fixed_s += time.perf_counter() - began
            tried = []

            def encode(
                changed: Avif | Webp | Jpeg, pixels: object = pixels, tried: list[int] = tried
            ) -> bytes:
                tried.append(changed.quality)
                return encoded(pixels, changed)

            began = time.perf_counter()
            done = aimed(pixels, settings.model_copy(update={"target": TARGET}), encode)
            target_s += time.perf_counter() - began
            assert done
            bytes_searched += len(done.data)
            qualities.append(int(done.reason.split()[1].rstrip(",")))
            encodings.append(len(tried))
        guarantee = settings.model_copy(update={"quality": max(qualities)})
        bytes_fixed = sum(
            len(encoded(pyvips.Image.new_from_array(np.asarray(one)).copy(interpretation="srgb"), guarantee))
            for one in photos
        )
        found[type(settings).__name__] = {
            "time, target / fixed": round(target_s / fixed_s, 2),
            "encodings": round(statistics.mean(encodings), 2),
            "bytes, target / fixed with the same guarantee": round(bytes_searched / bytes_fixed, 3),
            "lowest quality": min(qualities),
            "highest quality": max(qualities),
        }
    return found


def main() -> None:
    """Print everything as JSON."""
    photos = photographs()
    print(
        json.dumps({"photographs": len(photos), **speed(photos), f"target {TARGET}": cost(photos)}, indent=1)
    )


if __name__ == "__main__":
    main()

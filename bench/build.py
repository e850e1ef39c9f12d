"""How fast is a build? Against its bound, and against a script, as ratios of one run: `make bench`.

The job: photographs that scikit-image and scikit-learn carry, enlarged by code to camera size, to the default
recipe's widths in AVIF, WebP and JPEG.

- *build*: the whole build: scan, look, plan, workers, verification, manifest; the start of the interpreter is said beside it.
- *bound*: the time inside the encoders in that very build, summed over its workers and divided by the cores. Taken in the
  same minutes on the same cores: on a machine that others use too, a bound from minutes before is off by a fifth.
- *script*: a straightforward Pillow script, one process: open, turn upright, resize, save. Its AVIF encoder is held to
  one thread, as ours is; with Pillow's own choice of threads it is timed as well.
"""

from __future__ import annotations

import argparse
import itertools
import json
import shutil
import subprocess
import sys
import time
from collections.abc import Callable
from pathlib import Path
from typing import Any

import numpy as np
from PIL import Image, ImageOps
from tests.support.builds import build
from tests.support.pictures import real_pictures

from young_prism.core.recipe.model import Recipe
from young_prism.core.types import Outcome
from young_prism.engine.build import executor as running_module
from young_prism.engine.build.options import BuildOptions
from young_prism.engine.workers.pool import default_jobs
from young_prism.engine.workers.tasks import render_file

WORK = Path(__file__).parent / "work"
PHOTOS = ("astronaut", "chelsea", "coffee", "rocket", "motorcycle_left", "china", "flower", "retina")


def prepare(copies: int, long_side: int) -> Path:
    """Enlarge the photographs once; a little noise stands for what a sensor adds, another one in each copy."""
    folder = WORK / f"photos-{long_side}-{copies}"
    folder.mkdir(parents=True, exist_ok=True)
    for file, copy in itertools.product(real_pictures(), range(copies)):
        rng = np.random.default_rng(1 + copy)
        target = folder / (f"{file.stem}-{copy}.jpg" if copy else f"{file.stem}.jpg")
        if file.stem not in PHOTOS or target.exists():
            continue
        photo = Image.open(file).convert("RGB")
        scale = long_side / max(photo.size)
        size = (round(photo.width * scale), round(photo.height * scale))
        pixels = np.asarray(photo.resize(size, Image.Resampling.LANCZOS), np.float32)
        noisy = pixels + rng.normal(0, 3, pixels.shape[:2]).astype(np.float32)[..., None]
        Image.fromarray(np.clip(noisy, 0, 255).astype(np.uint8)).save(target, quality=92)
    return folder


NAMES = ("encoders", "read back", "decode", "resize", "all of the worker")


def watched_render(*arguments: Any) -> Any:
    """Do what a worker does, and write down how long each part of it took."""
    from young_prism.core.render import render as module

    spent = dict.fromkeys(NAMES, 0.0)

    def timed(function: Callable[..., Any], name: str) -> Callable[..., Any]:
        def inner(*arguments: Any, **named: Any) -> Any:
            began = time.perf_counter()
            try:
                return function(*arguments, **named)
            finally:
                spent[name] += time.perf_counter() - began

        return inner

    before = module.encode, module.find_fault, module.largest_of, module.make_rung
    module.encode = timed(module.encode, "encoders")
    module.find_fault = timed(module.find_fault, "read back")
    module.largest_of = timed(module.largest_of, "decode")
    module.make_rung = timed(module.make_rung, "resize")
    try:
        return timed(render_file, "all of the worker")(*arguments)
    finally:
        module.encode, module.find_fault, module.largest_of, module.make_rung = before
        with (WORK / "parts.log").open("a") as log:
            log.write(json.dumps(spent) + "\n")


def time_build(photos: Path) -> dict[str, float]:
    """Build, and return the seconds of it all, and of each part of the work, divided by the cores."""
    out = WORK / "out"
    shutil.rmtree(out, ignore_errors=True)
    (WORK / "parts.log").unlink(missing_ok=True)
    began = time.perf_counter()
    result = build(photos, out, Recipe(), options=BuildOptions())
    seconds = time.perf_counter() - began
    assert result.outcomes[Outcome.MADE] > 0
    assert not result.failures
    rows = [json.loads(line) for line in (WORK / "parts.log").read_text().splitlines()]
    return {"build": seconds} | {name: sum(row[name] for row in rows) / default_jobs() for name in NAMES}


def time_script(photos: Path, *, avif_threads: int | None) -> float:
    """Time what a script of twenty lines does, in this one process."""
    out = WORK / "script"
    shutil.rmtree(out, ignore_errors=True)
    out.mkdir(parents=True)
    threads = {} if avif_threads is None else {"max_threads": avif_threads}
    photo = Recipe().formats.photo
    assert photo.avif
    assert photo.webp
    assert photo.jpeg
    began = time.perf_counter()
    for file in sorted(photos.iterdir()):
        original = ImageOps.exif_transpose(Image.open(file)).convert("RGB")
        for width in Recipe().ladder.widths:
            small = original.resize(
                (width, round(original.height * width / original.width)), Image.Resampling.LANCZOS
            )
            small.save(out / f"{file.stem}-{width}w.avif", quality=photo.avif.quality, speed=6, **threads)
            small.save(
                out / f"{file.stem}-{width}w.webp",
                quality=photo.webp.quality,
                method=photo.webp.chosen_effort,
            )
            small.save(
                out / f"{file.stem}-{width}w.jpg", quality=photo.jpeg.quality, optimize=True, progressive=True
            )
    return time.perf_counter() - began


def main() -> None:
    """Print the ratios."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--rounds", type=int, default=1)
    parser.add_argument("--copies", type=int, default=3, help="so many times the eight photographs")
    parser.add_argument("--long-side", type=int, default=4000, help="pixels of the originals: a phone's")
    parser.add_argument("--no-script", action="store_true", help="only the build and its bound")
    arguments = parser.parse_args()
    photos = prepare(arguments.copies, arguments.long_side)
    running_module.render_file = watched_render
    for _ in range(arguments.rounds):
        spent = time_build(photos)
        began = time.perf_counter()
        subprocess.run([sys.executable, "-c", "import young_prism.cli.build"], check=True)
        start = time.perf_counter() - began
        print(
            f"{len(list(photos.iterdir()))} photographs of {arguments.long_side} px, {default_jobs()} cores"
        )
        print(
            ", ".join(f"{name} {seconds:.1f} s" for name, seconds in spent.items()), f"(start {start:.1f} s)"
        )
        print(f"build / bound: {spent['build'] / spent['encoders']:.3f}")
        if arguments.no_script:
            continue
        script = time_script(photos, avif_threads=1)
        threads = time_script(photos, avif_threads=None)
        print(
            f"script / build: {script / spent['build']:.2f}, with AVIF threads {threads / spent['build']:.2f}"
        )


if __name__ == "__main__":
    main()

"""How fast is a build? Three ways of the same job in one run, as ratios: `make bench`.

The job: photographs that scikit-image and scikit-learn carry, enlarged by code to camera size, to the default
recipe's widths in AVIF, WebP and JPEG.

- *build*: `young-prism build` as a person runs it, everything included: start, scan, look, workers, manifest.
- *bound*: the encoders alone, on pixels that are ready in memory, as many processes as cores (so that the cores
  share caches and clock as they do in a build); the sum of their times, divided by the cores.
- *script*: a straightforward Pillow script, one process: open, turn upright, resize, save. Its AVIF encoder is held to
  one thread, as ours is; with Pillow's own choice of threads it is timed as well.
"""

from __future__ import annotations

import argparse
import json
import multiprocessing
import shutil
import subprocess
import sys
import time
from concurrent.futures import ProcessPoolExecutor
from pathlib import Path

import numpy as np
from PIL import Image, ImageOps
from tests.pictures import real_pictures

from young_prism.core.originals.look import look
from young_prism.core.pixels.shape import largest_rung, smaller_rung
from young_prism.core.plan.make import make_plan
from young_prism.core.recipe.model import Recipe
from young_prism.core.render.render import encode
from young_prism.engine.pool import default_jobs

WORK = Path(__file__).parent / "work"
PHOTOS = ("astronaut", "chelsea", "coffee", "rocket", "motorcycle_left", "china", "flower", "retina")
LONG_SIDE = 6000


def prepare() -> Path:
    """Enlarge the photographs once; a little noise stands for what a sensor adds."""
    folder = WORK / "photos"
    folder.mkdir(parents=True, exist_ok=True)
    rng = np.random.default_rng(1)
    for file in real_pictures():
        target = folder / f"{file.stem}.jpg"
        if file.stem not in PHOTOS or target.exists():
            continue
        photo = Image.open(file).convert("RGB")
        scale = LONG_SIDE / max(photo.size)
        size = (round(photo.width * scale), round(photo.height * scale))
        pixels = np.asarray(photo.resize(size, Image.Resampling.LANCZOS), np.float32)
        noisy = pixels + rng.normal(0, 3, pixels.shape[:2]).astype(np.float32)[..., None]
        Image.fromarray(np.clip(noisy, 0, 255).astype(np.uint8)).save(target, quality=92)
    return folder


def time_build(photos: Path) -> float:
    """Time the command, from the shell's point of view."""
    out = WORK / "out"
    shutil.rmtree(out, ignore_errors=True)
    command = [
        str(Path(sys.executable).parent / "young-prism"),
        "build",
        "--source",
        str(photos),
        "--out",
        str(out),
        "--json",
        "--data",
        str(WORK / "history"),
    ]
    began = time.perf_counter()
    done = subprocess.run(command, capture_output=True, text=True, check=True)
    seconds = time.perf_counter() - began
    assert json.loads(done.stdout)["outcomes"]["made"] > 0
    return seconds


def bare_encoders(file: Path) -> float:
    """Return the time that the encoders alone need for one photograph."""
    data = file.read_bytes()
    facts = look(data)
    [original] = make_plan({file.name: facts}, Recipe()).originals
    sizes = sorted({planned.size for planned in original.renditions}, reverse=True)
    largest = largest_rung(data, facts, sizes[0])
    ready = {size: smaller_rung(largest, size) for size in sizes}
    began = time.perf_counter()
    for planned in original.renditions:
        encode(ready[planned.size], planned, grey=facts.grey)
    return time.perf_counter() - began


def time_bound(photos: Path) -> float:
    """Return the sum of bare encoder times divided by the cores."""
    files = sorted(photos.iterdir())
    with ProcessPoolExecutor(default_jobs(), mp_context=multiprocessing.get_context("spawn")) as pool:
        return sum(pool.map(bare_encoders, files)) / default_jobs()


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
                out / f"{file.stem}-{width}w.webp", quality=photo.webp.quality, method=photo.webp.effort
            )
            small.save(
                out / f"{file.stem}-{width}w.jpg", quality=photo.jpeg.quality, optimize=True, progressive=True
            )
    return time.perf_counter() - began


def main() -> None:
    """Print the ratios, and as JSON with --json."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--json", action="store_true")
    parser.add_argument("--rounds", type=int, default=2, help="the quickest of so many counts")
    parser.add_argument("--no-script", action="store_true", help="only the build and its bound")
    arguments = parser.parse_args()
    photos = prepare()
    best = {"build": 1e9, "bound": 1e9, "script": 1e9, "script, threads": 1e9}
    for _ in range(arguments.rounds):
        best["bound"] = min(best["bound"], time_bound(photos))
        best["build"] = min(best["build"], time_build(photos))
        if arguments.no_script:
            continue
        best["script"] = min(best["script"], time_script(photos, avif_threads=1))
        best["script, threads"] = min(best["script, threads"], time_script(photos, avif_threads=None))
    result = {
        "cores": default_jobs(),
        "photographs": len(list(photos.iterdir())),
        "seconds": {name: round(seconds, 2) for name, seconds in best.items()},
        "build / bound": round(best["build"] / best["bound"], 3),
    }
    if not arguments.no_script:
        result["script / build"] = round(best["script"] / best["build"], 2)
        result["script with AVIF threads / build"] = round(best["script, threads"] / best["build"], 2)
    print(
        json.dumps(result, indent=1) if arguments.json else "\n".join(f"{k}: {v}" for k, v in result.items())
    )


if __name__ == "__main__":
    main()

"""How much memory does a worker take for a very large original? `make bench-memory`.

For each type a picture of so many megapixels is drawn, and its renditions made by the default recipe in a process of its
own; printed are the most that this process held, and what `core.plan.memory` expects. `--budget` checks the promise that
all workers together stay under a limit: several progressive originals with two workers and a limit for little more than one.
"""

from __future__ import annotations

import argparse
import os
import shutil
import subprocess
import sys
import threading
from pathlib import Path

import numpy as np
from PIL import Image
from tests.support import faults
from tests.support.builds import build

from young_prism.core.inspection.inspect import inspect_bytes
from young_prism.core.plan.make import make_plan
from young_prism.core.plan.memory import expected_memory, looking_memory
from young_prism.core.recipe.model import Recipe
from young_prism.engine.build.options import BuildOptions

WORK = Path(__file__).parent / "work" / "memory"

KINDS: dict[str, tuple[str, dict[str, object], int]] = {
    "JPEG, baseline": ("jpg", {"quality": 88}, 100),
    "JPEG, progressive": ("jpg", {"quality": 88, "progressive": True}, 100),
    "PNG": ("png", {"compress_level": 1}, 100),
    "WebP": ("webp", {"quality": 80, "method": 0}, 100),
    "AVIF": ("avif", {"quality": 60, "speed": 10}, 25),
    "TIFF": ("tif", {}, 50),
}

_CHILD = r"""
import re, sys
from young_prism.core.inspection.inspect import look
from young_prism.core.plan.make import make_plan
from young_prism.core.recipe.model import Recipe
from young_prism.core.render.render import render
path, what = sys.argv[1:]
data = open(path, "rb").read()
facts = look(data)
if what == "render":
    [original] = make_plan({path: facts}, Recipe()).originals
    # The look was in this process only to have a plan: what it held is forgotten.
    open("/proc/self/clear_refs", "w").write("5")
    render(data, original)
print(int(re.search(r"VmHWM:\s+(\d+)", open("/proc/self/status").read())[1]) * 1024)
"""


def drawn(name: str, number: int = 0) -> Path:
    """Draw a picture of one kind once: soft shapes with some noise, as a photograph has."""
    ending, options, megapixels = KINDS[name]
    target = WORK / f"{name.replace(', ', '-')}-{megapixels}-{number}.{ending}"
    if not target.exists():
        WORK.mkdir(parents=True, exist_ok=True)
        width = round((megapixels * 1e6 * 4 / 3) ** 0.5)
        rng = np.random.default_rng(number)
        small = Image.fromarray(rng.integers(0, 255, (90, 120, 3), dtype=np.uint8))
        big = small.resize((width, width * 3 // 4), Image.Resampling.BICUBIC)
        grain = Image.effect_noise((512, 512), 30).resize(big.size).convert("RGB")
        Image.blend(big, grain, 0.15).save(target, **options)
    return target


def measured(path: Path, text: str) -> int:
    """Return the most bytes that a process of its own held while it looked at an original, or made its renditions."""
    done = subprocess.run(
        [sys.executable, "-c", _CHILD, str(path), text], check=True, capture_output=True, text=True
    )
    return int(done.stdout)


def within(limit: int) -> int:
    """Build several large originals under a limit; return the most that all workers held together, in bytes."""
    source = WORK / "together"
    source.mkdir(exist_ok=True)
    for number in range(3):
        location = source / f"{number}.jpg"
        if not location.exists():
            location.hardlink_to(drawn("JPEG, progressive", number))
    shutil.rmtree(WORK / "out", ignore_errors=True)
    most = 0
    over = threading.Event()

    def watch() -> None:
        nonlocal most
        while not over.wait(0.05):
            most = max(most, sum(faults.memory_of(item) for item in faults.workers_of(os.getpid())))

    watcher = threading.Thread(target=watch)
    watcher.start()
    try:
        result = build(source, WORK / "out", Recipe(), options=BuildOptions(jobs=2, memory=limit))
    finally:
        over.set()
        watcher.join()
    assert not result.failures, result.failures
    return most


def main() -> None:
    """Print a line for each kind."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--budget", type=int, default=1300, help="limit for all workers together, in MB")
    arguments = parser.parse_args()
    for name in KINDS:
        path = drawn(name)
        data = path.read_bytes()
        [original] = make_plan({path.name: inspect_bytes(data)}, Recipe()).originals
        seen, held = measured(path, "look"), measured(path, "render")
        looking, making = looking_memory(original.facts), expected_memory(original)
        size = original.facts.size
        print(
            f"{name:18} {size.pixels / 1e6:4.0f} MP, {len(data) / 1e6:5.1f} MB:"
            f" look {seen / 1e6:4.0f} MB (expected {looking / 1e6:4.0f}),"
            f" renditions {held / 1e6:4.0f} MB (expected {making / 1e6:4.0f})"
        )
    most = within(arguments.budget * 1_000_000)
    print(f"three progressive ones, two workers, limit {arguments.budget} MB: {most / 1e6:.0f} MB at most")


if __name__ == "__main__":
    main()

"""What does a build cost that has nothing to do, and one that has one original to do? `make bench-nothing`.

Ten thousand small originals, twelve renditions each, made once (the encoders at their quickest: only the number of files
counts). Then, in one run:

- *walk*: walking both folders and asking the system for each file's size and time;
- *nothing*: `young-prism build`, start of the interpreter and everything included, and the same inside a process that runs already;
- *start*: `young-prism --version` and the imports of a build, which no build can do without;
- *one*: the same with one original changed;
- *alone*: a build of a folder that holds that original alone, which is what one costs;
- *the long way*: the snapshot is gone, so that everything is read, planned and compared.
"""

from __future__ import annotations

import argparse
import os
import shutil
import subprocess
import sys
import time
from pathlib import Path

import numpy as np
from PIL import Image
from tests.support.builds import build

from young_prism.core.recipe.toml import read_recipe
from young_prism.core.types import Outcome
from young_prism.engine.build.options import BuildOptions
from young_prism.engine.workers.environment import tune_gc

WORK = Path(__file__).parent / "work" / "nothing"
RECIPE = """
[ladder]
widths = [16, 24, 32, 40]
min_step = 1.0
[formats.photo]
avif = { effort = 0 }
webp = { effort = 0 }
jpeg = {}
[formats.graphic]
avif = { effort = 0 }
webp = { effort = 0 }
png = { level = 0 }
[finishing]
verify = false
"""
PROGRAM = str(Path(sys.executable).parent / "young-prism")


def prepare(number: int) -> tuple[Path, Path]:
    """Draw the originals, and build them once."""
    source, out = WORK / f"site-{number}", WORK / f"out-{number}"
    rng = np.random.default_rng(1)
    for item in range(number):
        target = source / f"{item // 200:03}" / f"{item:05}.jpg"
        if not target.exists():
            target.parent.mkdir(parents=True, exist_ok=True)
            tile = rng.integers(0, 255, (6, 8, 3), dtype=np.uint8)
            Image.fromarray(tile).resize((48, 36), Image.Resampling.BICUBIC).save(target, quality=90)
    (WORK / "recipe.toml").write_text(RECIPE)
    if not (out / "manifest.json").exists():
        build(source, out, read_recipe(RECIPE), options=BuildOptions())
    return source, out


def walked(*folders: Path) -> tuple[float, int]:
    """Return the seconds of a bare walk with a stat of each file, and how many there were."""
    began, number = time.perf_counter(), 0
    for folder in folders:
        for location, _, names in os.walk(folder):
            for name in names:
                os.stat(f"{location}/{name}")  # noqa: PTH116  (as bare as it gets)
                number += 1
    return time.perf_counter() - began, number


def timed(*line: str) -> float:
    """Return the seconds of a command."""
    began = time.perf_counter()
    subprocess.run(line, check=True, capture_output=True)
    return time.perf_counter() - began


def main() -> None:
    """Print the ratios."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--originals", type=int, default=10_000)
    parser.add_argument("--rounds", type=int, default=3)
    arguments = parser.parse_args()
    source, out = prepare(arguments.originals)
    line = [PROGRAM, "build", "--source", str(source), "--out", str(out)]
    line += ["--recipe", str(WORK / "recipe.toml"), "--data", str(WORK / "history")]
    timed(*line)
    tune_gc()  # as the command and the server do
    recipe = read_recipe(RECIPE)
    walk = start = nothing = inside = unrecorded = 1e9
    files = 0
    for _ in range(arguments.rounds):
        seconds, files = walked(source, out)
        walk = min(walk, seconds)
        start = min(
            start,
            timed(sys.executable, "-c", "import young_prism.cli.build, young_prism.services.runs.command"),
        )
        nothing = min(nothing, timed(*line))
        unrecorded = min(unrecorded, timed(*line, "--no-record"))
        began = time.perf_counter()
        result = build(source, out, recipe)
        inside = min(inside, time.perf_counter() - began)
        assert result.outcomes[Outcome.MADE] == 0
    item, changed, unrecorded_one = source / "000" / "00000.jpg", 1e9, 1e9
    before = item.read_bytes()
    for number in range(arguments.rounds):
        shutil.copyfile(source / "001" / f"{201 + number:05}.jpg", item)
        changed = min(changed, timed(*line))
        item.write_bytes(before)
        unrecorded_one = min(unrecorded_one, timed(*line, "--no-record"))
    (out / ".young-prism" / "standing").unlink()
    long_way = timed(*line)
    small = source.parent / "small"
    small.mkdir(exist_ok=True)
    shutil.copyfile(item, small / "one.jpg")
    shutil.rmtree(source.parent / "small-out", ignore_errors=True)
    alone = timed(*line[:2], "--source", str(small), "--out", f"{small}-out", *line[6:])
    print(f"{arguments.originals} originals, {files} files in all")
    print(f"walk and stat: {walk:.2f} s; start of the command: {start:.2f} s")
    print(f"nothing to do, inside a process: {inside:.2f} s, {inside / walk:.2f} times the walk")
    print(f"the command: {nothing:.2f} s, without its start {(nothing - start) / walk:.2f} times the walk")
    print(f"the same with --no-record: {unrecorded:.2f} s, {(unrecorded - start) / walk:.2f} times")
    print(
        f"one original changed: {changed:.2f} s, {changed - nothing:+.2f} s; {unrecorded_one:.2f} s with --no-record"
    )
    print(f"a folder with that one alone: {alone:.2f} s, {alone - start:.2f} s without the start")
    print(f"the long way, all records read and all planned: {long_way:.2f} s, {long_way - nothing:+.2f} s")


if __name__ == "__main__":
    main()

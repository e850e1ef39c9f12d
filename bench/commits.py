"""Is a commit slower than another? `python -m bench.commits 39b22ed HEAD`.

Both commits work in turn on the same small originals, with the installed dependencies: on a shared machine only alternating
rounds compare. Prints the medians and their ratio: start-up, the first build, a build with nothing to do, one changed
original, and one new original that is asked for by `--only`, as an upload is.
"""

from __future__ import annotations

import argparse
import statistics
import tempfile
import time
from collections.abc import Callable
from pathlib import Path

import numpy as np
from PIL import Image
from tools.compare_builds import check_out, python, young_prism

RECIPE = """
[ladder]
widths = [30]
[formats.photo]
jpeg = {}
[formats.graphic]
png = { level = 0 }
"""


def draw(target: Path, seed: int) -> None:
    """Write a small photograph-like original; no two seeds give the same bytes."""
    target.parent.mkdir(exist_ok=True)
    tile = np.random.default_rng(seed).integers(0, 255, (6, 9, 3), dtype=np.uint8)
    Image.fromarray(tile).resize((90, 60), Image.Resampling.BICUBIC).save(target, quality=80)


class Comparison:
    """Seconds of each measurement, by commit."""

    def __init__(self, trees: dict[str, Path], work: Path) -> None:
        self.trees, self.work = trees, work
        self.seconds: dict[str, dict[str, list[float]]] = {}

    def build(self, commit: str, *extra: str) -> None:
        """Build the source by one commit, each into a folder of its own."""
        folders = ("--source", str(self.work / "site"), "--out", str(self.work / f"out-{commit}"))
        recipe = ("--recipe", str(self.work / "recipe.toml"))
        young_prism(self.trees[commit], "build", *folders, *recipe, "--no-record", *extra)

    def measure(self, name: str, work: Callable[[str], object]) -> None:
        """Time `work` with each commit, in turn."""
        for commit in self.trees:
            began = time.perf_counter()
            work(commit)
            seconds = self.seconds.setdefault(name, {}).setdefault(commit, [])
            seconds.append(time.perf_counter() - began)

    def report(self) -> None:
        """Print medians and ratios."""
        for name, by_commit in self.seconds.items():
            before, after = (statistics.median(seconds) for seconds in by_commit.values())
            print(f"{name:32} {before:6.2f} s {after:6.2f} s   ratio {after / before:.2f}", flush=True)


def main() -> None:
    """Compare two commits."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("before")
    parser.add_argument("after", nargs="?", default="HEAD")
    parser.add_argument("--originals", type=int, default=2_000)
    parser.add_argument("--rounds", type=int, default=9)
    arguments = parser.parse_args()
    with tempfile.TemporaryDirectory() as folder:
        work = Path(folder)
        trees = {commit: work / f"tree-{commit}" for commit in (arguments.before, arguments.after)}
        for commit, tree in trees.items():
            check_out(commit, tree)
        site = work / "site"
        site.mkdir()
        (work / "recipe.toml").write_text(RECIPE)
        for number in range(arguments.originals):
            draw(site / f"{number % 40:02}" / f"{number:05}.jpg", number)
        comparison = Comparison(trees, work)
        comparison.measure("first build", comparison.build)
        for turn in range(arguments.rounds):
            comparison.measure("build --help", lambda commit: young_prism(trees[commit], "build", "--help"))
            comparison.measure(
                "import of the build",
                lambda commit: python(trees[commit], "-c", "import young_prism.cli.build"),
            )
            comparison.measure("nothing to do", comparison.build)
            draw(site / f"{turn % 40:02}" / f"{turn:05}.jpg", arguments.originals + turn)
            comparison.measure("one changed original", comparison.build)
            draw(site / "00" / f"new-{turn}.jpg", 2 * arguments.originals + turn)
            comparison.measure(
                "one new original, --only",
                lambda commit, turn=turn: comparison.build(commit, "--only", f"00/new-{turn}.jpg"),  # type: ignore[misc]
            )
        comparison.report()


if __name__ == "__main__":
    main()

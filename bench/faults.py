"""Is anything lost when processes are killed? `make bench-faults`: at least thirty kills at random moments, hashes compared.

Over and over, one build after the other into fresh folders: the command, one of its workers, or a server is killed with a
signal that nothing can catch, at a random moment of its run, until the build is through; then its files are compared with
those of a build that nothing disturbed. Meanwhile a reader looks at every file that it sees, and must be able to decode it.
"""

from __future__ import annotations

import argparse
import random
import shutil
import subprocess
import sys
import time
from collections import Counter
from pathlib import Path

from tests.support import faults, pictures
from tests.support.builds import build

from young_prism.core.recipe.toml import read_recipe
from young_prism.engine.build.options import BuildOptions
from young_prism.store.store import Store

WORK = Path(__file__).parent / "work" / "faults"
PROGRAM = str(Path(sys.executable).parent / "young-prism")


def command_killed(source: Path, out: Path, chance: random.Random, kills: Counter[str]) -> None:
    """Kill a command now and then until it is through."""
    line = faults.command(source, out, "--no-record")
    for _ in range(3):
        kills["command"] += faults.kill_after(line, chance.uniform(0.5, 4.0))
    subprocess.run(line, check=True, capture_output=True)


def workers_killed(source: Path, out: Path, chance: random.Random, kills: Counter[str]) -> None:
    """Kill workers of one command while it goes on."""
    with subprocess.Popen(
        faults.command(source, out, "--no-record"), stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL
    ) as process:
        for _ in range(4):
            time.sleep(chance.uniform(0.2, 1.2))
            workers = faults.workers_of(process.pid)
            if workers and process.poll() is None:
                faults.kill(chance.choice(workers).pid)
                kills["worker"] += 1
        assert process.wait(300) == 0


def server_killed(source: Path, out: Path, chance: random.Random, kills: Counter[str]) -> None:
    """Kill a server in its run, and start it again, until the run is done."""
    data = out.parent / "data"
    shutil.rmtree(data, ignore_errors=True)
    store = Store(data / "young-prism.sqlite3")
    row = store.sources.add("Site", source, out, data)
    number = store.runs.add(
        row.id, origin="page", owner="server", recipe=faults.RECIPE, version="", out_folder=str(out)
    )
    for again in range(4):
        line = [PROGRAM, "serve", "--data", str(data), "--port", str(faults.free_port()), "--jobs", "2"]
        with subprocess.Popen(line, stderr=subprocess.DEVNULL) as server:
            until = time.monotonic() + (chance.uniform(1.5, 5.0) if again < 3 else 300)
            while time.monotonic() < until and store.runs.get(number).state != "done":
                time.sleep(0.05)
            kills["server"] += store.runs.get(number).state != "done"
            server.kill()
    run = store.runs.get(number)
    assert run
    assert run.state == "done", run.state
    store.close()


def main() -> None:
    """Kill, compare, count."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument(
        "--rounds", type=int, default=4, help="of three builds each, with eight or more kills a round"
    )
    parser.add_argument("--seed", type=int, default=1)
    arguments = parser.parse_args()
    chance = random.Random(arguments.seed)  # noqa: S311
    shutil.rmtree(WORK, ignore_errors=True)
    source = faults.photos(WORK / "site", 12)
    originals = pictures.hashes(source)
    build(source, WORK / "undisturbed", read_recipe(faults.RECIPE), options=BuildOptions(jobs=2))
    expected = faults.results(WORK / "undisturbed")
    kills: Counter[str] = Counter()
    for number in range(arguments.rounds):
        for way in (command_killed, workers_killed, server_killed):
            out = WORK / f"{way.__name__}-{number}" / "out"
            with faults.watched(out) as seen:
                way(source, out, chance, kills)
            assert not seen, seen
            assert faults.results(out) == expected, way.__name__
            assert pictures.hashes(source) == originals
            print(f"round {number + 1}, {way.__name__}: {dict(kills)}", flush=True)
    print(f"{sum(kills.values())} processes killed; every build ended with the same {len(expected)} files")


if __name__ == "__main__":
    main()

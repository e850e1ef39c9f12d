"""What does it cost to keep a run on record, and to say what each worker is at? `make bench-record`.

One build of small photographs, the worst case, since each is done in a fraction of a second; its events go to the recorder
that the pages and the command use, on a database of its own. Printed is the time inside the recorder, database and all, as a
share of the run.
"""

from __future__ import annotations

import argparse
import shutil
import time
from pathlib import Path

from tests.support import faults
from tests.support.builds import build

from young_prism.core.recipe.toml import read_recipe
from young_prism.engine.build.options import BuildOptions
from young_prism.engine.events import Event
from young_prism.services.runs.command import RecordedCommandRun

WORK = Path(__file__).parent / "work" / "record"


def main() -> None:
    """Print the share."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--originals", type=int, default=60)
    arguments = parser.parse_args()
    shutil.rmtree(WORK, ignore_errors=True)
    source = faults.photos(WORK / "site", arguments.originals)
    recipe = read_recipe(faults.RECIPE)
    record = RecordedCommandRun(WORK, source, WORK / "out", recipe, verify=True)
    assert record.recorder, record.problem
    recorder, spent, events = record.recorder, 0.0, 0

    def listen(event: Event) -> None:
        nonlocal spent, events
        began = time.perf_counter()
        recorder(event)
        spent += time.perf_counter() - began
        events += 1

    began = time.perf_counter()
    result = build(source, WORK / "out", recipe, options=BuildOptions(), on_event=listen)
    recorder.finish(result)
    seconds = time.perf_counter() - began
    record.close()
    print(
        f"{arguments.originals} originals, {result.renditions} renditions, {events} events, {seconds:.1f} s"
    )
    print(f"in the recorder: {spent:.3f} s, {spent / seconds * 100:.2f} % of the run")


if __name__ == "__main__":
    main()

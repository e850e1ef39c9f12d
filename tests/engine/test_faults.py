"""Nothing is lost, and nothing half made is ever seen, whatever is killed and whenever."""

from __future__ import annotations

import errno
import os
import random
import shutil
import subprocess
import threading
import time
from pathlib import Path

import pytest

from tests.support import faults, pictures
from tests.support.builds import build
from tests.support.limits import limit
from young_prism.core.errors import OutputError
from young_prism.core.recipe.toml import read_recipe
from young_prism.core.types import Outcome
from young_prism.engine.build import delivery as delivery_module
from young_prism.engine.build import executor as running_module
from young_prism.engine.build.options import BuildOptions
from young_prism.engine.events import Event, Halted, OriginalDone
from young_prism.engine.output.atomic import write_temp_files
from young_prism.engine.workers.pool import worker_pool
from young_prism.engine.workers.protocol import Job

RECIPE = read_recipe(faults.RECIPE)


@pytest.fixture(scope="module")
def undisturbed(tmp_path_factory: pytest.TempPathFactory) -> tuple[Path, dict[str, bytes]]:
    base = tmp_path_factory.mktemp("undisturbed")
    source = faults.photos(base / "site")
    build(source, base / "out", RECIPE, options=BuildOptions(jobs=2))
    return source, faults.results(base / "out")


def test_a_command_that_is_killed_over_and_over_ends_with_the_bytes_of_one_that_is_not(
    undisturbed: tuple[Path, dict[str, bytes]], tmp_path: Path
) -> None:
    source, expected = undisturbed
    before = pictures.hashes(source)
    line = faults.command(source, tmp_path / "out")
    chance = random.Random(5)  # noqa: S311
    with faults.watched(tmp_path / "out") as seen:
        killed = [faults.kill_after(line, chance.uniform(0.8, 2.2)) for _ in range(3)]
        subprocess.run(line, check=True, capture_output=True, timeout=limit(50))
    assert any(killed) and not seen
    assert faults.results(tmp_path / "out") == expected
    assert pictures.hashes(source) == before


def test_a_worker_that_is_killed_costs_nothing_but_time(
    undisturbed: tuple[Path, dict[str, bytes]], tmp_path: Path
) -> None:
    source, expected = undisturbed
    killed = 0
    over = threading.Event()

    def kill_one() -> None:
        # One: the original that it was at has one more try, alone, and a second kill could hit just that.
        nonlocal killed
        chance = random.Random(3)  # noqa: S311
        while not over.wait(chance.uniform(0.3, 0.9)) and not killed:
            workers = faults.workers_of(os.getpid())
            if workers:
                faults.kill(chance.choice(workers).pid)
                killed += 1

    thread = threading.Thread(target=kill_one)
    thread.start()
    try:
        result = build(source, tmp_path / "out", RECIPE, options=BuildOptions(jobs=2))
    finally:
        over.set()
        thread.join()
    assert killed and result.outcomes[Outcome.FAILED] == 0
    assert faults.results(tmp_path / "out") == expected


@pytest.mark.parametrize("jobs", [1, 4])
def test_any_number_of_workers_makes_the_same_bytes(
    undisturbed: tuple[Path, dict[str, bytes]], tmp_path: Path, jobs: int
) -> None:
    source, expected = undisturbed
    build(source, tmp_path / "out", RECIPE, options=BuildOptions(jobs=jobs))
    assert faults.results(tmp_path / "out") == expected


def test_a_full_disk_is_waited_for(
    undisturbed: tuple[Path, dict[str, bytes]], tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    source, expected = undisturbed
    events: list[Event] = []
    refused = 0

    def write(files: list[tuple[Path, bytes]], writers: object) -> list[Path]:
        nonlocal refused
        if len([event for event in events if isinstance(event, OriginalDone)]) == 3 and refused < 2:
            refused += 1
            raise OSError(errno.ENOSPC, "No space left on device")
        return write_temp_files(files, writers)

    monkeypatch.setattr(delivery_module, "write_temp_files", write)
    monkeypatch.setattr(delivery_module, "_RETRY_DELAY_S", 0.01)
    result = build(source, tmp_path / "out", RECIPE, options=BuildOptions(jobs=2), on_event=events.append)
    halts = [event.why for event in events if isinstance(event, Halted)]
    assert refused == 2 and len(halts) == 2 and "disk is full" in halts[0] and halts[1] == ""
    assert result.outcomes[Outcome.FAILED] == 0
    assert faults.results(tmp_path / "out") == expected


def test_a_run_that_waits_for_room_can_be_stopped_and_goes_on_later(
    undisturbed: tuple[Path, dict[str, bytes]], tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    source, expected = undisturbed
    stop = threading.Event()

    def full(files: list[tuple[Path, bytes]], writers: object) -> list[Path]:
        raise OSError(errno.ENOSPC, "No space left on device")

    def listen(event: Event) -> None:
        if isinstance(event, Halted) and event.why:
            stop.set()

    with monkeypatch.context() as patch:
        patch.setattr(delivery_module, "write_temp_files", full)
        patch.setattr(delivery_module, "_RETRY_DELAY_S", 0.01)
        result = build(
            source,
            tmp_path / "out",
            RECIPE,
            options=BuildOptions(jobs=2),
            on_event=listen,
            is_cancelled=stop.is_set,
        )
    assert result.stopped and not (tmp_path / "out" / "manifest.json").exists()
    build(source, tmp_path / "out", RECIPE, options=BuildOptions(jobs=2))
    assert faults.results(tmp_path / "out") == expected


def test_an_output_folder_that_is_removed_ends_the_run_and_the_next_one_makes_all_anew(
    undisturbed: tuple[Path, dict[str, bytes]], tmp_path: Path
) -> None:
    source, expected = undisturbed
    out = tmp_path / "out"

    def remove(event: Event) -> None:
        if isinstance(event, OriginalDone) and out.exists():
            shutil.rmtree(out)

    with pytest.raises(OutputError, match=r"removed during the run.*run again"):
        build(source, out, RECIPE, options=BuildOptions(jobs=2), on_event=remove)
    build(source, out, RECIPE, options=BuildOptions(jobs=2))
    assert faults.results(out) == expected


def test_an_output_folder_that_becomes_read_only_ends_the_run_at_once(
    undisturbed: tuple[Path, dict[str, bytes]], tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    source, expected = undisturbed
    done = 0

    def count(event: Event) -> None:
        nonlocal done
        done += isinstance(event, OriginalDone)

    with monkeypatch.context() as patch:
        # Whoever runs the tests as root may write anywhere: the system's answer is put in its place.
        patch.setattr(os, "access", lambda *_: done < 2)
        with pytest.raises(OutputError, match=r"no longer writable.*finished renditions are kept"):
            build(source, tmp_path / "out", RECIPE, options=BuildOptions(jobs=2), on_event=count)
    assert done == 2
    assert build(source, tmp_path / "out", RECIPE, options=BuildOptions(jobs=2)).outcomes[Outcome.REUSED] > 0
    assert faults.results(tmp_path / "out") == expected


# The pool by itself


def eat(megabytes: int) -> int:
    held = bytearray(megabytes * 1_000_000)
    held[::4096] = b"x" * len(held[::4096])
    time.sleep(0.3)
    return len(held) // 1_000_000


def hang(seconds: float) -> float:
    time.sleep(seconds)
    return seconds


def die_once(location: str) -> str:
    mark = Path(location)
    if not mark.exists():
        mark.touch()
        os._exit(3)
    return "alive"


def test_an_item_that_takes_too_much_memory_fails_alone_and_says_so() -> None:
    job: Job[int] = Job(function=eat, arguments=lambda size: (size,), timeout_s=lambda _: 60)
    with worker_pool(2, memory=700_000_000) as pool:
        done = {item.item: item for item in pool.run([10, 2_000, 20], job)}
    assert (done[10].result, done[20].result) == (10, 20)
    assert "more memory" in done[2_000].error.what and "--memory" in done[2_000].error.remedy


def test_all_workers_together_stay_under_the_limit_of_memory() -> None:
    most = 0
    over = threading.Event()

    def watch() -> None:
        nonlocal most
        while not over.wait(0.02):
            held = [faults.memory_of(worker) for worker in faults.workers_of(os.getpid())]
            most = max(most, sum(held))

    job: Job[int] = Job(
        function=eat,
        arguments=lambda size: (size,),
        timeout_s=lambda _: 60,
        seconds=lambda _: 1.0,
        memory=lambda size: (size + 130) * 1_000_000,
    )
    watcher = threading.Thread(target=watch)
    watcher.start()
    with worker_pool(3, memory=800_000_000) as pool:
        results = [item.error or item.result for item in pool.run([300] * 6 + [20] * 6, job)]
    over.set()
    watcher.join()
    assert sorted(results, key=str) == [20] * 6 + [300] * 6
    assert (
        300_000_000 < most < 950_000_000
    )  # one of 300 MB at a time, beside small ones and the other workers at rest


def test_a_worker_that_hangs_is_tried_alone_and_then_given_up() -> None:
    job: Job[float] = Job(function=hang, arguments=lambda s: (s,), timeout_s=lambda _: 1.0)
    with worker_pool(2) as pool:
        done = {item.item: item for item in pool.run([0.01, 30.0, 0.02], job)}
    assert done[0.01].result == 0.01 and done[0.02].result == 0.02
    assert "longer than the time limit" in done[30.0].error.what


def test_a_worker_that_dies_once_costs_a_second_try(tmp_path: Path) -> None:
    job: Job[str] = Job(function=die_once, arguments=lambda location: (location,), timeout_s=lambda _: 30.0)
    with worker_pool(1) as pool:
        [done] = pool.run([str(tmp_path / "died")], job)
    assert done.result == "alive" and done.error is None


def test_the_end_of_a_run_is_divided_among_the_workers(
    undisturbed: tuple[Path, dict[str, bytes]], tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    source, expected = undisturbed
    parts: list[bool] = []

    def dividing(todo: object, workers: int) -> object:
        for part in slice_jobs(todo, workers):
            parts.append(part.paths is not None)
            yield part

    slice_jobs = running_module.slice_jobs
    monkeypatch.setattr("young_prism.engine.build.batching._MIN_SLICE_S", 0.01)
    monkeypatch.setattr("young_prism.engine.build.batching._MIN_DECODINGS", 0)
    monkeypatch.setattr(running_module, "slice_jobs", dividing)
    build(source, tmp_path / "out", RECIPE, options=BuildOptions(jobs=2))
    assert any(parts) and not parts[0]  # not the first ones: a divided original is decoded once a part
    assert faults.results(tmp_path / "out") == expected

"""Several machines, as processes of this one: a real Dask scheduler with two workers, one of which is killed."""

from __future__ import annotations

import subprocess
import sys
import time
from collections.abc import Iterator
from pathlib import Path

import pytest

from tests.support import faults
from tests.support.builds import build
from tests.support.limits import limit
from young_prism.core.errors import ClusterError
from young_prism.core.recipe.toml import read_recipe
from young_prism.core.types import Outcome
from young_prism.engine.build.options import BuildOptions
from young_prism.engine.events import Event, OriginalDone, WorkerProgress
from young_prism.engine.versions import versions
from young_prism.engine.workers import dask as cluster_module
from young_prism.engine.workers.dask import cluster_at, difference

RECIPE = read_recipe(faults.RECIPE)
DASK = str(Path(sys.executable).parent / "dask")
# Dask's own parts warn about each other and about sockets that they close late.
pytestmark = [
    pytest.mark.filterwarnings("ignore:::distributed"),
    pytest.mark.filterwarnings("ignore:unclosed:ResourceWarning"),
    pytest.mark.filterwarnings("ignore::pytest.PytestUnraisableExceptionWarning"),
]


def start(*arguments: str) -> subprocess.Popen[bytes]:
    return subprocess.Popen([DASK, *arguments], stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)


@pytest.fixture
def scheduler() -> Iterator[tuple[str, list[subprocess.Popen[bytes]]]]:
    """The address of a scheduler, and its two workers."""
    port = faults.free_port()
    address = f"tcp://127.0.0.1:{port}"
    main = start("scheduler", "--host", "127.0.0.1", "--port", str(port), "--no-dashboard", "--no-show")
    workers = [start("worker", address, "--nthreads", "1", "--no-nanny", "--no-dashboard") for _ in range(2)]
    from distributed import Client

    client = Client(address, timeout=limit(30), set_as_default=False)
    client.wait_for_workers(2, timeout=limit(50))
    client.close()
    yield address, workers
    for process in (*workers, main):
        process.kill()
        process.wait()


def test_a_cluster_that_loses_a_worker_makes_the_same_bytes_as_this_machine(
    scheduler: tuple[str, list[subprocess.Popen[bytes]]], tmp_path: Path
) -> None:
    address, workers = scheduler
    source = faults.photos(tmp_path / "site", 6)
    build(source, tmp_path / "here", RECIPE, options=BuildOptions(jobs=2))
    events: list[Event] = []

    def listen(event: Event) -> None:
        events.append(event)
        if isinstance(event, OriginalDone) and workers[0].poll() is None:
            workers[0].kill()

    using = BuildOptions(jobs=1, cluster=cluster_at(address))
    result = build(source, tmp_path / "there", RECIPE, options=using, on_event=listen)
    assert workers[0].poll() is not None and workers[1].poll() is None
    assert result.outcomes[Outcome.FAILED] == 0
    assert faults.results(tmp_path / "there") == faults.results(tmp_path / "here")
    assert {
        event.worker for event in events if isinstance(event, WorkerProgress)
    }  # who is at what is known here too


def test_a_worker_of_another_version_is_refused_by_name(
    scheduler: tuple[str, list[subprocess.Popen[bytes]]], tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    address, _ = scheduler
    source = faults.photos(tmp_path / "site", 1)
    here = versions() | {"libvips": "1.2.3"}
    original = cluster_module.versions
    monkeypatch.setattr(cluster_module, "local_versions", lambda: here)
    with pytest.raises(ClusterError, match=r"different bytes: libvips .* there and 1\.2\.3 here"):
        build(source, tmp_path / "out", RECIPE, options=BuildOptions(jobs=1, cluster=cluster_at(address)))
    # And one that comes later, which nobody could ask before: each task says what it expects.
    with pytest.raises(ClusterError, match="libvips"):
        cluster_module.run_remote(here, time.time, ())
    assert cluster_module.run_remote(original(), time.time, ()).error is None


def test_an_address_where_nothing_answers_is_said(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    source = faults.photos(tmp_path / "site", 1)
    monkeypatch.setattr(cluster_module, "_CONNECT_S", 1)
    with pytest.raises(ClusterError, match="No scheduler answers at this address"):
        build(
            source,
            tmp_path / "out",
            RECIPE,
            options=BuildOptions(jobs=1, cluster=cluster_at(f"tcp://127.0.0.1:{faults.free_port()}")),
        )


def test_a_difference_names_both_sides() -> None:
    assert difference({"a": "1", "b": "2"}, {"a": "1", "b": "2", "c": "3"}) == ""
    assert difference({"a": "1", "b": "2"}, {"a": "0"}) == "a 0 there and 1 here, b missing there and 2 here"

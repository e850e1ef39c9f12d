"""Shared fixtures, and guards: no test and no module leaves threads, processes, open files or temporary files."""

from __future__ import annotations

import multiprocessing.util
import os
import sys
import tempfile
from collections.abc import Iterator
from itertools import islice
from pathlib import Path

import pytest
from hypothesis import settings

from tests.support import apps, pictures, shared, workers
from tests.support.exiftool import kept_exiftool
from tests.support.leftovers import check_nothing_is_left, resources
from tests.support.limits import TEST_S, limit
from young_prism.engine.files import files_below
from young_prism.engine.output.atomic import is_part
from young_prism.engine.workers.environment import configure_worker
from young_prism.engine.workers.handle import WorkerHandle

configure_worker()  # tests call the core in this process

settings.register_profile(
    "any machine", deadline=None, max_examples=60
)  # no timed tests: a busy machine is no mistake
settings.load_profile("any machine")


_LONGEST_FIRST = (
    "browser/test_journey",
    "browser",
    "web/test_runs",
    "demo",
    "engine",
    "web",
    "cli",
    "reference",
)
_BETWEEN_BROWSERS = 3


@pytest.hookimpl(tryfirst=True)
def pytest_configure(config: pytest.Config) -> None:
    """Give tests more time where other programs keep the machine busy, unless the command line sets a limit.

    Let all processes keep compiled modules; without them each one that a test starts compiles everything again.
    """
    os.environ.pop("PYTHONDONTWRITEBYTECODE", None)
    if config.option.timeout is None:
        config.option.timeout = limit(TEST_S)


@pytest.hookimpl(trylast=True)
def pytest_sessionfinish() -> None:
    """Save what `make coverage` has measured here while pytest-xdist still waits for this process."""
    module = sys.modules.get("coverage")
    measurement = module.Coverage.current() if module else None
    if measurement:
        measurement.save()


def pytest_collection_modifyitems(items: list[pytest.Item]) -> None:
    """Begin with the files that take longest, so that no worker is left with one of them at the end.

    Those that drive a browser come with others between them: several browsers at once keep each other waiting.
    """
    root = Path(__file__).parent
    files: dict[str, list[pytest.Item]] = {}
    for item in items:
        files.setdefault(item.path.relative_to(root).as_posix(), []).append(item)

    def rank(path: str) -> int:
        return next((at for at, name in enumerate(_LONGEST_FIRST) if path.startswith(name)), len(files))

    ordered = sorted(files, key=rank)
    rest = iter([path for path in ordered if not path.startswith("browser")])
    for path in [path for path in ordered if path.startswith("browser")]:
        files[path] += [item for second in islice(rest, _BETWEEN_BROWSERS) for item in files[second]]
    browsers = [item for path in ordered if path.startswith("browser") for item in files[path]]
    items[:] = [*browsers, *(item for path in rest for item in files[path])]


@pytest.fixture(autouse=True)
def history_of_its_own(tmp_path_factory: pytest.TempPathFactory, monkeypatch: pytest.MonkeyPatch) -> None:
    """No test writes into the history of the person who runs it."""
    monkeypatch.setenv("YOUNG_PRISM_DATA", str(tmp_path_factory.getbasetemp() / "history"))


@pytest.fixture(autouse=True)
def no_part_left(tmp_path: Path) -> Iterator[None]:
    yield
    parts = [entry.path for entry in files_below(tmp_path) if is_part(entry.name)]
    assert not parts, f"a test left temporary files: {parts}"


@pytest.fixture(scope="session", autouse=True)
def own_temporary_folder(tmp_path_factory: pytest.TempPathFactory) -> Iterator[None]:
    """Temporary files of this process and of all that it starts are in a folder of their own, which is removed at the end."""
    tmp_path_factory.getbasetemp()  # stays where it always is, as does the folder of `multiprocessing`, which is used to the last
    multiprocessing.util.get_temp_dir()
    folder = apps.temporary_folder()
    (folder / "tmp").mkdir()
    with pytest.MonkeyPatch.context() as patch:
        patch.setenv("TMPDIR", str(folder / "tmp"))
        patch.setattr(tempfile, "tempdir", None)
        yield
    apps.remove_temporary_folder()


@pytest.fixture(scope="session", autouse=True)
def computed_once() -> Iterator[None]:
    """What is the same in all tests is computed once, and exiftool is started once. Examples are the same on all machines."""
    with shared.computed_once(), shared.same_examples_everywhere(), kept_exiftool():
        yield


@pytest.fixture(scope="session", autouse=True)
def idle_workers(own_temporary_folder: None) -> Iterator[None]:
    """Workers are kept between tests, apart from those of `own_workers`."""
    with workers.kept_workers():
        yield


@pytest.fixture(scope="module", autouse=True)
def nothing_left_by_module(idle_workers: None, tmp_path_factory: pytest.TempPathFactory) -> Iterator[None]:
    """No module leaves threads, processes, open files or temporary files: what it opened for all its tests is closed too."""
    base = tmp_path_factory.getbasetemp()
    before = resources(base)
    yield
    check_nothing_is_left(base, before)


@pytest.fixture(autouse=True)
def own_workers(request: pytest.FixtureRequest, monkeypatch: pytest.MonkeyPatch) -> None:
    """A test with the mark `own_workers` starts and ends its workers as the product does."""
    if request.node.get_closest_marker("own_workers"):
        monkeypatch.setattr(WorkerHandle, "open", workers._open)
        monkeypatch.setattr(WorkerHandle, "close", workers._close)


@pytest.fixture
def source(tmp_path: Path) -> Path:
    """A small source with every kind of picture in it, for each test."""
    return pictures.small_source(tmp_path / "site")

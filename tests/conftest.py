"""Shared fixtures, and guards that run for every test: no thread and no temporary file is left behind."""

from __future__ import annotations

import shutil
import threading
from pathlib import Path

import pytest
from hypothesis import settings

from tests import pictures

settings.register_profile(
    "any machine", deadline=None, max_examples=60
)  # no timed tests: a busy machine is no mistake
settings.load_profile("any machine")


_LONGEST_FIRST = ("web/test_runs", "browser", "engine", "web", "cli", "demo", "reference")


def pytest_collection_modifyitems(items: list[pytest.Item]) -> None:
    """Begin with the files that take longest, so that no worker is left with one of them at the end."""
    root = Path(__file__).parent

    def place(item: pytest.Item) -> int:
        path = item.path.relative_to(root).as_posix()
        found = (at for at, name in enumerate(_LONGEST_FIRST) if path.startswith(name))
        return next(found, len(_LONGEST_FIRST))

    items.sort(key=place)


@pytest.fixture(autouse=True)
def history_of_its_own(tmp_path_factory: pytest.TempPathFactory, monkeypatch: pytest.MonkeyPatch) -> None:
    """No test writes into the history of the person who runs it."""
    monkeypatch.setenv("YOUNG_PRISM_DATA", str(tmp_path_factory.getbasetemp() / "history"))


@pytest.fixture(autouse=True)
def nothing_left_behind(tmp_path: Path):
    before = set(threading.enumerate())
    yield
    left = [t for t in set(threading.enumerate()) - before if t.is_alive() and t.name == "runner"]
    assert not left, f"a test left threads: {left}"
    parts = list(tmp_path.rglob(".young-prism-*.part"))
    assert not parts, f"a test left temporary files: {parts}"


@pytest.fixture(scope="session")
def painted(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """The small source, painted once: that takes longer than most tests."""
    return pictures.small_source(tmp_path_factory.mktemp("painted") / "site")


@pytest.fixture
def source(painted: Path, tmp_path: Path) -> Path:
    """A small source with every kind of picture in it, a copy for each test."""
    return Path(shutil.copytree(painted, tmp_path / "site"))

"""Shared fixtures, and guards that run for every test: no thread and no temporary file is left behind."""

from __future__ import annotations

import threading
from pathlib import Path

import pytest

from tests import pictures


@pytest.fixture(autouse=True)
def nothing_left_behind(tmp_path: Path):
    before = set(threading.enumerate())
    yield
    left = [t for t in set(threading.enumerate()) - before if t.is_alive() and t.name == "runner"]
    assert not left, f"a test left threads: {left}"
    parts = list(tmp_path.rglob(".young-prism-*.part"))
    assert not parts, f"a test left temporary files: {parts}"


@pytest.fixture
def source(tmp_path: Path) -> Path:
    """A small source with every kind of picture in it."""
    return pictures.small_source(tmp_path / "site")

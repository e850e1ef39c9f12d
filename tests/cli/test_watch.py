"""A watched folder: renditions appear, half-copied files are waited for, failures are listed in it, nothing is done twice."""

from __future__ import annotations

import os
import shutil
import sys
import threading
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

import pytest

from tests.support import pictures
from tests.support.processes import Program, running
from young_prism.engine.intake.watch import FAILURES_FILE, FileChanges, debounced_changes

RECIPE = "[ladder]\nwidths = [60]\n[formats.photo]\njpeg = {}\nwebp = {}\n"


@contextmanager
def watching(source: Path, out: Path, *options: str, names: str = "") -> Iterator[Program]:
    (source.parent / "site.toml").write_text(RECIPE + names)
    line = [sys.executable, "-m", "young_prism", "watch", "--source", source, "--out", out, "--jobs", "1"]
    with running([*line, "--recipe", source.parent / "site.toml", *options]) as program:
        program.wait_for_line("Watching")
        yield program
        assert program.end() == 0 and "Stopped watching" in program.text, program.text


@pytest.fixture
def source(tmp_path: Path) -> Path:
    (tmp_path / "site").mkdir()
    (tmp_path / "site" / "a.jpg").write_bytes(pictures.jpeg(pictures.photo(120, 80)))
    return tmp_path / "site"


def test_what_is_dropped_is_made_when_it_is_whole_and_nothing_is_made_twice(
    source: Path, tmp_path: Path
) -> None:
    out = tmp_path / "out"
    data = pictures.jpeg(pictures.photo(200, 150, 2))
    with watching(source, out) as watcher:
        assert (out / "a-60w.jpg").is_file()
        (source / "slow.jpg").write_bytes(data)
        for number in range(4):
            shutil.copy(source / "a.jpg", source / f"many-{number}.jpg")
        assert "0 failed" in watcher.wait_for_line("changed: ")
        assert (out / "slow-60w.jpg").is_file() and (out / "many-3-60w.jpg").is_file()
        assert not (out / FAILURES_FILE).exists()

        (source / "bad.jpg").write_bytes(data[:400])
        assert ", 1 failed" in watcher.wait_for_line("1 file changed: ")
        assert "bad.jpg: " in (out / FAILURES_FILE).read_text()
        (source / "bad.jpg").unlink()
        assert "0 failed" in watcher.wait_for_line("1 file changed: ")
        assert not (out / FAILURES_FILE).exists()
    before = {file: file.stat().st_mtime_ns for file in out.glob("*.jpg")}
    with watching(source, out, "--remove-orphans") as watcher:
        assert any(": 0 renditions made" in line for line in watcher.lines)
        (source / "slow.jpg").rename(source / "renamed.jpg")
        watcher.wait_for_line("changed: ")
        assert (out / "renamed-60w.jpg").is_file() and not (out / "slow-60w.jpg").exists()
    assert all(file.stat().st_mtime_ns == time for file, time in before.items() if file.exists())


def test_renditions_beside_their_originals_wake_nobody(source: Path) -> None:
    with watching(source, source, names='[names]\nlayout = "beside"\n') as watcher:
        assert (source / "a-60w.webp").is_file()
        (source / "b.jpg").write_bytes(pictures.jpeg(pictures.photo(120, 80, 5)))
        watcher.wait_for_line("1 file changed")
        assert (source / "b-60w.webp").is_file()
        (source / "c.jpg").write_bytes(pictures.jpeg(pictures.photo(120, 80, 6)))
        assert "1 file changed" in watcher.wait_for_line("changed")  # and none of ours before it
    assert watcher.text.count("changed") == 2


def test_a_file_is_waited_for_until_it_is_whole_and_what_is_hidden_or_ours_wakes_nobody(source: Path) -> None:
    """By a clock and by events of our own."""
    now = 0.0
    slow = source / "slow.jpg"

    def happens(_root: Path, _stop: threading.Event) -> Iterator[FileChanges]:
        nonlocal now
        for second, written in enumerate([b"", b"half", b"half", b"whole", b"whole"]):
            now = 0.6 * second
            slow.write_bytes(written)
            # The system reports the first change only; the stamps say that it goes on.
            yield (
                [(1, str(slow)), (1, str(source / ".hidden")), (1, str(source / "a-60w.jpg"))]
                if not second
                else []
            )
        for _ in range(3):
            now += 0.6
            os.utime(slow, (1, 1))
            yield []

    changes = debounced_changes(
        source, lambda path: path == "a-60w.jpg", threading.Event(), events=happens, clock=lambda: now
    )
    assert next(changes) == set()
    assert next(changes) == {"slow.jpg"} and slow.read_bytes() == b"whole" and now >= 3.6
    assert list(changes) == []

"""A watched folder: renditions appear, half-copied files are waited for, failures are listed in it, nothing is done twice."""

from __future__ import annotations

import shutil
import signal
import subprocess
import sys
import threading
import time
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import IO

import pytest

from tests.support import pictures
from young_prism.engine.intake.watch import FAILURES_FILE

LIMIT_S = 40
RECIPE = "[ladder]\nwidths = [60]\n[formats.photo]\njpeg = {}\nwebp = {}\n"


class Watcher:
    """The command in a process of its own, and what it said so far."""

    def __init__(self, stderr: IO[str]) -> None:
        self._stderr = stderr
        self.lines: list[str] = []
        self.rest = ""

    def hears(self, part: str) -> str:
        """Wait for a line with something in it."""
        for line in self._stderr:
            self.lines.append(line)
            if part in line:
                return line
        raise AssertionError(f"never said {part}: {self.lines}")


@contextmanager
def watching(source: Path, out: Path, *options: str, names: str = "") -> Iterator[Watcher]:
    (source.parent / "site.toml").write_text(RECIPE + names)
    line = [sys.executable, "-m", "young_prism", "watch", "--source", source, "--out", out, "--jobs", "1"]
    line += ["--recipe", source.parent / "site.toml", *options]
    process = subprocess.Popen(line, stderr=subprocess.PIPE, text=True)
    assert process.stderr
    overdue = threading.Timer(LIMIT_S, process.kill)  # a line that never comes must not be waited for
    overdue.start()
    watcher = Watcher(process.stderr)
    try:
        watcher.hears("Watching")
        yield watcher
    finally:
        overdue.cancel()
        process.send_signal(signal.SIGINT)
        watcher.rest = process.stderr.read()
        process.wait(LIMIT_S)
        process.stderr.close()
    assert process.returncode == 0 and "Watched to the end" in watcher.rest, watcher.rest


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
        with (source / "slow.jpg").open("wb") as file:  # copied in two halves, with a pause
            file.write(data[: len(data) // 2])
            file.flush()
            time.sleep(0.6)
            file.write(data[len(data) // 2 :])
        for number in range(4):
            shutil.copy(source / "a.jpg", source / f"many-{number}.jpg")
        assert "failed 0" in watcher.hears("changed: ")
        assert (out / "slow-60w.jpg").is_file() and (out / "many-3-60w.jpg").is_file()
        assert not (source / FAILURES_FILE).exists()

        (source / "bad.jpg").write_bytes(data[:400])
        assert "failed 1" in watcher.hears("1 file changed: ")
        assert "bad.jpg: " in (source / FAILURES_FILE).read_text()
        (source / "bad.jpg").unlink()
        assert "failed 0" in watcher.hears("1 file changed: ")
        assert not (source / FAILURES_FILE).exists()
    before = {file: file.stat().st_mtime_ns for file in out.glob("*.jpg")}
    with watching(source, out, "--remove-orphans") as watcher:
        assert any("made 0" in line for line in watcher.lines)
        (source / "slow.jpg").rename(source / "renamed.jpg")
        watcher.hears("changed: ")
        assert (out / "renamed-60w.jpg").is_file() and not (out / "slow-60w.jpg").exists()
    assert all(file.stat().st_mtime_ns == time for file, time in before.items() if file.exists())


def test_renditions_beside_their_originals_wake_nobody(source: Path) -> None:
    with watching(source, source, names='[names]\nlayout = "beside"\n') as watcher:
        assert (source / "a-60w.webp").is_file()
        (source / "b.jpg").write_bytes(pictures.jpeg(pictures.photo(120, 80, 5)))
        watcher.hears("1 file changed")
        assert (source / "b-60w.webp").is_file()
        time.sleep(2.5)
    assert "changed" not in watcher.rest

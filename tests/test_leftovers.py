"""The guard itself: what is left behind is noticed."""

from __future__ import annotations

import subprocess
import sys
import tempfile
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

from tests.support.leftovers import resources


def test_what_is_left_behind_is_noticed(tmp_path: Path) -> None:
    before = resources(tmp_path)
    with (
        ThreadPoolExecutor(1) as pool,
        (tmp_path / "open.txt").open("w"),
        tempfile.NamedTemporaryFile(prefix="left-"),
        subprocess.Popen([sys.executable, "-c", "input()"], stdin=subprocess.PIPE) as program,
    ):
        pool.submit(int).result()
        kinds = [line.split(":")[0] for line in resources(tmp_path).beyond(before)]
        program.kill()
    assert kinds == ["open file", "process", "temporary file", "thread"]
    assert not resources(tmp_path).beyond(before)

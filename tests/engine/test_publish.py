"""Writing: the old state or the new one."""

from __future__ import annotations

import errno
import os
from pathlib import Path

import pytest

from young_prism.core.errors import OutputError
from young_prism.engine.output.atomic import write_atomically


def test_a_full_disk_leaves_the_old_file_and_no_part(tmp_path: Path, monkeypatch) -> None:
    target = tmp_path / "a.avif"
    write_atomically(target, b"old")

    def full(_descriptor: int) -> None:
        raise OSError(errno.ENOSPC, os.strerror(errno.ENOSPC))

    monkeypatch.setattr(os, "fsync", full)
    with pytest.raises(OutputError, match=r"disk is full.*Free some space"):
        write_atomically(target, b"new, and longer")
    assert target.read_bytes() == b"old"
    assert [p.name for p in tmp_path.iterdir()] == ["a.avif"]


def test_a_name_that_is_too_long_is_said_to_be(tmp_path: Path) -> None:
    with pytest.raises(OutputError, match="too long"):
        write_atomically(tmp_path / ("n" * 300), b"x")


def test_a_file_stands_in_the_way_of_a_folder(tmp_path: Path) -> None:
    (tmp_path / "deep").write_bytes(b"a file")
    with pytest.raises(OutputError, match="cannot be written"):
        write_atomically(tmp_path / "deep" / "a.avif", b"x")
    assert (tmp_path / "deep").read_bytes() == b"a file"

"""Patterns by pattern. gitignore(5): the last line that fits decides, and nothing comes back below a folder left out."""

from __future__ import annotations

import subprocess
from pathlib import Path

import pytest

from young_prism.core.errors import SourceError
from young_prism.core.selection.scope import Scope, pattern_lines


@pytest.mark.parametrize(
    ("exclude", "path", "line"),
    [
        ((), "a.jpg", ""),
        ((), ".a.jpg", ".*"),
        ((), "deep/.cache/", ".*"),
        ((), "vendor/", "vendor/"),
        ((), "vendor", ""),  # a file of that name is nobody else's
        (("!vendor/",), "vendor/", ""),
        (("!.well-known/",), ".well-known/", ""),
        (("!.well-known/",), ".git/", ".*"),
        (("*.gif", "!keep.gif"), "deep/keep.gif", ""),
        (("*.gif", "!keep.gif"), "deep/other.gif", "*.gif"),
        (("!keep.gif", "*.gif"), "keep.gif", "*.gif"),  # the last line that fits
        (("/top.jpg",), "deep/top.jpg", ""),
        (("a/**/z.jpg",), "a/b/c/z.jpg", "a/**/z.jpg"),
    ],
)
def test_the_last_line_that_fits_decides(exclude: tuple[str, ...], path: str, line: str) -> None:
    assert Scope(exclude=exclude).excluded_by(path) == line


def test_include_lines_let_in_only_what_they_catch() -> None:
    scope = Scope(include=("photos/", "*.png"))
    request = {path: scope.included_by(path) for path in ("photos/a/b.jpg", "c.png", "c.jpg")}
    assert request == {"photos/a/b.jpg": "photos/", "c.png": "*.png", "c.jpg": ""}
    assert Scope().included_by("anything.jpg") == "*"


def test_a_line_that_is_no_pattern_is_named() -> None:
    with pytest.raises(SourceError, match="“!”"):
        Scope(exclude=("*.gif", "!")).check()


def test_comments_and_empty_lines_are_no_patterns() -> None:
    assert pattern_lines("# all\r\n\r\n*.gif\r\n\\#odd.jpg\n") == ("*.gif", "\\#odd.jpg")


def test_files_are_left_out_just_as_git_leaves_them_out(tmp_path: Path) -> None:
    """Against git's own `check-ignore`, on names in one folder (its rule on parents is the walk's)."""
    lines = ["*.gif", "!keep.gif", "old-*", "/top.*", "[ab]?.png", "caf*", "\\!odd.jpg", "x y.jpg"]
    names = [
        "a.gif",
        "keep.gif",
        "old-1.jpg",
        "top.svg",
        "a1.png",
        "c1.png",
        "café.jpg",
        "!odd.jpg",
        "b22.png",
    ]
    names.append("x y.jpg")
    subprocess.run(["git", "init", "-q", tmp_path], check=True)
    (tmp_path / ".gitignore").write_text("\n".join(lines))
    text = subprocess.run(
        ["git", "-c", "core.quotepath=off", "check-ignore", *names],
        cwd=tmp_path,
        capture_output=True,
        text=True,
        check=False,
    )
    owned = [name for name in names if Scope(exclude=tuple(lines)).excluded_by(name)]
    assert owned == text.stdout.splitlines()

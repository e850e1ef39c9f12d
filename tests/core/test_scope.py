"""Patterns by pattern. gitignore(5): the last line that fits decides, and nothing comes back below a folder left out."""

from __future__ import annotations

import subprocess
import time
from pathlib import Path
from tempfile import TemporaryDirectory

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from young_prism.core.errors import SourceError
from young_prism.core.selection.patterns import PatternSet, escape_pattern
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


_SIGNS = ["a", "b", "*", "**", "/", "?", "[ab]", "[!a]", "\\a", ".", "\\*", "[a-c]"]
_LINES = st.lists(st.sampled_from(_SIGNS), min_size=1, max_size=6).map("".join)
_PATHS = st.lists(st.text("ab.*", min_size=1, max_size=3), min_size=1, max_size=4).map("/".join)


@given(st.lists(st.tuples(_LINES, _PATHS), min_size=40, max_size=40))
@settings(max_examples=5)
def test_a_pattern_matches_what_git_says(pairs: list[tuple[str, str]]) -> None:
    """Against `git check-ignore`, with one pattern and one path at a time; names are ASCII, since git matches bytes."""
    with TemporaryDirectory() as folder:
        subprocess.run(["git", "init", "-q", folder], check=True)
        for line, path in pairs:
            if any(name in ("", ".", "..", ".git") for name in path.split("/")):
                continue
            (Path(folder) / ".git/info/exclude").write_text(line + "\n", encoding="utf-8")
            verdict = subprocess.run(
                ["git", "check-ignore", "-q", "--no-index", path],
                cwd=folder,
                check=False,
                capture_output=True,
            )
            try:
                matched = PatternSet([line]).matches(path)
            except ValueError:
                matched = False
            assert matched == (verdict.returncode == 0), (line, path)


@pytest.mark.parametrize(
    ("pattern", "name"),
    [
        ("*?" * 12 + "!x", "summer-holiday-2026-beach-sunset-wide-1.jpg"),
        ("*a" * 30, "a" * 60 + "b"),
        ("*" * 900 + "b", "a" * 250),
        ("a*" * 40 + "c", "a" * 250),
        ("**/" * 200 + "x", "a/" * 1000 + "b"),
        ("[a-z]*" * 20 + "!", "a" * 250),
    ],
)
def test_no_pattern_backtracks(pattern: str, name: str) -> None:
    """Ten thousand names in less time than one took in a regular expression. The time limit is the test's."""
    patterns = PatternSet([pattern])
    before = time.process_time()
    assert not any(patterns.matches(f"{name}-{number}") for number in range(200))
    assert time.process_time() - before < 2


@pytest.mark.parametrize(
    ("pattern", "reason"),
    [
        ("a" * 1001, "more than 1000 characters"),
        ("*a" * 51, "more than 50 wildcards"),
        ("[ab", "not closed"),
        ("[b-a]", "wrong way round"),
        ("a\\", "last backslash"),
        ("/", "names nothing"),
    ],
)
def test_what_is_no_pattern_is_refused_with_its_reason(pattern: str, reason: str) -> None:
    with pytest.raises(ValueError, match=reason):
        PatternSet([pattern])


@given(st.text(st.characters(exclude_categories=["Cs", "Cc"]), min_size=1, max_size=20))
def test_an_escaped_path_matches_only_itself(path: str) -> None:
    path = path.strip("/") or "a"
    if "//" not in path:
        assert PatternSet([escape_pattern(path)]).decide(path) == (0, True)
        assert not PatternSet([escape_pattern(path)]).matches(f"x{path}")

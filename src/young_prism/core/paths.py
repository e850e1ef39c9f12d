"""Relative paths in records: one type, validated wherever a record is read.

A manifest, a backup index or a journal may come from another machine, an artifact or a repository. A path in it is joined
to a folder, and the result is read, written or deleted. It must therefore stay below that folder on every system.
"""

from __future__ import annotations

import re
from pathlib import PurePosixPath
from typing import Annotated

from pydantic import AfterValidator

_DRIVE = re.compile(r"[A-Za-z]:")
_SEPARATORS = re.compile(r"[/\\]")


def relative_path_problem(path: str) -> str:
    r"""Say why `path` cannot be a path below a folder.

    Args:
        path: A path as a record holds it, with `/` between folders.

    Returns:
        The reason as a clause ("it is absolute"), or an empty string for a usable path. A backslash counts as a
        separator where it would lead out of the folder on Windows, and as an ordinary character elsewhere.
    """
    if not path or path != str(PurePosixPath(path)):
        return "it is not in its shortest form"
    if "\0" in path:
        return "it contains a NUL character"
    if path.startswith(("/", "\\")):
        return "it is absolute"
    if _DRIVE.match(path):
        return "it begins with a drive letter"
    if path == "." or ".." in _SEPARATORS.split(path):
        return "it leads out of its folder"
    return ""


def checked_relative_path(path: str) -> str:
    """Return `path`, or raise `ValueError` where `relative_path_problem` finds one."""
    problem = relative_path_problem(path)
    if problem:
        raise ValueError(f"not a path below the folder: {problem}")
    return path


RelativePath = Annotated[str, AfterValidator(checked_relative_path)]
"""A path below some folder, with `/` between folders: not absolute, no `..`, no NUL, no drive letter."""

"""The name rule: plain braces, mirrored folders.

A name is split at its *last* dot, so `route.map.v2.png` keeps the stem `route.map.v2` (common practice, no
source). A leading dot is part of the stem.
"""

from __future__ import annotations

import re
from pathlib import PurePosixPath
from typing import NamedTuple

FIELDS = ("stem", "width", "height", "format", "ext")
_BRACE = re.compile(r"\{([^{}]*)\}")


class NameParts(NamedTuple):
    """What the braces of a rule stand for."""

    stem: str
    width: int
    height: int
    format: str
    ext: str


def split_name(name: str) -> tuple[str, str]:
    """Split a file name into stem and ending (without its dot)."""
    stem, dot, ending = name.rpartition(".")
    return (stem, ending) if dot and stem else (name, "")


def check_rule(rule: str) -> None:
    """Raise `ValueError` when a rule has an unknown brace, leaves its folder, or cannot tell renditions apart."""
    known = ", ".join(f"{{{field}}}" for field in FIELDS)
    for field in _BRACE.findall(rule):
        if field not in FIELDS:
            raise ValueError(f"{{{field}}} is not known in a name rule; there are {known}")
    rest = _BRACE.sub("", rule)
    if "{" in rest or "}" in rest:
        raise ValueError("a brace in the name rule is not closed")
    if "\\" in rest or "\0" in rest or rule.startswith("/") or ".." in PurePosixPath(rule).parts:
        raise ValueError("a name rule must stay inside the output folder")
    if "{stem}" not in rule:
        raise ValueError("the name rule needs {stem}, or all originals would get one name")
    if "{width}" not in rule:
        raise ValueError("the name rule needs {width}, or all rungs would get one name")
    if "{ext}" not in rule and "{format}" not in rule:
        raise ValueError("the name rule needs {ext} or {format}, or all formats would get one name")


def rendition_path(rule: str, folder: str, parts: NameParts) -> str:
    """Return the path below the output folder, with `/` between folders, for a rule that `check_rule` passed."""
    # The rule passed the check: its braces are plain names, which is all that `format` may be trusted with.
    name = rule.format(
        stem=parts.stem, width=parts.width, height=parts.height, format=parts.format, ext=parts.ext
    )
    return f"{folder}/{name}" if folder else name


def folder_of(path: str) -> str:
    """Return the folder part of a relative path with `/`, empty at the top."""
    return path.rpartition("/")[0]

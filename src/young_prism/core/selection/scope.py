"""Scope: which files of a folder take part, by patterns in gitignore syntax (gitignore(5)).

Three questions are asked of a path, in this order. Is it left out? The lines that always stand (hidden, vendored) come
first, a person's own after them, and as in gitignore the last line that fits decides: `!vendor/` brings a folder back.
Is it asked for? Where there are include lines, only what they catch takes part. Was it taken out by hand?
"""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass, field
from functools import cached_property

from pathspec import GitIgnoreSpec

from young_prism.core.errors import SourceError
from young_prism.messages.projects import invalid_pattern

DEFAULT_EXCLUDES = (".*", "node_modules/", "bower_components/", "vendor/", "__pycache__/")
"""Left out unless a person's own line brings it back: hidden files and folders, and other people's."""

_WHY = {
    ".*": "hidden",
    "node_modules/": "other people's files",
    "bower_components/": "other people's files",
    "vendor/": "other people's files",
    "__pycache__/": "a program's own files",
}


@dataclass(frozen=True)
class Scope:
    """The patterns of a source, and the paths that were taken out by hand."""

    include: tuple[str, ...] = ()
    exclude: tuple[str, ...] = ()
    out: frozenset[str] = field(default=frozenset())

    @cached_property
    def _exclude(self) -> GitIgnoreSpec:
        return _spec((*DEFAULT_EXCLUDES, *self.exclude))

    @cached_property
    def _include(self) -> GitIgnoreSpec:
        return _spec(self.include)

    def excluded_by(self, path: str) -> str:
        """Return the line that leaves a path out (a folder's path ends in `/`), empty if none does."""
        if not self.exclude and path[-1:] != "/":
            # Of the standing lines only the one on hidden names concerns files; ten thousand are asked at a time.
            return DEFAULT_EXCLUDES[0] if path[path.rfind("/") + 1 :].startswith(".") else ""
        result = self._exclude.check_file(path)
        if not result.include or result.index is None:
            return ""
        return (*DEFAULT_EXCLUDES, *self.exclude)[result.index]

    def included_by(self, path: str) -> str:
        """Return the include line that catches a file; `*` where there are none, empty where none does."""
        if not self.include:
            return "*"
        result = self._include.check_file(path)
        return self.include[result.index] if result.include and result.index is not None else ""

    def check(self) -> None:
        """Raise `SourceError` naming the first line that is no pattern."""
        for line in (*self.include, *self.exclude):
            try:
                _spec([line])
            except ValueError as error:
                raise SourceError.of(invalid_pattern(pattern=line, reason=error)) from error


def default_exclude_reason(line: str) -> str:
    """Say in words why a standing line leaves something out; empty for a person's own line."""
    return _WHY.get(line, "")


def pattern_lines(text: str) -> tuple[str, ...]:
    """Return the patterns of a text with one on each line, without empty lines and comments."""
    lines = (line.strip("\r\n") for line in text.splitlines())
    return tuple(line for line in lines if line.strip() and not line.startswith("#"))


def _spec(lines: Iterable[str]) -> GitIgnoreSpec:
    return GitIgnoreSpec.from_lines(lines)

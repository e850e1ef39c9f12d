"""Scope: which files of a folder take part, by patterns in gitignore syntax (gitignore(5)).

Three questions are asked of a path, in this order. Is it left out? The lines that always stand (hidden, vendored) come
first, a person's own after them, and as in gitignore the last line that fits decides: `!vendor/` brings a folder back.
Is it asked for? Where there are include lines, only what they catch takes part. Was it taken out by hand?
"""

from __future__ import annotations

from dataclasses import dataclass, field
from functools import cached_property

from young_prism.core.errors import SourceError
from young_prism.core.selection.patterns import MAX_LINES, PatternSet
from young_prism.messages.projects import invalid_pattern, too_many_patterns

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
    def _exclude(self) -> PatternSet:
        return PatternSet((*DEFAULT_EXCLUDES, *self.exclude))

    @cached_property
    def _include(self) -> PatternSet:
        return PatternSet(self.include)

    def excluded_by(self, path: str) -> str:
        """Return the line that leaves a path out (a folder's path ends in `/`), empty if none does."""
        if not self.exclude and path[-1:] != "/":
            # Of the standing lines only the one on hidden names concerns files; ten thousand are asked at a time.
            return DEFAULT_EXCLUDES[0] if path[path.rfind("/") + 1 :].startswith(".") else ""
        decision = self._exclude.decide(path)
        if decision is None or not decision.is_match:
            return ""
        return (*DEFAULT_EXCLUDES, *self.exclude)[decision.line]

    def included_by(self, path: str) -> str:
        """Return the include line that catches a file; `*` where there are none, empty where none does."""
        if not self.include:
            return "*"
        decision = self._include.decide(path)
        return self.include[decision.line] if decision and decision.is_match else ""

    def check(self) -> None:
        """Raise `SourceError` naming the first line that is no pattern, or where there are too many."""
        for line in (*self.include, *self.exclude):
            try:
                PatternSet([line])
            except ValueError as error:
                raise SourceError.of(invalid_pattern(pattern=line, reason=error)) from error
        if max(len(self.include), len(self.exclude)) > MAX_LINES:
            raise SourceError.of(too_many_patterns(MAX_LINES))


def default_exclude_reason(line: str) -> str:
    """Say in words why a standing line leaves something out; empty for a person's own line."""
    return _WHY.get(line, "")


def pattern_lines(text: str) -> tuple[str, ...]:
    """Return the patterns of a text with one on each line, without empty lines and comments."""
    lines = (line.strip("\r\n") for line in text.splitlines())
    return tuple(line for line in lines if line.strip() and not line.startswith("#"))

"""Patterns in gitignore syntax (gitignore(5)), matched in a time that is bounded by their length and that of the path.

Patterns come from people, recipes, project files and links, so they must never backtrack. A wildcard splits the pattern of a
name into pieces of fixed length, and each piece is searched for once, from the left. Regular expressions translated from whole
patterns, as libraries make them, take exponential time in `re` (docs/decisions/019).
"""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator, Sequence
from enum import IntEnum
from typing import NamedTuple

MAX_LENGTH = 1000
"""Characters of a pattern (our choice)."""
MAX_WILDCARDS = 50
"""Wildcards of a pattern: `*`, `?` and brackets, where a run of `*` is one (our choice)."""
MAX_LINES = 1000
"""Patterns of a set (our choice)."""

_ANY_FOLDERS = "**"


class Reach(IntEnum):
    """How a pattern concerns a path; a higher value decides over a lower one."""

    NONE = 0
    PARENT = 1
    """It matches a folder above."""
    ITSELF = 2


class Decision(NamedTuple):
    """The line that decides about a path: its number from 0, and whether it takes the path in (false for one that begins with `!`)."""

    line: int
    is_match: bool


class NamePattern:
    """The pattern of one name, between two slashes.

    Attributes:
        literal: The only name that it matches; None where it has wildcards.
    """

    def __init__(self, text: str) -> None:
        pieces = _split_at_wildcards(text)
        self._first, *self._rest = [
            re.compile("".join(matcher for matcher, _ in _matchers(piece)), re.DOTALL) for piece in pieces
        ]
        self._length_of_last = sum(1 for _ in _matchers(pieces[-1]))
        self.literal = None if any(char in text for char in "*?[\\") else text

    def matches(self, name: str) -> bool:
        """Return whether a name matches as a whole."""
        if self.literal is not None:
            return name == self.literal
        first = self._first.match(name)
        if first is None:
            return False
        if not self._rest:
            return first.end() == len(name)
        at = first.end()
        for piece in self._rest[:-1]:
            piece_match = piece.search(name, at)
            if piece_match is None:
                return False
            at = piece_match.end()
        # The last piece has a fixed length, so it can only stand at one place.
        start = len(name) - self._length_of_last
        return start >= at and self._rest[-1].match(name, start) is not None


class Pattern:
    """One line in gitignore syntax.

    Attributes:
        is_negated: Whether it begins with `!`.
    """

    def __init__(self, line: str) -> None:
        """Parse a line.

        Raises:
            ValueError: It is no pattern, is too long, or has too many wildcards; a sentence says which.
        """
        if len(line) > MAX_LENGTH:
            raise ValueError(f"it has more than {MAX_LENGTH} characters")
        self.is_negated = line.startswith("!")
        text = _without_trailing_blanks(line[self.is_negated :])
        self._folders_only = text.endswith("/")
        names = text.rstrip("/").split("/") if self._folders_only else text.split("/")
        if not any(names):
            raise ValueError("it names nothing")
        # A slash anywhere but at the end anchors the pattern at the top; without one it holds at every level.
        if len(names) == 1:
            names.insert(0, _ANY_FOLDERS)
        elif not names[0]:
            del names[0]
        # `a/**` means all below `a`, which is one name more.
        if names[-1] == _ANY_FOLDERS:
            names.append("*")
        names = [
            name for at, name in enumerate(names) if name != _ANY_FOLDERS or names[at - 1 : at] != [name]
        ]
        if sum(map(_count_wildcards, names)) > MAX_WILDCARDS:
            raise ValueError(f"it has more than {MAX_WILDCARDS} wildcards")
        self._names = [None if name == _ANY_FOLDERS else NamePattern(name) for name in names]
        self._at_any_level = self._names[1] if len(names) == 2 and names[0] == _ANY_FOLDERS else None

    def reach(self, names: Sequence[str], *, is_folder: bool) -> Reach:
        """Return how the pattern concerns the path with these names."""
        if self._at_any_level is not None:
            return self._reach_at_any_level(self._at_any_level, names, is_folder=is_folder)
        last, reach = len(names) - 1, Reach.NONE
        for end in self._ends(names):
            if end < last:
                reach = max(reach, Reach.PARENT)
            elif is_folder or not self._folders_only:
                return Reach.ITSELF
        return reach

    def _reach_at_any_level(self, pattern: NamePattern, names: Sequence[str], *, is_folder: bool) -> Reach:
        if pattern.literal is not None and pattern.literal not in names:
            return Reach.NONE  # most lines are of this kind, and most paths have no such name
        if (is_folder or not self._folders_only) and pattern.matches(names[-1]):
            return Reach.ITSELF
        return Reach.PARENT if any(map(pattern.matches, names[:-1])) else Reach.NONE

    def _ends(self, names: Sequence[str]) -> Iterator[int]:
        """Yield the indexes of the names at which the pattern can end; all ways through it are followed at once."""
        states = self._with_skipped({0})
        for at, name in enumerate(names):
            following = set()
            for state in states:
                pattern = self._names[state]
                if pattern is None:
                    following.add(state)
                elif pattern.matches(name):
                    following.add(state + 1)
            if len(self._names) in following:
                yield at
                following.discard(len(self._names))
            if not following:
                return
            states = self._with_skipped(following)

    def _with_skipped(self, states: set[int]) -> set[int]:
        """Add the states behind each `**`, which may stand for no folder at all; none is the last of a pattern."""
        return states | {state + 1 for state in states if self._names[state] is None}


class PatternSet:
    """Lines in gitignore syntax. The last line that matches a path decides; without one, the last that matches a folder above."""

    def __init__(self, lines: Iterable[str]) -> None:
        """Parse lines; empty ones and comments match nothing.

        Raises:
            ValueError: One of them is no pattern, or there are too many.
        """
        numbered = [(index, line) for index, line in enumerate(lines) if line.strip() and line[0] != "#"]
        if len(numbered) > MAX_LINES:
            raise ValueError(f"there are more than {MAX_LINES} patterns")
        self._patterns = [(index, Pattern(line)) for index, line in reversed(numbered)]

    def decide(self, path: str) -> Decision | None:
        """Return which line decides about a path; None where no line concerns it.

        Args:
            path: A path below the source with `/` between names; that of a folder ends in `/`.
        """
        names, is_folder = path.rstrip("/").split("/"), path.endswith("/")
        by_parent = None
        for index, pattern in self._patterns:
            reach = pattern.reach(names, is_folder=is_folder)
            if reach is Reach.ITSELF:
                return Decision(index, not pattern.is_negated)
            if reach is Reach.PARENT and by_parent is None:
                by_parent = Decision(index, not pattern.is_negated)
        return by_parent

    def matches(self, path: str) -> bool:
        """Return whether the lines take a path in."""
        decision = self.decide(path)
        return decision is not None and decision.is_match


def check_pattern(value: str) -> str:
    """Return a pattern that can be used, for validators. Raises `ValueError` with a sentence for any other."""
    PatternSet([value])
    return value


def escape_pattern(path: str) -> str:
    """Return the pattern that matches one path below the source and nothing else."""
    return "/" + re.sub(r"([\\*?\[ ])", r"\\\1", path)


def _without_trailing_blanks(text: str) -> str:
    r"""Remove blanks at the end, but not one behind a backslash (gitignore(5))."""
    stripped = text.rstrip()
    backslashes = len(stripped) - len(stripped.rstrip("\\"))
    return stripped + text[len(stripped) : len(stripped) + 1] if backslashes % 2 else stripped


def _count_wildcards(text: str) -> int:
    singles = sum(source[0] in "?[" for _, source in _matchers(text))
    return len(_split_at_wildcards(text)) - 1 + singles


def _split_at_wildcards(text: str) -> list[str]:
    """Return the pieces of a name's pattern between its `*`; runs of `*` are one."""
    pieces = [""]
    for matcher, source in _matchers(text):
        if matcher == "*":
            if pieces[-1] or len(pieces) == 1:
                pieces.append("")
        else:
            pieces[-1] += source
    return pieces


def _matchers(text: str) -> Iterator[tuple[str, str]]:
    """Yield `*`, or a regular expression that matches one character, each with the part of the pattern that it stands for.

    Raises:
        ValueError: A bracket or a backslash is not complete.
    """
    at = 0
    while at < len(text):
        match text[at]:
            case "*":
                matcher, end = "*", at + 1
            case "?":
                matcher, end = ".", at + 1
            case "\\":
                if at + 1 == len(text):
                    raise ValueError("nothing follows its last backslash")
                matcher, end = re.escape(text[at + 1]), at + 2
            case "[":
                matcher, end = _bracket(text, at)
            case char:
                matcher, end = re.escape(char), at + 1
        yield matcher, text[at:end]
        at = end


def _bracket(text: str, start: int) -> tuple[str, int]:
    """Return the regular expression of a bracket such as `[!a-z]`, and the index behind it."""
    at = start + 1
    is_negated = text[at : at + 1] in ("!", "^")
    at += is_negated
    members: list[str] = []
    while True:
        if at >= len(text):
            raise ValueError("a bracket [ is not closed")
        if text[at] == "]" and members:
            break
        low, at = _member(text, at)
        if text[at : at + 1] == "-" and text[at + 1 : at + 2] not in ("", "]"):
            high, at = _member(text, at + 1)
            if high < low:
                raise ValueError(f"the range {low}-{high} in a bracket is the wrong way round")
            members.append(f"{re.escape(low)}-{re.escape(high)}")
        else:
            members.append(re.escape(low))
    return f"[{'^' if is_negated else ''}{''.join(members)}]", at + 1


def _member(text: str, at: int) -> tuple[str, int]:
    at += text[at] == "\\" and at + 1 < len(text)
    return text[at], at + 1

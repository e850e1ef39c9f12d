"""What a rewriting would change in a file: the edits, what is left alone and why, and both as a diff.

The diff is the unified one that `patch` and `git apply` take (POSIX.1-2024, diff, "Diff -u Output Format").
"""

from __future__ import annotations

import difflib
import hashlib
import re
from bisect import bisect_right
from collections.abc import Collection, Iterable, Iterator, Sequence
from dataclasses import dataclass
from enum import StrEnum
from functools import lru_cache
from itertools import accumulate
from typing import NamedTuple

_CONTEXT = 3
_LONGEST_SHOWN = 10_000
_AROUND = 200
"""Characters. Where the lines of a change are longer than the first, the second is shown on each side of it."""
_MOST_COMPARED = 250_000
"""Old times new lines of one block that are compared line by line; a larger block is replaced whole."""


class Mode(StrEnum):
    """How much is changed."""

    PICTURE = "picture"
    """`img` becomes `picture`, backgrounds become `image-set()`."""
    ADDRESSES = "addresses"
    """Only addresses change: to a rendition in the original's own kind of format."""
    SIZES = "sizes"
    """Only what keeps the layout still and the first view quick: width, height, loading."""


class Edit(NamedTuple):
    """One replacement: characters `start` to `end` of the old text become `new`."""

    start: int
    end: int
    new: str


class ReferenceChange(NamedTuple):
    """What belongs together, to be taken or left as one.

    Attributes:
        key: Names it wherever the file is read again.
        original: The path of the original.
        edits: The edits, in order.
        art_up_to: The width in CSS pixels of the widest viewport in which the recipe shows another cut of the original; 0 for none.
    """

    key: str
    original: str
    edits: tuple[Edit, ...]
    art_up_to: int = 0

    @property
    def start(self) -> int:
        """Where it begins in the old text."""
        return self.edits[0].start

    @property
    def end(self) -> int:
        """Where it ends in the old text."""
        return self.edits[-1].end


class Concern(StrEnum):
    """What a remark means for the person who reads it."""

    REVIEW = "review"
    """It is changed, and deserves a look."""
    BY_HAND = "by-hand"
    """It is left alone, and worth doing by hand."""
    BROKEN = "broken"
    """The page loads a file that does not exist, or that will be removed."""
    HARMLESS = "harmless"
    """It is left alone, and should be."""


class WrittenSize(NamedTuple):
    """The size that a rewriting gave an image, so that a later one can tell it from the author's own.

    Attributes:
        original: The original that the image shows.
        width: The value of `width` then.
        height: The value of `height` then.
        sides: The attributes that were added.
    """

    original: str
    width: int
    height: int
    sides: tuple[str, ...]


class SkippedReference(NamedTuple):
    """Something that a person should know of.

    Attributes:
        line: The line, counted from 1; 0 for the whole file.
        url: The address, or the selector.
        why: The reason.
        concern: What it means.
    """

    line: int
    url: str
    why: str
    concern: Concern = Concern.BY_HAND


@dataclass(frozen=True, slots=True)
class Rewriting:
    """All that a rewriting would do to one file.

    Attributes:
        text: The text as it is.
        changes: What would change.
        left: What is left alone, or deserves a look.
        styles: The styles that its images have by class; the stylesheet of the site must have them.
        sizes: The sizes that its images get.
    """

    text: str
    changes: tuple[ReferenceChange, ...]
    left: tuple[SkippedReference, ...]
    styles: frozenset[str] = frozenset()
    sizes: tuple[WrittenSize, ...] = ()

    def applied(self, keys: Collection[str] | None = None, more: Iterable[Edit] = ()) -> str:
        """Return the text with changes made.

        Args:
            keys: The changes; None for all.
            more: Other edits, which touch none of those of the changes.
        """
        return _applied(self.text, _in_order([*_edits(self.changes, keys), *more]))


def change(text: str, original: str, edits: Sequence[Edit], seen: dict[str, int]) -> ReferenceChange | None:
    """Return edits as one change, None where they change nothing. `seen` counts equal ones in a file."""
    real = tuple(sorted(edit for edit in edits if text[edit.start : edit.end] != edit.new))
    if not real:
        return None
    digest_input = "\0".join(f"{text[edit.start : edit.end]}\0{edit.new}" for edit in real)
    number = seen[digest_input] = seen.get(digest_input, 0) + 1
    key = hashlib.sha256(f"{number}\0{digest_input}".encode("utf-8", "surrogatepass")).hexdigest()[:12]
    return ReferenceChange(key, original, real)


def _edits(changes: Sequence[ReferenceChange], keys: Collection[str] | None) -> list[Edit]:
    return _in_order(
        edit for change in changes if keys is None or change.key in keys for edit in change.edits
    )


def _in_order(edits: Iterable[Edit]) -> list[Edit]:
    """Return edits in the order of the text: one change may lie within another. Of several at one place, the order stays."""
    return sorted(edits, key=lambda edit: edit.start)


def _applied(text: str, edits: Sequence[Edit]) -> str:
    parts, at = [], 0
    for edit in edits:
        parts += [text[at : edit.start], edit.new]
        at = edit.end
    return "".join([*parts, text[at:]])


class DiffLine(NamedTuple):
    """One line of a diff: its sign (space, - or +) and its text with its own line end."""

    sign: str
    text: str


class Hunk(NamedTuple):
    """A stretch of a diff: where it begins in the old and in the new text, counted from 1, and its lines."""

    old: int
    new: int
    lines: tuple[DiffLine, ...]

    @property
    def header(self) -> str:
        """The line that says where it belongs."""
        before = sum(line.sign != "+" for line in self.lines)
        after = sum(line.sign != "-" for line in self.lines)
        return f"@@ -{self.old if before else self.old - 1},{before} +{self.new if after else self.new - 1},{after} @@"


def hunks(rewriting: Rewriting, keys: Collection[str] | None = None) -> list[Hunk]:
    """Return the diff of those changes; only the lines that they touch are compared."""
    return _hunks(rewriting.text, _edits(rewriting.changes, keys))


def change_hunks(rewriting: Rewriting, change: ReferenceChange) -> list[Hunk]:
    """Return the diff of one change to show to a person, at a cost that does not grow with the number of the others.

    Of a line that is longer than anybody reads, a page without line breaks, only the surroundings of the change are shown.
    """
    text = rewriting.text
    first, last = (line_number(text, offset) - 1 for offset in (change.start, change.end))
    lines, starts = _lines(text)
    if starts[min(last + 1, len(lines))] - starts[first] <= _LONGEST_SHOWN:
        return _hunks(text, change.edits)
    begin = max(starts[first], change.start - _AROUND)
    end = min(starts[min(last + 1, len(lines))], change.end + _AROUND)
    shift = begin - 1
    edits = [Edit(edit.start - shift, edit.end - shift, edit.new) for edit in change.edits]
    excerpt = f"…{text[begin:end].rstrip()}…\n"
    return [hunk._replace(old=first + 1, new=first + 1) for hunk in _hunks(excerpt, edits)]


class _LineTable(NamedTuple):
    """A text in lines with their line ends, and where each begins."""

    lines: list[str]
    starts: list[int]


@lru_cache(maxsize=4)
def _lines(text: str) -> _LineTable:
    lines = text.split("\n")
    lines = [line + "\n" for line in lines[:-1]] + ([lines[-1]] if lines[-1] else [])
    return _LineTable(lines, [0, *accumulate(len(line) for line in lines)])


def line_number(text: str, at: int) -> int:
    """Return the line of a place in a text, from 1. A text is split once, however many places are asked for."""
    return min(bisect_right(_lines(text).starts, at), text_lines(text))


def text_lines(text: str) -> int:
    """Return the number of lines of a text, as an editor shows it: an empty one follows a line end."""
    lines = _lines(text).lines
    return len(lines) + (not lines or lines[-1].endswith("\n"))


def _hunks(text: str, edits: Iterable[Edit]) -> list[Hunk]:
    lines, starts = _lines(text)
    blocks: list[tuple[int, int, list[Edit]]] = []
    for edit in edits:
        # What is put in behind the last character belongs to the last line.
        first, last = (
            min(bisect_right(starts, offset), len(lines)) - 1
            for offset in (edit.start, max(edit.start, edit.end - 1))
        )
        if blocks and first < blocks[-1][1]:
            begin, after, shifted = blocks[-1]
            shifted.append(edit)
            blocks[-1] = (begin, max(after, last + 1), shifted)
        else:
            blocks.append((first, last + 1, [edit]))
    return list(_grouped(lines, starts, blocks))


def _grouped(
    lines: Sequence[str], starts: Sequence[int], blocks: Sequence[tuple[int, int, list[Edit]]]
) -> Iterator[Hunk]:
    moved = at = 0
    while at < len(blocks):
        end = at + 1
        while end < len(blocks) and blocks[end][0] - blocks[end - 1][1] <= 2 * _CONTEXT:
            end += 1
        first = max(0, blocks[at][0] - _CONTEXT)
        hunk_lines, line_number = [], first
        for begin, after, edits in blocks[at:end]:
            hunk_lines += [DiffLine(" ", line) for line in lines[line_number:begin]]
            shift = starts[begin]
            shifted = [Edit(edit.start - shift, edit.end - shift, edit.new) for edit in edits]
            hunk_lines += _compared(lines[begin:after], _applied("".join(lines[begin:after]), shifted))
            line_number = after
        hunk_lines += [DiffLine(" ", line) for line in lines[line_number : line_number + _CONTEXT]]
        yield Hunk(first + 1, first + 1 + moved, tuple(hunk_lines))
        moved += sum(line.sign == "+" for line in hunk_lines) - sum(line.sign == "-" for line in hunk_lines)
        at = end


def _compared(old: Sequence[str], text: str) -> Iterator[DiffLine]:
    new = [line for line in re.split(r"(?<=\n)", text) if line]
    if len(old) * len(new) > _MOST_COMPARED:  # the comparison takes the product of both in the worst case
        yield from (DiffLine("-", line) for line in old)
        yield from (DiffLine("+", line) for line in new)
        return
    for tag, a, b, c, d in difflib.SequenceMatcher(None, old, new, autojunk=False).get_opcodes():
        if tag == "equal":
            yield from (DiffLine(" ", line) for line in old[a:b])
        else:
            yield from (DiffLine("-", line) for line in old[a:b])
            yield from (DiffLine("+", line) for line in new[c:d])


def patch(path: str, hunks: Sequence[Hunk], *, is_new: bool = False) -> str:
    """Return a file's part of a patch; empty without hunks.

    Args:
        path: The path of the file.
        hunks: What changes.
        is_new: Whether the file is new.
    """
    if not hunks:
        return ""
    parts = [f"diff --git {_named('a/' + path)} {_named('b/' + path)}\n"]
    # A name with a space ends in a tab, so that it is not taken for a name and a date.
    after = "\t" if " " in path and _named("a/" + path)[0] != '"' else ""
    if is_new:
        parts.append("new file mode 100644\n")
    before_name = "/dev/null" if is_new else f"{_named('a/' + path)}{after}"
    parts += [f"--- {before_name}\n", f"+++ {_named('b/' + path)}{after}\n"]
    for hunk in hunks:
        parts.append(hunk.header + "\n")
        for line in hunk.lines:
            parts.append(line.sign + line.text)
            if not line.text.endswith("\n"):
                parts.append("\n\\ No newline at end of file\n")
    return "".join(parts)


def _named(path: str) -> str:
    """Return a name as git writes it: in quotes with octal escapes where it has anything but plain characters."""
    raw = path.encode("utf-8", "surrogateescape")
    if all(0x20 <= byte < 0x7F and byte not in b'"\\' for byte in raw):
        return path
    signs = {0x22: '\\"', 0x5C: "\\\\", 0x09: "\\t", 0x0A: "\\n", 0x0D: "\\r"}
    inner = "".join(
        signs.get(byte) or (chr(byte) if 0x20 <= byte < 0x7F else f"\\{byte:03o}") for byte in raw
    )
    return f'"{inner}"'

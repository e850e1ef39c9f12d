"""A manifest as text, of which single entries are read and replaced: one of ten thousand costs that one.

It leans on how `Manifest.as_json` writes: each entry of `originals` on lines of its own, indented by two spaces. A string in
JSON has no line break in it, so that nothing else can look like the line between two entries.
"""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass

from young_prism.core.manifest.model import Manifest, OriginalEntry

_NO_ORIGINALS = b'\n "originals": [],\n'
_OPEN = b'\n "originals": [\n  {\n'
_BETWEEN = b"\n  },\n  {\n"
_CLOSE = b"\n  }\n ],\n"


@dataclass(frozen=True, slots=True)
class ManifestText:
    """A manifest taken apart: `frame` is all but its originals, `entries` are their texts in its order."""

    frame: Manifest
    entries: tuple[bytes, ...]

    @classmethod
    def from_json(cls, data: bytes) -> ManifestText:
        """Take apart what `as_json` wrote. Raises `ValueError` for anything else."""
        start = data.find(_OPEN)
        if start < 0:
            return cls(Manifest.model_validate_json(data), ())
        end = data.find(_CLOSE, start)
        if end < 0:
            raise ValueError("its originals have no end")
        frame = data[:start] + _NO_ORIGINALS + data[end + len(_CLOSE) :]
        entries = data[start + len(_OPEN) : end].split(_BETWEEN)
        return cls(Manifest.model_validate_json(frame), tuple(entries))

    def as_json(self) -> bytes:
        """Return the file's text: that of the whole manifest."""
        frame = self.frame.as_json().encode()
        if not self.entries:
            return frame
        before, _, after = frame.partition(_NO_ORIGINALS)
        return b"".join((before, _OPEN, _BETWEEN.join(self.entries), _CLOSE, after))


def entry_text(entry: OriginalEntry) -> bytes:
    """Return an original's entry as it stands in a manifest's text."""
    lines = entry.model_dump_json(indent=1, exclude_none=True).encode().split(b"\n")
    return b"\n".join(b"  " + line for line in lines[1:-1])


def read_entry(text: bytes) -> OriginalEntry:
    """Return the entry that a text says. Raises `ValueError`."""
    return OriginalEntry.model_validate_json(b"{" + text + b"}")


def entry_texts(entries: Iterable[OriginalEntry]) -> dict[str, bytes]:
    """Return the texts of several entries, by the original's path."""
    return {entry.path: entry_text(entry) for entry in entries}

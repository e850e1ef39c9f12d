"""The log of a run: one line for each file, with time, outcome, bytes and reason, as text or as JSON lines."""

from __future__ import annotations

import json
from collections.abc import Iterable
from datetime import datetime
from enum import StrEnum
from typing import NamedTuple


class LogFormat(StrEnum):
    """How a log is written."""

    TEXT = "text"
    """Columns with tabs between them."""
    JSON_LINES = "jsonl"
    """One JSON object for each line (jsonlines.org)."""


class LogLine(NamedTuple):
    """One file of a run.

    Attributes:
        time: When it was done; None where that is not known.
        outcome: Its outcome.
        original: The path of the original.
        file: The path of the file; empty where the original as a whole failed or was skipped.
        bytes: The bytes of the file; 0 for none.
        reason: Why it is as it is.
        remedy: What to do about a failure; empty for none.
    """

    time: datetime | None
    outcome: str
    original: str
    file: str
    bytes: int
    reason: str
    remedy: str

    def written(self, fmt: LogFormat) -> str:
        """Return the line without its end."""
        time = self.time.isoformat(timespec="milliseconds") if self.time else ""
        if fmt is LogFormat.JSON_LINES:
            return json.dumps({**self._asdict(), "time": time or None}, ensure_ascii=False)
        text = f"{self.reason} {self.remedy}".strip()
        return "\t".join(
            map(
                _printable,
                (time or "-", self.outcome, str(self.bytes), self.original, self.file or "-", text),
            )
        )


def log_text(lines: Iterable[LogLine], fmt: LogFormat) -> str:
    """Return a whole log."""
    return "".join(f"{line.written(fmt)}\n" for line in lines)


def _printable(text: str) -> str:
    """Return a text with control characters spelt out, so that a name can neither end a line nor begin a column."""
    return "".join(char if char.isprintable() else char.encode("unicode_escape").decode() for char in text)

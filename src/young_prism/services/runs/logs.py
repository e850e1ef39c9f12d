"""Logs of runs: written while a build runs, or from the record of a run."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from datetime import UTC, datetime
from pathlib import Path
from typing import TYPE_CHECKING, Self

from young_prism.core.errors import OutputError
from young_prism.core.plan.model import SkippedOriginal
from young_prism.core.report.run_log import LogFormat, LogLine
from young_prism.core.types import Outcome
from young_prism.engine.events import Event, OriginalDone, PlanReady, ReusedUnchanged
from young_prism.messages.output import log_not_writable

if TYPE_CHECKING:
    from young_prism.store.records import RunItem


def lines_of_items(items: Iterable[RunItem]) -> Iterator[LogLine]:
    """Yield the lines of a recorded run."""
    for item in items:
        time = item.done_at.replace(tzinfo=UTC) if item.done_at else None
        yield LogLine(time, item.outcome, item.original, item.path, item.bytes, item.reason, item.remedy)


def format_of_log(file: Path) -> LogFormat:
    """Return the format of a log by the ending of its file."""
    return LogFormat.JSON_LINES if file.suffix in (".jsonl", ".ndjson", ".json") else LogFormat.TEXT


class RunLogWriter:
    """Writes the log of a build while it runs. It is called with the events of the build."""

    def __init__(self, file: Path) -> None:
        """Open the file; an older log in it is replaced. Raises `OutputError`."""
        self._format = format_of_log(file)
        try:
            self._file = file.open("w", encoding="utf-8", errors="surrogateescape")
        except OSError as error:
            raise OutputError.of(log_not_writable(error.strerror), file=str(file)) from error

    def __enter__(self) -> Self:
        return self

    def __exit__(self, *_: object) -> None:
        self._file.close()

    def __call__(self, event: Event) -> None:
        """Write the lines of an event."""
        for line in _lines_of(event, datetime.now(UTC)):
            self._file.write(f"{line.written(self._format)}\n")
        self._file.flush()


def _lines_of(event: Event, now: datetime) -> Iterator[LogLine]:
    match event:
        case PlanReady():
            yield from (_left_out_line(left, now) for left in event.plan.left_out)
        case OriginalDone():
            for item in event.items:
                yield LogLine(
                    now, item.outcome.value, event.original, item.path, item.bytes, item.reason, item.remedy
                )
            if event.failure and not event.items:
                yield _left_out_line(event.failure, now)
        case ReusedUnchanged():
            yield from (_left_out_line(left, now) for left in event.left_out)
            reason = f"{event.renditions:,} renditions of {event.originals:,} originals are unchanged"
            yield LogLine(now, Outcome.REUSED.value, "", "", event.bytes_renditions, reason, "")


def _left_out_line(left: SkippedOriginal, now: datetime) -> LogLine:
    outcome = Outcome.FAILED if left.failed else Outcome.SKIPPED
    return LogLine(now, outcome.value, left.path, left.rendition, 0, left.error, left.remedy)

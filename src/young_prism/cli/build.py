"""`young-prism build`: make all renditions that are not there yet."""

from __future__ import annotations

import os
import signal
import threading
from typing import Any, Self

import click

from young_prism.cli.common import (
    BuildOptions,
    build_options,
    on_terminal,
    print_failures,
    print_json,
    print_remarks,
    printable,
    say,
)
from young_prism.core.report.figures import count, format_bytes, format_duration, format_saving
from young_prism.core.values import Outcome
from young_prism.engine.build import BuildResult, With
from young_prism.engine.build import build as run_build
from young_prism.engine.events import Event, Looked, OriginalDone, Planned


@click.command()
@build_options
@click.option("--verify/--no-verify", default=True, show_default=True, help="Read back what was made.")
@click.pass_context
def build(ctx: click.Context, *, options: BuildOptions, verify: bool) -> None:
    """Make every rendition of a folder that is not there yet."""
    stop = threading.Event()
    previous = signal.signal(signal.SIGINT, lambda *_: _stop(stop))
    progress = _Bar() if on_terminal() else _Lines()
    try:
        with progress:
            result = run_build(
                options.source,
                options.out,
                options.recipe,
                using=With(jobs=options.jobs, verify=verify),
                listen=progress,
                scope=options.scope,
                details=options.details,
                marks=options.marks,
                stopped=stop.is_set,
            )
    finally:
        signal.signal(signal.SIGINT, previous)
    _report(result)
    if options.as_json:
        print_json(result.as_dict())
    if result.stopped:
        say("Stopped. What is done is kept; the same command goes on from here.")
        ctx.exit(130)
    ctx.exit(1 if result.outcomes[Outcome.FAILED] else 0)


def _stop(stop: threading.Event) -> None:
    if stop.is_set():
        raise KeyboardInterrupt
    stop.set()
    # Not `say`: the signal may come in the middle of a line that is just being printed, and buffers are not re-entrant.
    os.write(2, "Stopping after what is under way (Ctrl-C again stops at once) …\n".encode())


def _report(result: BuildResult) -> None:
    print_remarks(result.warnings, result.notes)
    print_failures(result.skipped, "Left out")
    print_failures(result.failures, "Failed")
    outcomes = " · ".join(f"{outcome.value} {result.outcomes[outcome]}" for outcome in Outcome)
    say(
        f"{count(result.originals, 'original')} → {count(result.renditions, 'rendition')}"
        f" in {format_duration(result.seconds)}: {outcomes}"
    )
    before, after = result.bytes_originals, result.bytes_renditions
    say(
        f"{format_bytes(before)} of originals → {format_bytes(after)} in all sizes and formats"
        f" ({format_saving(before, after)})"
    )
    if not result.stopped:
        say(f"Manifest: {result.manifest}")


class _Lines:
    """Progress as plain lines, for logs: one an original."""

    def __init__(self) -> None:
        self.total = 0
        self.done = 0

    def __enter__(self) -> Self:
        return self

    def __exit__(self, *_: object) -> None:
        pass

    def __call__(self, event: Event) -> None:
        match event:
            case Looked(done, total) if done == total:
                say(f"Looked at {count(total, 'original')}")
            case Planned(plan):
                self.total = event.originals
                say(f"Planned {count(plan.renditions, 'rendition')} of {count(self.total, 'original')}")
            case OriginalDone(original=original, items=items):
                self.done += 1
                if not all(item.outcome is Outcome.REUSED for item in items):
                    say(f"[{self.done}/{self.total}] {printable(original)}: {_outcomes(event)}")
            case _:
                pass


def _outcomes(event: OriginalDone) -> str:
    numbers = {outcome: sum(item.outcome is outcome for item in event.items) for outcome in Outcome}
    delivered = sum(
        item.bytes for item in event.items if item.outcome not in (Outcome.SKIPPED, Outcome.FAILED)
    )
    said = ", ".join(f"{number} {outcome.value}" for outcome, number in numbers.items() if number)
    return f"{said}; {format_bytes(event.bytes)} → {format_bytes(delivered)}"


class _Bar:
    """Progress as a bar that measures work, not files."""

    def __init__(self) -> None:
        from rich.console import Console
        from rich.progress import BarColumn, Progress, TextColumn, TimeRemainingColumn

        self._bar = Progress(
            TextColumn("{task.description}"),
            BarColumn(),
            TextColumn("{task.percentage:>3.0f} %"),
            TextColumn("{task.fields[done]}"),
            TimeRemainingColumn(),
            console=Console(stderr=True),
            transient=True,
        )
        self._task = self._bar.add_task("Looking", total=None, done="")
        self._done = self._total = self._failed = 0

    def __enter__(self) -> Self:
        self._bar.start()
        return self

    def __exit__(self, *_: object) -> None:
        self._bar.stop()

    def __call__(self, event: Event) -> None:
        match event:
            case Looked(done, total):
                self._update(completed=done, total=total, done=f"{done} of {total} originals")
            case Planned(_, _, work, total):
                self._total = total
                self._update(description="Making", completed=0, total=work or None, done="")
            case OriginalDone(items=items, work=work):
                self._done += 1
                self._failed += any(item.outcome is Outcome.FAILED for item in items)
                failed = f" · {self._failed} failed" if self._failed else ""
                self._update(advance=work, done=f"{self._done} of {self._total} originals{failed}")

    def _update(self, **fields: Any) -> None:
        self._bar.update(self._task, **fields)

"""`young-prism build`: make all missing renditions."""

from __future__ import annotations

import os
import signal
import threading
from collections import Counter
from collections.abc import Callable, Mapping, Sequence
from contextlib import AbstractContextManager, nullcontext
from dataclasses import replace
from datetime import UTC, datetime
from pathlib import Path
from typing import TYPE_CHECKING, Any, Self

import click

from young_prism.cli.common import (
    FOLDER,
    MOST_SKIPPED,
    PATTERN,
    BuildCommandOptions,
    build_options,
    data_folder,
    data_option,
    keep_option,
    memory_option,
    on_terminal,
    print_failures,
    print_json,
    print_remarks,
    printable,
    say,
)
from young_prism.cli.verb import Verb
from young_prism.core.errors import YoungPrismError
from young_prism.core.plan.model import SkippedOriginal
from young_prism.core.plan.resolve import matches
from young_prism.core.recipe.toml import write_recipe
from young_prism.core.report.formatting import (
    count,
    format_bytes,
    format_duration,
    format_saving,
)
from young_prism.core.report.summary import PHONE, Viewport
from young_prism.core.types import Outcome
from young_prism.engine.build.options import BuildOptions
from young_prism.engine.build.outcome import BuildOutcome
from young_prism.engine.build.pipeline import build as run_build
from young_prism.engine.build.request import PathFilter
from young_prism.engine.events import (
    Event,
    Halted,
    Heartbeat,
    OriginalDone,
    OriginalInspected,
    PlanReady,
    ReusedUnchanged,
    WorkerProgress,
    ignore_event,
)
from young_prism.engine.output.cache import Cache
from young_prism.engine.versions import versions
from young_prism.engine.workers.environment import tune_gc
from young_prism.messages.builds import worker_ended
from young_prism.services.runs.figures import RunFigures
from young_prism.services.runs.logs import RunLogWriter

if TYPE_CHECKING:
    from young_prism.engine.workers.protocol import Workers
    from young_prism.services.runs.command import RecordedCommandRun


@click.command(
    cls=Verb,
    short_help="Create missing renditions.",
    example="young-prism build --source images --out public/pictures --recipe recipe.toml --report report.html",
)
@build_options
@click.option(
    "--verify/--no-verify", default=True, show_default=True, help="Read back each rendition after writing."
)
@click.option("--only", multiple=True, type=PATTERN, help="Build only matching originals. Repeatable.")
@memory_option
@click.option(
    "--cache",
    "cache_folder",
    type=FOLDER,
    envvar="YOUNG_PRISM_CACHE",
    help="Cache shared by several output folders; safe to delete. Also YOUNG_PRISM_CACHE.",
)
@click.option(
    "--cache-mb",
    type=click.IntRange(1),
    default=2000,
    show_default=True,
    help="Size limit of the cache in MB.",
)
@click.option("--cluster", metavar="ADDRESS", help="Dask scheduler whose workers create the renditions.")
@click.option("--report", "report_file", type=FOLDER, help="Write the report as one HTML file.")
@click.option(
    "--log",
    "log_file",
    type=FOLDER,
    help="Write one line for each file: text, or JSON lines if the name ends in .jsonl.",
)
@keep_option
@data_option
@click.option("--record/--no-record", default=True, show_default=True, help="Record the run in the history.")
@click.pass_context
def build(
    ctx: click.Context,
    *,
    options: BuildCommandOptions,
    verify: bool,
    only: tuple[str, ...],
    memory_mb: int | None,
    cache_folder: Path | None,
    cache_mb: int,
    cluster: str | None,
    report_file: Path | None,
    log_file: Path | None,
    keep_folder: Path | None,
    data: Path | None,
    record: bool,
) -> None:
    """Create the missing renditions of a folder, or of one original."""
    using = BuildOptions(
        jobs=options.jobs,
        memory=memory_mb * 1_000_000 if memory_mb else None,
        verify=verify,
        cache=Cache(cache_folder, cache_mb * 1_000_000) if cache_folder else None,
        cluster=_cluster(cluster) if cluster else None,
        backup=keep_folder,
    )
    tune_gc()
    stop = threading.Event()
    previous = signal.signal(signal.SIGINT, lambda *_: _stop(stop))
    try:
        with (
            RunLogWriter(log_file) if log_file else nullcontext(ignore_event) as write_log,
            _BuildObservers(options, data if record else None, verify=verify, record=record) as observers,
        ):

            def is_cancelled() -> bool:
                return stop.is_set() or observers.is_stop_requested

            def on_event(event: Event) -> None:
                write_log(event)
                observers(event)

            request = options.request(only=_path_filter(only, options.single))
            result = run_build(request, replace(using, is_cancelled=is_cancelled), on_event)
            observers.finish(result)
    finally:
        signal.signal(signal.SIGINT, previous)
    _report(result, observers.summary)
    if report_file:
        observers.write_report(report_file, result)
    if options.as_json:
        print_json(result.as_dict())
    if result.stopped:
        say("Stopped. Finished renditions are kept; repeat the command to continue.")
        ctx.exit(130)
    ctx.exit(1 if result.outcomes[Outcome.FAILED] else 0)


def _path_filter(patterns: tuple[str, ...], single: str) -> PathFilter | None:
    """Return which originals are built now: those that match a pattern, and the one that was given as the source."""
    if single:
        return lambda path: path == single
    return (lambda path: any(matches(pattern, path) for pattern in patterns)) if patterns else None


def _cluster(address: str) -> Callable[[], AbstractContextManager[Workers]]:
    from young_prism.engine.workers.dask import cluster_at

    return cluster_at(address)


class _BuildObservers:
    """Observers of a build: progress on the terminal, the history, and the report."""

    def __init__(
        self, options: BuildCommandOptions, data: Path | None, *, verify: bool, record: bool
    ) -> None:
        self._options = options
        self._progress = _ProgressBar() if on_terminal() else _LogProgress(single=options.single)
        self._verify = verify
        self._figures = RunFigures(options.recipe, verify=verify)
        self._began = datetime.now(UTC)
        self._run: RecordedCommandRun | None = None
        self._data = data_folder(data)
        self._record = record

    def __enter__(self) -> Self:
        if self._record:
            from young_prism.services.runs.command import RecordedCommandRun

            options = self._options
            self._run = RecordedCommandRun(
                self._data, options.source, options.out, options.recipe, verify=self._verify
            )
            if self._run.problem:
                say(f"Note: {self._run.problem}")
        self._progress.__enter__()
        return self

    def __exit__(self, _kind: object, error: BaseException | None, _trace: object) -> None:
        self._progress.__exit__()
        if self._run:
            if error is not None and self._run.recorder:
                self._run.recorder.failed(_to_our_error(error))
            self._run.close()

    @property
    def is_stop_requested(self) -> bool:
        """Whether it was stopped from the pages."""
        return bool(self._run and self._run.recorder and self._run.recorder.requested_stop)

    def __call__(self, event: Event) -> None:
        self._progress(event)
        if self._run and self._run.recorder:
            self._run.recorder(event)
        elif isinstance(event, PlanReady):
            self._figures.planned(event)
        elif isinstance(event, ReusedUnchanged):
            self._figures.unchanged(event)
        elif isinstance(event, OriginalDone):
            self._figures.done(event)

    def finish(self, result: BuildOutcome) -> None:
        """Write down the end."""
        if self._run and self._run.recorder:
            self._run.recorder.finish(result)

    @property
    def summary(self) -> dict[str, Any]:
        """The figures of the run as plain data."""
        run = self._run.recorder if self._run else None
        return run.report if run else self._figures.summary.as_dict()

    def write_report(self, file: Path, result: BuildOutcome) -> None:
        """Write the report as one HTML file. Raises `OutputError`."""
        from young_prism.engine.output.atomic import write_atomically
        from young_prism.reports.run_report import ReportPage, render_report

        run = self._run.recorder if self._run else None
        figures = run.figures if run else self._figures
        report = ReportPage(
            title=self._options.source.resolve().name,
            origin="command",
            started=self._began,
            seconds=result.seconds,
            state="stopped" if result.stopped else "done",
            recipe=write_recipe(self._options.recipe),
            versions=versions(),
            outcomes=figures.outcomes,
            report=self.summary,
            failures=[(skipped.path, skipped.error, skipped.remedy) for skipped in result.failures],
            skipped=list(
                dict.fromkeys((skipped.path, skipped.error, skipped.remedy) for skipped in result.skipped)
            ),
            before=self._run.report_before() if self._run else None,
        )
        write_atomically(file, render_report(report).encode())


def _to_our_error(error: BaseException) -> YoungPrismError:
    """Say what ended a build, as one of our errors."""
    if isinstance(error, YoungPrismError):
        return error
    return YoungPrismError.of(worker_ended(type(error).__name__))


def _stop(stop: threading.Event) -> None:
    if stop.is_set():
        raise KeyboardInterrupt
    stop.set()
    # Not `say`: the signal may come in the middle of a line that is just being printed, and buffers are not re-entrant.
    os.write(2, "Stopping after what is under way (Ctrl-C again stops at once) …\n".encode())


def _report(result: BuildOutcome, summary: Mapping[str, Any]) -> None:
    print_remarks(result.warnings, result.notes)
    print_failures(
        [skipped for skipped in result.skipped if not skipped.rendition], "Skipped", most=MOST_SKIPPED
    )
    print_failures(result.failures, "Failed")
    say(_visitor_line(summary))
    outcomes = " · ".join(f"{outcome.value} {result.outcomes[outcome]}" for outcome in Outcome)
    say(
        f"{count(result.originals, 'original')} → {count(result.renditions, 'rendition')}"
        f" in {format_duration(result.seconds)}: {outcomes}"
    )
    left_out = [skipped for skipped in result.skipped if skipped.rendition]
    if left_out:
        say(_left_out_line(left_out))
    say(
        f"Disk space of all sizes and formats: {format_bytes(result.bytes_renditions)}; originals have {format_bytes(result.bytes_originals)}"
    )
    if not result.stopped:
        say(f"Manifest: {result.manifest}")


def _visitor_line(summary: Mapping[str, Any]) -> str:
    """Say what a visitor who opens all images fetches, before and after."""
    before, views = summary["before"], summary["views"]
    phone = views[PHONE.key]
    screen = views[Viewport(1280, 1).key]
    return (
        f"A phone that opens all images fetches {format_bytes(phone)} instead of {format_bytes(before)} "
        f"({format_saving(before, phone)}); a screen of 1280 px fetches {format_bytes(screen)}"
    )


def _left_out_line(left_out: Sequence[SkippedOriginal]) -> str:
    """Say in one sentence what was tried and not delivered, and why."""
    endings = Counter(skipped.rendition.rpartition(".")[2].upper() for skipped in left_out)
    files = ", ".join(f"{number} {ending}" for ending, number in endings.most_common())
    originals = count(len({skipped.path for skipped in left_out}), "original")
    return (
        f"Not delivered: {files} of {originals}, since a format that more browsers show needs no more bytes"
    )


class _LogProgress:
    """Progress as plain lines, for logs: one an original. `single` is the only original that is built; empty for all."""

    def __init__(self, single: str = "") -> None:
        self.single = single
        self.total = 0
        self.done = 0

    def __enter__(self) -> Self:
        return self

    def __exit__(self, *_: object) -> None:
        pass

    def __call__(self, event: Event) -> None:
        match event:
            case OriginalInspected(done, total) if done == total:
                # The others in its folder are inspected too, since names must not collide; nobody asked for them.
                say(f"Inspected {self.single}" if self.single else f"Inspected {count(total, 'original')}")
            case PlanReady(originals=originals, renditions=renditions):
                self.total = originals
                say(f"Planned {count(renditions, 'rendition')} of {count(originals, 'original')}")
            case OriginalDone(original=original, items=items):
                self.done += 1
                if event.work or any(i.outcome not in (Outcome.REUSED, Outcome.SKIPPED) for i in items):
                    say(f"[{self.done}/{self.total}] {printable(original)}: {_outcomes(event)}")
            case ReusedUnchanged(originals, renditions):
                counts = f"{count(renditions, 'rendition')} of {count(originals, 'original')}"
                say(f"Nothing has changed: {counts} exist" if event.all else f"Unchanged: {counts}")
            case Halted(why):
                say(why or "The run continues.")
            case _:
                pass


def _outcomes(event: OriginalDone) -> str:
    numbers = {outcome: sum(item.outcome is outcome for item in event.items) for outcome in Outcome}
    delivered = sum(
        item.bytes for item in event.items if item.outcome not in (Outcome.SKIPPED, Outcome.FAILED)
    )
    text = ", ".join(f"{number} {outcome.value}" for outcome, number in numbers.items() if number)
    return f"{text}; {format_bytes(event.bytes)} → {format_bytes(delivered)}"


class _ProgressBar:
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
            case OriginalInspected(done, total):
                self._update(completed=done, total=total, done=f"{done} of {total} originals")
            case PlanReady(work=work, originals=total):
                self._total = total
                self._update(description="Making", completed=0, total=work or None, done="")
            case Halted(why):
                self._update(done=why)
            case WorkerProgress() | Heartbeat() | ReusedUnchanged():
                pass
            case OriginalDone(items=items, work=work):
                self._done += 1
                self._failed += any(item.outcome is Outcome.FAILED for item in items)
                failed = f" · {self._failed} failed" if self._failed else ""
                self._update(advance=work, done=f"{self._done} of {self._total} originals{failed}")

    def _update(self, **fields: Any) -> None:
        self._bar.update(self._task, **fields)

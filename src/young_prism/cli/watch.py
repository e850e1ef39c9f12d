"""`young-prism watch`: a folder in which files appear, and their renditions within seconds."""

from __future__ import annotations

import signal
import threading
from pathlib import Path

import click

from young_prism.cli.common import (
    FOLDER,
    BuildCommandOptions,
    build_options,
    data_folder,
    data_option,
    printable,
    say,
)
from young_prism.cli.verb import Verb
from young_prism.core.report.formatting import count
from young_prism.core.types import Outcome
from young_prism.engine.build.options import BuildOptions
from young_prism.engine.build.outcome import BuildOutcome
from young_prism.engine.events import ignore_event
from young_prism.engine.intake.watch import OutputFilter, failures_file, write_failures


@click.command(
    cls=Verb,
    short_help="Build whenever the source changes.",
    example="young-prism watch --source images --out public/pictures",
)
@build_options
@click.option(
    "--remove-orphans", is_flag=True, help="Delete renditions whose original was deleted or renamed."
)
@click.option(
    "--failures",
    "failures_list",
    type=FOLDER,
    help="File for the list of failures. Default: in the output folder.",
)
@data_option
@click.option("--record/--no-record", default=True, show_default=True, help="Record its runs in the history.")
def watch(
    *,
    options: BuildCommandOptions,
    remove_orphans: bool,
    failures_list: Path | None,
    data: Path | None,
    record: bool,
) -> None:
    """Build the source, then rebuild whatever changes in it, until Ctrl-C.

    Half-copied files are waited for, and many files at once are one run. What cannot be used is listed with the reason in
    young-prism-failures.txt in the output folder; the file is deleted when there is nothing to list.
    """
    from young_prism.engine.intake.watch import debounced_changes

    stop = threading.Event()
    for name in (signal.SIGINT, signal.SIGTERM):
        signal.signal(name, lambda *_: stop.set())
    once = _Rebuilder(
        options,
        data_folder(data) if record else None,
        failures_list or failures_file(options.source, options.out),
        remove_orphans=remove_orphans,
        stop=stop,
    )
    for changed in debounced_changes(options.source, once.output_filter.is_output, stop):
        if changed:
            once.build(f"{count(len(changed), 'file')} changed")
        else:
            once.build("First build")
            say(f"Watching {options.source}; Ctrl-C stops it")
    say("Stopped watching")


class _Rebuilder:
    """One build after the other with the same options."""

    def __init__(
        self,
        options: BuildCommandOptions,
        data: Path | None,
        failures_list: Path,
        *,
        remove_orphans: bool,
        stop: threading.Event,
    ) -> None:
        self._options = options
        self._failures_file = failures_list
        self._data = data
        self._remove = remove_orphans
        self._stop = stop
        self.output_filter = OutputFilter(options.source, options.out)

    def build(self, why: str) -> None:
        """Build and report the outcome. An error that ends a build does not end the watch."""
        from young_prism.core.errors import YoungPrismError

        try:
            result = self._built()
        except YoungPrismError as error:
            say(f"{why}: {error}")
            return
        self.output_filter.refresh()
        write_failures(self._failures_file, result.failures)
        outcomes = result.outcomes
        say(
            f"{why}: {count(outcomes[Outcome.MADE] + outcomes[Outcome.KEPT], 'rendition')} made, "
            f"{outcomes[Outcome.REUSED]:,} reused, {outcomes[Outcome.FAILED]:,} failed"
        )
        for failure in result.failures:
            say(f"  {printable(failure.path)}: {failure.error} {failure.remedy}")

    def _built(self) -> BuildOutcome:
        from young_prism.engine.build.orphans import remove_orphans
        from young_prism.engine.build.pipeline import build as run_build
        from young_prism.services.runs.command import RecordedCommandRun

        options = self._options
        run = (
            RecordedCommandRun(
                self._data, options.source, options.out, options.recipe, verify=True, origin="watcher"
            )
            if self._data
            else None
        )
        try:
            on_event = run.recorder if run and run.recorder else ignore_event
            result = run_build(options.request(), BuildOptions(is_cancelled=self._stop.is_set), on_event)
            if run and run.recorder:
                run.recorder.finish(result)
        finally:
            if run:
                run.close()
        if self._remove or options.recipe.names.orphans == "remove":
            remove_orphans(options.out)
        return result

"""`young-prism watch`: a folder in which files appear, and their renditions within seconds."""

from __future__ import annotations

import signal
import threading
from collections.abc import Callable
from datetime import datetime
from pathlib import Path

import click

from young_prism.cli.common import BuildOptions, build_options, data_folder, data_option, printable, say
from young_prism.core.manifest.model import MANIFEST_NAME
from young_prism.core.plan.model import LeftOut
from young_prism.core.report.figures import count
from young_prism.core.values import Outcome
from young_prism.engine.build import BuildResult


@click.command()
@build_options
@click.option("--remove-orphans", is_flag=True, help="Delete renditions whose original is gone or renamed.")
@data_option
@click.option("--record/--no-record", default=True, show_default=True, help="Keep its runs in the history.")
def watch(*, options: BuildOptions, remove_orphans: bool, data: Path | None, record: bool) -> None:
    """Make what is missing, and then what appears or changes in the source, until Ctrl-C.

    Half-copied files are waited for, and many files at once are one run. What cannot be used is listed with the reason in
    young-prism-failures.txt in the source; the file goes when there is nothing to list.
    """
    from young_prism.engine.watching import quiet_changes

    stop = threading.Event()
    for name in (signal.SIGINT, signal.SIGTERM):
        signal.signal(name, lambda *_: stop.set())
    once = _Once(options, data_folder(data) if record else None, remove_orphans=remove_orphans, stop=stop)
    for changed in quiet_changes(options.source, once.is_ours, stop):
        if changed:
            once.build(f"{count(len(changed), 'file')} changed")
        else:
            once.build("Looked through")
            say(f"Watching {options.source}; Ctrl-C ends it")
    say("Watched to the end")


class _Once:
    """One build after the other with the same options."""

    def __init__(
        self, options: BuildOptions, data: Path | None, *, remove_orphans: bool, stop: threading.Event
    ) -> None:
        self._options = options
        self._data = data
        self._remove = remove_orphans
        self._stop = stop
        self._ours: set[str] = set()
        out, source = options.out.resolve(), options.source.resolve()
        inside = out.is_relative_to(source) and out != source
        self._out = out.relative_to(source).as_posix() + "/" if inside else ""

    def is_ours(self, path: str) -> bool:
        """Whether a path in the source is our own work."""
        return path in self._ours or (bool(self._out) and f"{path}/".startswith(self._out))

    def build(self, why: str) -> None:
        """Build, and say what came of it. What ends a build does not end the watch."""
        from young_prism.core.errors import YoungPrismError

        try:
            result = self._built()
        except YoungPrismError as error:
            say(f"{why}: {error}")
            return
        self._note_ours()
        write_failures(self._options.source, result.failures)
        outcomes = result.outcomes
        say(
            f"{why}: made {outcomes[Outcome.MADE] + outcomes[Outcome.KEPT]}, "
            f"there {outcomes[Outcome.REUSED]}, failed {outcomes[Outcome.FAILED]}"
        )
        for failure in result.failures:
            say(f"  {printable(failure.path)}: {failure.error} {failure.remedy}")

    def _built(self) -> BuildResult:
        from young_prism.engine.build import build as run_build
        from young_prism.engine.orphans import remove_orphans
        from young_prism.history.command import CommandRun

        one = self._options
        stopped: Callable[[], bool] = self._stop.is_set
        run = (
            CommandRun(self._data, one.source, one.out, one.recipe, verify=True, origin="watcher")
            if self._data
            else None
        )
        try:
            listen = run.recorder if run and run.recorder else (lambda _event: None)
            result = run_build(
                one.source,
                one.out,
                one.recipe,
                listen=listen,
                scope=one.scope,
                details=one.details,
                marks=one.marks,
                stopped=stopped,
            )
            if run and run.recorder:
                run.recorder.finish(result)
        finally:
            if run:
                run.close()
        if self._remove:
            remove_orphans(one.out)
        return result

    def _note_ours(self) -> None:
        from young_prism.engine.ledger import read_manifest

        manifest = read_manifest(self._options.out / MANIFEST_NAME)
        if manifest and self._options.out.resolve() == self._options.source.resolve():
            self._ours = {one.path for original in manifest.originals for one in original.renditions}
            self._ours |= {MANIFEST_NAME, *(orphan.path for orphan in manifest.orphaned)}


def write_failures(source: Path, failures: list[LeftOut]) -> None:
    """List what cannot be used in a file in the source, and take that away when there is nothing to list."""
    from young_prism.engine.publish import write_atomically
    from young_prism.engine.watching import FAILURES_FILE

    file = source / FAILURES_FILE
    if not failures:
        file.unlink(missing_ok=True)
        return
    now = datetime.now().astimezone().isoformat(sep=" ", timespec="seconds")
    lines = [f"{now}: these cannot be used"]
    lines += [f"{printable(one.path)}: {one.error} {one.remedy}" for one in failures]
    write_atomically(file, ("\n".join(lines) + "\n").encode("utf-8", "surrogateescape"))

"""Programs in processes of their own: everything that they print is kept, every wait has a limit, and none is left running."""

from __future__ import annotations

import signal
import subprocess
import threading
from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager
from typing import Any

from tests.support.pages import wait_for

LIMIT_S = 45.0
"""Less than the time limit of a test, so that what a program printed is shown."""


class Program:
    """A program that runs, and the lines that it has printed so far, to either output."""

    def __init__(self, process: subprocess.Popen[str]) -> None:
        self._process = process
        self._seen = 0
        self.lines: list[str] = []
        self._reader = threading.Thread(target=self._read, name="reader of a program", daemon=True)
        self._reader.start()

    def _read(self) -> None:
        assert self._process.stdout
        for line in self._process.stdout:
            self.lines.append(line)

    @property
    def text(self) -> str:
        """Everything that it has printed."""
        return "".join(self.lines)

    def wait_for_line(self, part: str) -> str:
        """Wait for a further line with `part` in it, and return it."""

        def has_line() -> bool:
            while self._seen < len(self.lines):
                self._seen += 1
                if part in self.lines[self._seen - 1]:
                    return True
            if not self._reader.is_alive():
                raise AssertionError(f"it ended and never printed “{part}”:\n{self.text}")
            return False

        self._within_limit(has_line)
        return self.lines[self._seen - 1]

    def end(self, way: signal.Signals = signal.SIGINT) -> int:
        """Press Ctrl-C, or send another signal; wait for the end, and return the exit status."""
        self._process.send_signal(way)
        return self.wait()

    def wait(self) -> int:
        """Wait for the end, and return the exit status."""
        self._within_limit(lambda: not self._reader.is_alive() and self._process.poll() is not None)
        return self._process.returncode

    def _within_limit(self, happened: Callable[[], object]) -> None:
        try:
            wait_for(happened, LIMIT_S)
        except AssertionError as error:
            raise AssertionError(f"{error}; it printed:\n{self.text}") from None


@contextmanager
def running(line: Sequence[object], **options: Any) -> Iterator[Program]:
    """Start a program; kill it on leaving if it still runs.

    It is started with Ctrl-C at its default, also where this process ignores it, as background jobs of a shell do.
    """
    with subprocess.Popen(
        [*map(str, line)],
        stdout=subprocess.PIPE,
        stderr=subprocess.STDOUT,
        text=True,
        **{"preexec_fn": default_interrupt, **options},
    ) as process:
        program = Program(process)
        try:
            yield program
        finally:
            process.kill()
            program._reader.join(LIMIT_S)


def default_interrupt() -> None:
    """Let Ctrl-C end a program."""
    signal.signal(signal.SIGINT, signal.SIG_DFL)


def ignored_interrupt() -> None:
    """Let a program start as background jobs of a shell do."""
    signal.signal(signal.SIGINT, signal.SIG_IGN)

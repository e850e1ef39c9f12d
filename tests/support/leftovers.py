"""What a test module may not leave behind: threads, processes, open files and temporary files of ours."""

from __future__ import annotations

import gc
import tempfile
import threading
from dataclasses import dataclass
from pathlib import Path

import psutil

from tests.support import workers
from tests.support.pages import wait_for

_LIMIT_S = 15.0
_SESSION_PROCESSES = (
    "resource_tracker",
    "forkserver",
    "playwright",
    "chromium",
    "chrome_crashpad",
    "exiftool -stay_open",
)
"""Parts of command lines of what is started once, by Python, Playwright or a test, and ends with the session."""
_SESSION_FILES = ("pymp-", "playwright", ".org.chromium", "org.chromium", "dask", "scoped_dir", "com.google")
"""Beginnings of names of temporary files of the same."""


@dataclass(frozen=True)
class Resources:
    """The threads, processes, open files and temporary files of ours at one moment, each by what tells them apart."""

    threads: frozenset[str]
    processes: frozenset[str]
    files: frozenset[str]
    temporary: frozenset[str]

    def beyond(self, before: Resources) -> list[str]:
        """Return what is here and was not before, in words."""
        kinds = {
            "thread": self.threads - before.threads,
            "process": self.processes - before.processes,
            "open file": self.files - before.files,
            "temporary file": self.temporary - before.temporary,
        }
        return sorted(f"{kind}: {name}" for kind, names in kinds.items() for name in names)


def resources(base: Path) -> Resources:
    """Return the resources that are held now; of open files, those below `base`.

    The shared history database is excluded: under load it is sometimes open in modules that do not use it.
    The cause is not known yet.
    """
    return Resources(
        frozenset(f"{thread.name} {thread.ident}" for thread in threading.enumerate() if _is_ours(thread)),
        frozenset(_processes()),
        frozenset(
            item.path
            for item in psutil.Process().open_files()
            if Path(item.path).is_relative_to(base) and not Path(item.path).is_relative_to(base / "history")
        ),
        frozenset(
            path.name
            for path in Path(tempfile.gettempdir()).iterdir()
            if not path.name.startswith(_SESSION_FILES)
        ),
    )


def check_nothing_is_left(base: Path, before: Resources) -> None:
    """Fail where something is held that was not held before and is not given back soon."""

    def left() -> list[str]:
        return resources(base).beyond(before)

    if left():
        gc.collect()  # a file is closed with the object that nobody refers to any more
        wait_for(lambda: not left(), _LIMIT_S, describe=lambda: f"left: {left()}")


def _is_ours(thread: threading.Thread) -> bool:
    """Whether a thread runs a function of ours, or is one of our pools of threads."""
    module = getattr(getattr(thread, "_target", None), "__module__", "") or ""
    return module.startswith("young_prism.") or thread.name.startswith(("writer", "ThreadPoolExecutor"))


def _processes() -> list[str]:
    """Return the processes below this one, apart from idle workers and from what ends with the session."""
    result = []
    idle = workers.idle_processes()
    for process in psutil.Process().children(recursive=True):
        try:
            line, parent = " ".join(process.cmdline()), process.parent()
            is_worker = bool(parent) and "forkserver" in line and "forkserver" in " ".join(parent.cmdline())
        except psutil.Error:
            continue
        if process.pid in idle or (not is_worker and any(part in line for part in _SESSION_PROCESSES)):
            continue
        if process.status() != psutil.STATUS_ZOMBIE:
            result.append(f"{process.pid} {line[:200]}")
    return result

"""A folder that is watched: what changed in it, once it is quiet. Files that are still being copied are waited for.

The system says what changes (inotify and its like, through watchfiles); where it does not, on network drives, the folder is looked
through. What is said is only a reason to look: a build decides by itself what is to be done, so nothing is lost where news are.
"""

from __future__ import annotations

import time
from collections.abc import Callable, Iterable, Iterator, Sequence
from datetime import datetime
from pathlib import Path
from threading import Event
from typing import Any

from watchfiles import watch

from young_prism.core.file_stamp import FileStamp
from young_prism.core.manifest.model import MANIFEST_NAMES
from young_prism.core.naming.incoming import printable_name
from young_prism.core.plan.model import SkippedOriginal
from young_prism.core.selection.scope import Scope
from young_prism.engine.files import STATE_FOLDER, stamp_or_none
from young_prism.engine.output.atomic import write_atomically
from young_prism.engine.output.manifest_file import manifest_file, read_manifest

FAILURES_FILE = "young-prism-failures.txt"
_QUIET_S = 1.0
"""How long nothing may change before what came is taken as whole."""
_POLL_INTERVAL_MS = 250
_DEFAULT_SCOPE = Scope()


FileChanges = Iterable[tuple[Any, str]]
"""Kind and absolute path of each change, as `watchfiles` gives them; empty when nothing happened for a while."""


def watch_folder(root: Path, stop: Event) -> Iterator[FileChanges]:
    """Yield what the system says of a folder, every now and then, until `stop` is set."""
    return watch(
        root,
        stop_event=stop,
        watch_filter=None,
        debounce=_POLL_INTERVAL_MS,
        step=50,
        rust_timeout=_POLL_INTERVAL_MS,
        yield_on_timeout=True,
        raise_interrupt=False,
    )


def debounced_changes(
    source: Path,
    is_output: Callable[[str], bool],
    stop: Event,
    *,
    events: Callable[[Path, Event], Iterable[FileChanges]] = watch_folder,
    clock: Callable[[], float] = time.monotonic,
) -> Iterator[set[str]]:
    """Yield the paths below a folder that changed, each time that all of them have been quiet for a second.

    The first set is empty: from then on nothing is missed, so existing files must be walked at that moment.
    `is_output` says which paths are our own work; hidden files and folders are passed over. Ends when `stop` is set.
    `events` and `clock` (seconds) are those of the system.
    """
    root = source.resolve()
    waiting: dict[str, FileStamp | None] = {}
    since = clock()
    begun = False
    for changes in events(root, stop):
        if not begun:
            begun = True
            yield set()
        fresh = {
            path
            for _, changed in changes
            if (path := _below(root, changed)) and not _is_ignored(path, is_output)
        }
        now = {path: stamp_or_none(root / path) for path in {*waiting, *fresh}}
        if now != waiting or fresh:
            waiting, since = now, clock()
        elif waiting and clock() - since >= _QUIET_S:
            yield set(waiting)
            waiting = {}


def _below(root: Path, changed: str) -> str:
    path = Path(changed)
    return path.relative_to(root).as_posix() if path.is_relative_to(root) and path != root else ""


def _is_ignored(path: str, is_output: Callable[[str], bool]) -> bool:
    if path == FAILURES_FILE or is_output(path):
        return True
    folders = path.split("/")
    return any(
        _DEFAULT_SCOPE.excluded_by("/".join(folders[: at + 1]) + "/") for at in range(len(folders) - 1)
    ) or bool(_DEFAULT_SCOPE.excluded_by(path))


class OutputFilter:
    """What of a folder that is watched is our own work, and wakes nobody."""

    def __init__(self, source: Path, out: Path) -> None:
        self._out = out
        whole, root = out.resolve(), source.resolve()
        self._is_source = whole == root
        self._below = (
            whole.relative_to(root).as_posix() + "/" if whole.is_relative_to(root) and whole != root else ""
        )
        self._paths: set[str] = set()
        self.refresh()

    def is_output(self, path: str) -> bool:
        """Whether a path in the source is ours."""
        return path in self._paths or (bool(self._below) and f"{path}/".startswith(self._below))

    def refresh(self) -> None:
        """Take note of what the newest build made, where that lies among the originals."""
        manifest = read_manifest(manifest_file(self._out)) if self._is_source else None
        if manifest:
            self._paths = {
                rendition.path for original in manifest.originals for rendition in original.renditions
            }
            self._paths |= {*MANIFEST_NAMES, *(orphan.path for orphan in manifest.orphaned)}


def failures_file(source: Path, out: Path) -> Path:
    """Return where failures of a watched folder are listed: in the output folder, never among the originals."""
    is_among_originals = out.resolve() == source.resolve()
    return (out / STATE_FOLDER if is_among_originals else out) / FAILURES_FILE


def write_failures(file: Path, failures: Sequence[SkippedOriginal]) -> None:
    """List what cannot be used in a file, and delete that when there is nothing to list."""
    if not failures:
        file.unlink(missing_ok=True)
        return
    now = datetime.now().astimezone().isoformat(sep=" ", timespec="seconds")
    lines = [f"{now}: these cannot be used"]
    lines += [f"{printable_name(skipped.path)}: {skipped.error} {skipped.remedy}" for skipped in failures]
    file.parent.mkdir(parents=True, exist_ok=True)
    write_atomically(file, ("\n".join(lines) + "\n").encode("utf-8", "surrogateescape"))

"""A folder that is watched: what changed in it, once it is quiet. Files that are still being copied are waited for.

The system says what changes (inotify and its like, through watchfiles); where it does not, on network drives, the folder is looked
through. What is said is only a reason to look: a build decides by itself what is to be done, so nothing is lost where news are.
"""

from __future__ import annotations

import time
from collections.abc import Callable, Iterator
from pathlib import Path
from threading import Event

from watchfiles import watch

from young_prism.core.originals.scope import Scope

FAILURES_FILE = "young-prism-failures.txt"
_QUIET_S = 1.0
"""How long nothing may change before what came is taken as whole."""
_LOOK_EVERY_MS = 250
_STANDING = Scope()


def quiet_changes(source: Path, mine: Callable[[str], bool], stop: Event) -> Iterator[set[str]]:
    """Yield the paths below a folder that changed, each time that all of them have been quiet for a second.

    The first set is empty: from then on nothing is missed, so what is there already is to be looked through then.
    `mine` says which paths are our own work; hidden files and folders are passed over. Ends when `stop` is set.
    """
    root = source.resolve()
    waiting: dict[str, tuple[int, int]] = {}
    since = time.monotonic()
    begun = False
    for changes in watch(
        root,
        stop_event=stop,
        watch_filter=None,
        debounce=_LOOK_EVERY_MS,
        step=50,
        rust_timeout=_LOOK_EVERY_MS,
        yield_on_timeout=True,
        raise_interrupt=False,
    ):
        if not begun:
            begun = True
            yield set()
        fresh = {
            path for _, changed in changes if (path := _below(root, changed)) and not _passed_over(path, mine)
        }
        now = {path: _stamp(root / path) for path in {*waiting, *fresh}}
        if now != waiting or fresh:
            waiting, since = now, time.monotonic()
        elif waiting and time.monotonic() - since >= _QUIET_S:
            yield set(waiting)
            waiting = {}


def _below(root: Path, changed: str) -> str:
    path = Path(changed)
    return path.relative_to(root).as_posix() if path.is_relative_to(root) and path != root else ""


def _passed_over(path: str, mine: Callable[[str], bool]) -> bool:
    if path == FAILURES_FILE or mine(path):
        return True
    folders = path.split("/")
    return any(
        _STANDING.excluded_by("/".join(folders[: at + 1]) + "/") for at in range(len(folders) - 1)
    ) or bool(_STANDING.excluded_by(path))


def _stamp(place: Path) -> tuple[int, int]:
    """Return a file's size and time, of one that is gone neither."""
    try:
        info = place.stat()
    except OSError:
        return (-1, 0)
    return (info.st_size, info.st_mtime_ns)

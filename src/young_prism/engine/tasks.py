"""What runs inside a worker process: read one file, hand its bytes to the core, hand back values."""

from __future__ import annotations

from enum import Enum
from pathlib import Path
from typing import TYPE_CHECKING

from young_prism.core.errors import DamagedError, UnreadableError, YoungPrismError
from young_prism.core.originals.facts import Facts
from young_prism.core.originals.headers.contract import BytesView, FileView
from young_prism.core.originals.look import LIBRARY_FORMATS, look, look_at_header
from young_prism.core.originals.sniff import HEAD_BYTES, sniff
from young_prism.core.plan.model import PlannedOriginal

_BASE_TIMEOUT_S = 60.0
_TIMEOUT_S_A_WORK = 60.0

if TYPE_CHECKING:
    from collections.abc import Mapping

    from young_prism.core.render.render import MadeBefore, Rendered


def start_worker() -> None:
    """Load libvips and the codecs once, before the first task arrives."""
    import signal

    import young_prism.core.render.render  # noqa: F401

    # Ctrl-C reaches the whole group of processes; the parent decides what becomes of the workers.
    signal.signal(signal.SIGINT, signal.SIG_IGN)


def read_original(root: str, path: str) -> bytes:
    """Read an original whole. Raises `UnreadableError` when the system refuses."""
    try:
        return (Path(root) / path).read_bytes()
    except OSError as error:
        raise _unreadable(path, error) from error


def _unreadable(path: str, error: OSError) -> UnreadableError:
    return UnreadableError(
        f"The file cannot be read ({error.strerror}).", file=path, remedy="Check its permissions."
    )


class Look(Enum):
    """How closely a worker looks."""

    HEADER = "header"
    CLOSER = "closer"


def look_file(root: str, path: str, max_pixels: int, depth: Look = Look.CLOSER) -> Facts:
    """Look at one original. Raises the errors of `core.originals.look.look`, with the file's name."""
    data = read_original(root, path)
    try:
        if depth is Look.HEADER:
            return look_at_header(BytesView(data), max_pixels=max_pixels)
        return look(data, max_pixels=max_pixels)
    except YoungPrismError as error:
        error.file = path
        raise


def look_files(
    root: str, paths: list[str], max_pixels: int, depth: Look = Look.CLOSER
) -> list[Facts | YoungPrismError]:
    """Look at several small originals in one task; an error stands in the place of its original."""
    found: list[Facts | YoungPrismError] = []
    for path in paths:
        try:
            found.append(look_file(root, path, max_pixels, depth))
        except YoungPrismError as error:
            found.append(error)
    return found


by_library = DamagedError("Its header needs a library.", remedy="Ask a worker.")
"""What `header_of_file` hands back for a format whose header is read by foreign code: a crash there must cost a worker."""


def header_of_file(root: str, path: str, max_pixels: int) -> Facts | YoungPrismError:
    """Read the header of one original here and now, or hand back its error with the file's name, or `by_library`."""
    try:
        with FileView(f"{root}/{path}") as view:
            if sniff(view.read(0, HEAD_BYTES)) in LIBRARY_FORMATS:
                return by_library
            return look_at_header(view, max_pixels=max_pixels)
    except OSError as error:
        return _unreadable(path, error)
    except YoungPrismError as error:
        error.file = path
        return error
    except Exception as error:  # noqa: BLE001  (one crooked file must not end the look)
        what = f"Its header cannot be read ({type(error).__name__}: {error})."
        return DamagedError(
            what, file=path, remedy="Export it again from where it came from, or take it out."
        )


def render_timeout_s(original: PlannedOriginal) -> float:
    """Return how many seconds the renditions of one original may take."""
    return _BASE_TIMEOUT_S + _TIMEOUT_S_A_WORK * original.work


def render_file(
    root: str,
    original: PlannedOriginal,
    known: Mapping[str, MadeBefore] | None = None,
    verify: bool = True,  # noqa: FBT001, FBT002  (workers are handed their arguments by position)
) -> list[Rendered]:
    """Make the renditions of one original that are not `known`, and read each back with `verify`. Raises the errors of `core.render.render.render`, with the name."""
    # Here, since a first look at headers must not wait for the codecs to load.
    from young_prism.core.render.render import render

    data = read_original(root, original.path)
    try:
        return render(data, original, known or {}, verify=verify)
    except YoungPrismError as error:
        error.file = original.path
        raise

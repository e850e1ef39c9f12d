"""What runs inside a worker process: read one file, hand its bytes to the core, hand back values."""

from __future__ import annotations

from pathlib import Path

from young_prism.core.errors import UnreadableError, YoungPrismError
from young_prism.core.originals.facts import Facts
from young_prism.core.originals.look import look
from young_prism.core.plan.model import PlannedOriginal
from young_prism.core.render.render import Rendered, render


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
        raise UnreadableError(
            f"The file cannot be read ({error.strerror}).", file=path, remedy="Check its permissions."
        ) from error


def look_file(root: str, path: str, max_pixels: int) -> Facts:
    """Look at one original. Raises the errors of `core.originals.look.look`, with the file's name."""
    data = read_original(root, path)
    try:
        return look(data, max_pixels=max_pixels)
    except YoungPrismError as error:
        error.file = path
        raise


def look_files(root: str, paths: list[str], max_pixels: int) -> list[Facts | YoungPrismError]:
    """Look at several small originals in one task; an error stands in the place of its original."""
    found: list[Facts | YoungPrismError] = []
    for path in paths:
        try:
            found.append(look_file(root, path, max_pixels))
        except YoungPrismError as error:
            found.append(error)
    return found


def render_file(root: str, original: PlannedOriginal) -> list[Rendered]:
    """Make all renditions of one original. Raises the errors of `core.render.render.render`, with the name."""
    data = read_original(root, original.path)
    try:
        return render(data, original)
    except YoungPrismError as error:
        error.file = original.path
        raise

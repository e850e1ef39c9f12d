"""Functions that run in a worker process: read one file, call the core, return values."""

from __future__ import annotations

from enum import Enum
from pathlib import Path
from typing import TYPE_CHECKING, Literal, NamedTuple

from young_prism.core.errors import DamagedError, UnreadableError, YoungPrismError
from young_prism.core.images.facts import Facts
from young_prism.core.images.headers.contract import (
    BytesView,
    FileView,
)
from young_prism.core.images.sniff import HEAD_BYTES, sniff
from young_prism.core.plan.model import PlannedOriginal, PlannedRendition
from young_prism.core.types import ImageFormat
from young_prism.engine.workers.process import report
from young_prism.messages.originals import HEADER_UNREADABLE, unreadable

_BASE_TIMEOUT_S = 60.0
_TIMEOUT_S_A_WORK = 60.0

if TYPE_CHECKING:
    from collections.abc import Collection, Mapping

    from young_prism.core.render.results import (
        EncodedFile,
        PriorResult,
        Rendered,
    )


def read_original(root: str, path: str) -> bytes:
    """Read an original whole. Raises `UnreadableError` when the system refuses."""
    try:
        return (Path(root) / path).read_bytes()
    except OSError as error:
        raise _unreadable(path, error) from error


def _unreadable(path: str, error: OSError) -> UnreadableError:
    return UnreadableError.of(unreadable(error.strerror), file=path)


class InspectionDepth(Enum):
    """How much of an original is read."""

    HEADER = "header"
    FULL = "closer"


def inspect_file(
    root: str, path: str, max_pixels: int, depth: InspectionDepth = InspectionDepth.FULL
) -> Facts:
    """Inspect one original. Raises the errors of `core.inspection.inspect`, with the file's name."""
    from young_prism.core.inspection.inspect import inspect_bytes, inspect_header

    data = read_original(root, path)
    try:
        if depth is InspectionDepth.HEADER:
            return inspect_header(BytesView(data), max_pixels=max_pixels)
        return inspect_bytes(data, max_pixels=max_pixels)
    except YoungPrismError as error:
        raise error.with_file(path) from error


def inspect_files(
    root: str, paths: list[str], max_pixels: int, depth: InspectionDepth = InspectionDepth.FULL
) -> list[Facts | YoungPrismError]:
    """Inspect several small originals in one task. The error of an original takes its place in the list."""
    results: list[Facts | YoungPrismError] = []
    for path in paths:
        try:
            results.append(inspect_file(root, path, max_pixels, depth))
        except YoungPrismError as error:
            results.append(error)
    return results


class HeaderAccess(Enum):
    """What `inspect_file_header` returns instead of facts."""

    NEEDS_WORKER = "needs worker"
    """Foreign code reads the header of this format: a crash there must cost a worker, not this process. Or the whole file has to
    be walked through, and it is large."""


_WHOLE_FILE_FORMATS = frozenset({ImageFormat.GIF, ImageFormat.SVG})
_MAX_WALKED_BYTES = 2_000_000
"""Bytes of a GIF or SVG whose header is read outside of a worker."""


def inspect_file_header(
    root: str, path: str, max_pixels: int
) -> Facts | YoungPrismError | Literal[HeaderAccess.NEEDS_WORKER]:
    """Read the header of one original in this process.

    Returns:
        Its facts; the error with the file's name; or that a worker must read it.
    """
    from young_prism.core.inspection.inspect import LIBRARY_FORMATS, inspect_header

    try:
        with FileView(f"{root}/{path}") as view:
            fmt = sniff(view.read(0, HEAD_BYTES))
            is_long_walk = fmt in _WHOLE_FILE_FORMATS and view.size > _MAX_WALKED_BYTES
            if fmt in LIBRARY_FORMATS or is_long_walk:
                return HeaderAccess.NEEDS_WORKER
            return inspect_header(view, max_pixels=max_pixels)
    except OSError as error:
        return _unreadable(path, error)
    except YoungPrismError as error:
        return error.with_file(path)
    except Exception:  # noqa: BLE001  (one malformed file must not end the inspection)
        return DamagedError.of(HEADER_UNREADABLE, file=path)


def render_timeout_s(original: PlannedOriginal) -> float:
    """Return how many seconds the renditions of one original may take."""
    return _BASE_TIMEOUT_S + _TIMEOUT_S_A_WORK * original.work


class RenderResult(NamedTuple):
    """What a worker made of an original: all renditions, or some encoded files that are put together with others."""

    rendered: list[Rendered] | None
    pieces: dict[str, EncodedFile]


def render_file(
    root: str,
    original: PlannedOriginal,
    known: Mapping[str, PriorResult],
    verify: bool,  # noqa: FBT001  (workers are handed their arguments by position)
    paths: Collection[str] | None,
) -> RenderResult:
    """Read an original, and make its renditions: see `render_bytes`."""
    return render_bytes(read_original(root, original.path), original, known, verify, paths)


def render_bytes(
    data: bytes,
    original: PlannedOriginal,
    known: Mapping[str, PriorResult],
    verify: bool,  # noqa: FBT001
    paths: Collection[str] | None,
) -> RenderResult:
    """Make the renditions of one original that are not `known`, or only those with certain `paths`.

    Each is read back with `verify`. Raises the errors of `core.render.render.render`, with the file's name.
    """
    # Here, since a first look at headers must not wait for the codecs to load.
    from young_prism.core.render.render import encode_paths, render

    index_by_path = {planned.path: index for index, planned in enumerate(original.renditions)}

    def say(planned: PlannedRendition, size: int) -> None:
        report((index_by_path[planned.path], size))

    try:
        if paths is not None:
            return RenderResult(None, encode_paths(data, original, paths, verify=verify, on_progress=say))
        return RenderResult(render(data, original, known, verify=verify, on_progress=say), {})
    except YoungPrismError as error:
        raise error.with_file(original.path) from error

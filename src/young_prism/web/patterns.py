"""Patterns while they are typed: what each line catches, counted in the folder as it is now."""

from __future__ import annotations

import os
from collections.abc import Mapping
from dataclasses import dataclass
from pathlib import Path

from young_prism.core.errors import SourceError
from young_prism.core.selection.scope import Scope
from young_prism.engine.output.ledger import owned_paths
from young_prism.engine.source.walk import scan
from young_prism.messages.server import FOLDER_MISSING, FOLDER_OUTSIDE_ROOTS, INVALID_PATH, NO_FOLDER
from young_prism.web.context import services


@dataclass(frozen=True, slots=True)
class PatternPreview:
    """What takes part and what does not. `lines` is what each line caught, in images; `error` says a line that is no pattern."""

    originals: int = 0
    bytes: int = 0
    excluded: int = 0
    unasked: int = 0
    include: tuple[tuple[str, int], ...] = ()
    exclude: tuple[tuple[str, int], ...] = ()
    notes: tuple[str, ...] = ()
    error: str = ""


def preview_patterns(folder: str, output: str, scope: Scope) -> PatternPreview:
    """Count what `scope` catches in a folder. A pattern or a folder that cannot be used is said, not raised."""
    try:
        scope.check()
        scanned = scan(
            Path(folder),
            output=Path(output) if output else None,
            scope=scope,
            count_excluded=True,
            owned=owned_paths(Path(folder)),
        )
    except SourceError as error:
        return PatternPreview(error=str(error))
    lines: Mapping[str, int] = scanned.pattern_hits
    return PatternPreview(
        originals=len(scanned.originals),
        bytes=sum(original.bytes for original in scanned.originals),
        excluded=sum(lines.get(line, 0) for line in scope.exclude),
        unasked=scanned.not_included,
        include=tuple((line, lines.get(line, 0)) for line in scope.include),
        exclude=tuple((line, lines.get(line, 0)) for line in scope.exclude),
        notes=tuple(note for note in scanned.notes if not note.startswith("“")),
    )


def allowed_folder(typed: str) -> Path:
    """Return the folder that was typed. Raises `SourceError` unless it lies below a root."""
    roots = services().settings.roots
    if not typed:
        raise SourceError.of(NO_FOLDER)
    try:
        folder = Path(os.path.realpath(Path(typed).expanduser()))
    except (ValueError, RuntimeError, OSError) as error:  # a NUL, a home of nobody, a name that is too long
        raise SourceError.of(INVALID_PATH, file=typed) from error
    if not any(folder.is_relative_to(os.path.realpath(root)) for root in roots):
        raise SourceError.of(FOLDER_OUTSIDE_ROOTS, file=typed)
    if not folder.is_dir():
        raise SourceError.of(FOLDER_MISSING, file=typed)
    return folder


def typed_pages_folder(typed: str, source: str) -> str:
    """Return the folder of the pages, empty for none. Raises `SourceError` unless it is the source's or below a root."""
    typed = typed.strip()
    if not typed or typed == source:
        return typed
    return str(allowed_folder(typed))

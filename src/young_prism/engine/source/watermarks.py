"""The watermarks that a recipe names: files found and read, or text drawn."""

from __future__ import annotations

import hashlib
from collections.abc import Iterable
from dataclasses import dataclass
from pathlib import Path

from young_prism.core.errors import DamagedError, OriginalError, RecipeError
from young_prism.core.plan.model import WatermarkFile
from young_prism.core.recipe.finishing import Watermark
from young_prism.core.recipe.model import Recipe
from young_prism.core.report.formatting import format_bytes
from young_prism.engine.files import read_regular_file
from young_prism.engine.workers.environment import configure_codecs
from young_prism.messages.recipes import (
    WATERMARK_MISSING,
    WATERMARK_NAME,
    watermark_too_heavy,
    watermark_unreadable,
)

MAX_WATERMARK_BYTES = 20_000_000
MAX_DRAWN_WATERMARK_BYTES = 1_000_000
"""Bytes of a watermark in SVG: it is parsed whole wherever its size is needed."""


@dataclass(frozen=True, slots=True)
class Watermarks:
    """Watermarks by their names in the recipe, and why others of them cannot be used."""

    by_file: dict[str, WatermarkFile]
    errors: tuple[RecipeError, ...]


def find_watermarks(recipe: Recipe, folders: Iterable[Path]) -> Watermarks:
    """Look for the recipe's watermarks in `folders`, the first that has one counts. A link out of them is not followed."""
    watermarks: dict[str, WatermarkFile] = {}
    errors = []
    where = list(folders)
    for settings in _watermarks_of(recipe):
        try:
            watermarks[settings.name] = (
                _read(settings.file, where) if settings.file else _drawn(settings.text, settings.colour)
            )
        except RecipeError as error:
            errors.append(error)
    return Watermarks(watermarks, tuple(errors))


def load_watermarks(recipe: Recipe, *folders: Path) -> dict[str, WatermarkFile]:
    """Return the recipe's watermarks. Raises `RecipeError` for the first that cannot be used."""
    marks = find_watermarks(recipe, folders)
    if marks.errors:
        raise marks.errors[0]
    return marks.by_file


def _watermarks_of(recipe: Recipe) -> list[Watermark]:
    finishings = [
        recipe.finishing,
        *(override.finishing for override in recipe.overrides if override.finishing),
    ]
    by_name = {
        finishing.watermark.name: finishing.watermark for finishing in finishings if finishing.watermark
    }
    return list(by_name.values())


def _drawn(text: str, colour: str) -> WatermarkFile:
    from young_prism.core.render.text_mark import draw_text_mark

    try:
        data = draw_text_mark(text, colour)
    except DamagedError as error:
        raise RecipeError(error.what, file=text, remedy=error.remedy) from error
    return WatermarkFile(data, hashlib.sha256(data).hexdigest())


def check_watermark(name: str, data: bytes) -> None:
    """Raise `RecipeError` for bytes that are no watermark: neither PNG nor SVG, without a size, damaged, or too large."""
    configure_codecs()
    from young_prism.core.render.watermark import draw_mark  # loads what only pictures need

    _check_bytes(name, data)
    try:
        draw_mark(data)
    except OriginalError as error:
        raise RecipeError(error.what, file=name, remedy=error.remedy) from error


def _check_bytes(name: str, data: bytes) -> None:
    limit = MAX_WATERMARK_BYTES if data.startswith(b"\x89PNG") else MAX_DRAWN_WATERMARK_BYTES
    if len(data) > limit:
        raise RecipeError.of(watermark_too_heavy(format_bytes(limit)), file=name)


def _read(name: str, folders: list[Path]) -> WatermarkFile:
    configure_codecs()
    from young_prism.core.render.watermark import watermark_size  # loads what only pictures need

    if "\0" in name:
        raise RecipeError.of(WATERMARK_NAME)
    for folder in folders:
        try:
            root = folder.resolve()
            file = (root / name).resolve()
            if not file.is_relative_to(root) or not file.is_file():
                continue
            data = read_regular_file(file, MAX_WATERMARK_BYTES)
            _check_bytes(name, data)
            watermark_size(data)
        except DamagedError as error:
            raise RecipeError(error.what, file=name, remedy=error.remedy) from error
        except OSError as error:
            raise RecipeError.of(watermark_unreadable(error.strerror), file=name) from error
        return WatermarkFile(data, hashlib.sha256(data).hexdigest())
    raise RecipeError.of(WATERMARK_MISSING, file=name)

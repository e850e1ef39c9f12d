"""What was chosen by eye, written into the recipe's text: for a kind, for a folder, or for one original alone."""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence
from enum import StrEnum
from typing import Any

from young_prism.core.errors import RecipeError
from young_prism.core.images.facts import Facts
from young_prism.core.plan.resolve import (
    effective_recipe,
    format_key,
    matches,
    resolve_recipe,
)
from young_prism.core.proof.candidate import Candidate
from young_prism.core.recipe.codecs import Jpeg, Jxl, Png, Webp
from young_prism.core.recipe.edit import value_at, with_value
from young_prism.core.recipe.toml import parsed, read_recipe
from young_prism.messages.recipes import NO_FOLDER


class ChoiceScope(StrEnum):
    """For whom a choice holds."""

    KIND = "kind"
    FOLDER = "folder"
    ORIGINAL = "original"


RecipeChanges = Mapping[str, Any]
"""Keys below the table of a kind, such as `avif.quality`, and `finishing.sharpen`, with their new values; None takes one away."""


def target_changes(target: float) -> RecipeChanges:
    """Return what brings every lossy format to a target, picture by picture."""
    return {"target": _round_score(target), "band": None, **_free_of_their_own()}


def band_changes(least: float, most: float) -> RecipeChanges:
    """Return what keeps the fixed qualities, and brings to a band's edge what scores outside."""
    return {"target": None, "band": [_round_score(least), _round_score(most)], **_free_of_their_own()}


def _free_of_their_own() -> RecipeChanges:
    return {f"{fmt}.{name}": None for fmt in ("jxl", "avif", "webp", "jpeg") for name in ("target", "band")}


def _round_score(score: float) -> int | float:
    return int(score) if float(score).is_integer() else round(float(score), 1)


def candidate_changes(candidate: Candidate, score: float | None) -> RecipeChanges:
    """Return what makes a format as a candidate was made; the kind's target and band end, since a quality was chosen.

    A palette is taken where its score is at least what it was here.
    """
    settings, fmt = candidate.settings, candidate.format.value
    changes: dict[str, Any] = {"target": None, "band": None}
    if isinstance(settings, Png):
        palette = min(98, max(10, int(score or 0))) if settings.palette is not None else None
        return {"png.palette": palette}
    changes |= {f"{fmt}.target": None, f"{fmt}.band": None}
    if isinstance(settings, Jxl | Webp):
        extra = _lossy_or_lossless(settings, fmt)
        return extra if candidate.exact else {**changes, **extra}
    changes |= {f"{fmt}.quality": settings.quality, f"{fmt}.chroma": settings.chroma}
    if isinstance(settings, Jpeg) and settings.matte:
        changes["jpeg.matte"] = settings.matte
    return changes


def _lossy_or_lossless(settings: Jxl | Webp, fmt: str) -> RecipeChanges:
    if isinstance(settings, Jxl):
        extra: dict[str, Any] = {"jxl.from_jpeg": True if settings.from_jpeg else None}
    else:
        extra = {"webp.near_lossless": settings.near_lossless if settings.is_lossless else None}
    if settings.is_lossless:
        return {f"{fmt}.lossless": "always", **extra}
    return {f"{fmt}.quality": settings.quality, f"{fmt}.lossless": "never", **extra}


def apply_choice(text: str, path: str, facts: Facts, scope: ChoiceScope, changes: RecipeChanges) -> str:
    """Return the recipe's text with a choice for an original's kind, for its folder's pictures of that kind, or for it alone.

    Raises `RecipeError` where the recipe could not be used then.
    """
    recipe = read_recipe(text)
    if scope is ChoiceScope.KIND:
        shadow = resolve_recipe(path, recipe)
        text = _changed(text, "", format_key(facts, recipe.formats), changes)
        if shadow is not None and shadow.formats != recipe.formats:
            # An exception decides for this very original: it is meant as well.
            index = _deciding(text, path)
            if index is not None:
                key = format_key(facts, shadow.formats)
                text = _changed(text, f"overrides.{index}.", key, changes)
    else:
        pattern = pattern_of(path) if scope is ChoiceScope.ORIGINAL else folder_pattern(path)
        text, index = _exception(text, pattern)
        base = f"overrides.{index}."
        effective = effective_recipe(path, recipe)
        plain = effective.model_dump(mode="json", exclude_none=True)
        if value_at(parsed(text), f"{base}formats") is None:
            text = with_value(text, f"{base}formats", plain["formats"])
        if "finishing.sharpen" in changes and value_at(parsed(text), f"{base}finishing") is None:
            text = with_value(text, f"{base}finishing", plain["finishing"])
        text = _changed(text, base, format_key(facts, effective.formats), changes)
        text = _order_overrides(text)
    read_recipe(text)
    return text


def _changed(text: str, base: str, kind: str, changes: RecipeChanges) -> str:
    table = f"{base}formats.{kind}."
    for key, value in sorted(changes.items(), key=lambda item: item[1] is not None):  # what goes first
        if key.startswith("finishing."):
            text = with_value(text, f"{base}{key}", value)
            continue
        fmt = key.split(".")[0] if "." in key else ""
        exists = not fmt or value_at(parsed(text), f"{table}{fmt}") is not None
        if not exists and value is None:
            continue
        if fmt in ("jpeg", "png") and not exists:  # one fallback: the other makes way
            fallback = "png" if fmt == "jpeg" else "jpeg"
            text = with_value(text, f"{table}{fallback}", None)
        if fmt and not exists:
            text = with_value(text, f"{table}{fmt}", {})
        text = with_value(text, f"{table}{key}", value)
    return text


def _exception(text: str, pattern: str) -> tuple[str, int]:
    index = override_index(text, pattern)
    if index is None:
        index = len(value_at(parsed(text), "overrides") or [])
        text = with_value(text, f"overrides.{index}", {"match": pattern})
    return text, index


def _order_overrides(text: str) -> str:
    """Put exceptions for one original behind those for folders, since of several the last one counts."""
    overrides: Sequence[dict[str, Any]] = value_at(parsed(text), "overrides") or []
    ordered = sorted(overrides, key=lambda override: not str(override.get("match", "")).endswith("/**"))
    return text if ordered == list(overrides) else with_value(text, "overrides", list(ordered))


def _deciding(text: str, path: str) -> int | None:
    """Return the place of the exception with formats that decides for an original."""
    overrides = value_at(parsed(text), "overrides") or []
    indexes = [at for at, override in enumerate(overrides) if matches(override["match"], path)]
    return indexes[-1] if indexes and "formats" in overrides[indexes[-1]] else None


def override_index(text: str, *patterns: str) -> int | None:
    """Return the place in the list of the exception with one of these patterns."""
    overrides = value_at(parsed(text), "overrides") or []
    return next((at for at, override in enumerate(overrides) if override.get("match") in patterns), None)


def pattern_of(path: str) -> str:
    """Return the pattern in gitignore syntax that catches one path and nothing else."""
    return "/" + re.sub(r"([\\*?\[\]!#])", r"\\\1", path)


def folder_pattern(path: str) -> str:
    """Return the pattern that catches all that lies in a path's folder, and deeper. Raises `RecipeError` at the top."""
    folder = path.rpartition("/")[0]
    if not folder:
        raise RecipeError.of(NO_FOLDER)
    return f"{pattern_of(folder)}/**"

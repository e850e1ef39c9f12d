"""Change single values of a recipe's text, so that what a person wrote around them stays: order, comments, blank lines."""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence
from contextlib import suppress
from typing import Any, get_args

import tomlkit
from pydantic import BaseModel
from tomlkit.exceptions import TOMLKitError
from tomlkit.items import AoT

from young_prism.core.recipe.base import RecipeModel
from young_prism.core.recipe.toml import model_at, parsed
from young_prism.core.toml_text import load_settings

Value = str | int | float | bool | list[Any] | dict[str, Any] | None


_HEADING = re.compile(r"([^\n]\n)(\[)")
"""A heading right below a line, as the library writes it."""


def with_value(text: str, path: str, value: Value) -> str:
    """Return the recipe's text with one key set, given by its path such as `formats.photo.avif.quality`.

    None takes the key away. A number in the path is a place in a list, counted from 0; the place after the last adds one.
    Tables that are missing are made; where a default holds more than an empty table would, all of it is written
    out, so that nothing else changes. The text may be a recipe that cannot be used yet: this is how it is mended. Raises
    `RecipeError` for a text that is no TOML, `LookupError` for a path that leads nowhere.
    """
    parts = _parts(path)
    plain = parsed(text)
    before = value_at(plain, path)
    if value is None and before is None:
        return text
    _set(plain, parts, value)
    if value is None and value_at(plain, path) == before:
        return text  # its default stands there as much as before
    candidates = [tomlkit.dumps(plain)]  # without comments, but never with another meaning
    with suppress(TOMLKitError, RecursionError):
        document = tomlkit.parse(text)
        _set(document, parts, value)
        changed = tomlkit.dumps(document)
        candidates = [_HEADING.sub(r"\1\n\2", changed), changed, *candidates]
    return next(candidate for candidate in candidates if _loads(candidate) == plain)


def value_at(plain: Mapping[str, Any], path: str) -> Any:
    """Return what parsed TOML says at a path, or the default there as plain data; None where there is nothing."""
    value: Any = plain
    parts = _parts(path)
    for depth, part in enumerate(parts):
        try:
            value = value[part]
        except (LookupError, TypeError):
            if isinstance(part, int) or not isinstance(value, Mapping):
                return None
            value = _default(model_at(parts[:depth]), part, value)
    return value


def parse_value(path: str, text: str) -> Value:
    """Return a form field's text as the value that the key at `path` takes.

    A number may end in %, and stands for its hundredth part; a list has commas. What is not of the right kind stays text,
    to be reported with its line like anything else that is typed.
    """
    text = text.strip()
    parts = _parts(path)
    owner = model_at(parts[:-1])
    field = owner.model_fields.get(str(parts[-1]))
    kinds = _kinds(field.annotation) if field else {str}
    if bool in kinds:
        return text in ("on", "true")
    if not text:
        return None
    if any(issubclass(kind, BaseModel) for kind in kinds):
        return {}
    if tuple in kinds and ("," in text or int not in _scalars(field.annotation if field else None)):
        return [
            _number(part) if str not in kinds else part.strip() for part in text.split(",") if part.strip()
        ]
    return _number(text) if kinds & {int, float} else text


def _number(text: str) -> int | float | str:
    text = text.strip()
    try:
        if text.endswith("%"):
            return round(float(text[:-1]) / 100, 6)
        return int(text)
    except ValueError:
        try:
            return float(text)
        except ValueError:
            return text


def _parts(path: str) -> list[str | int]:
    return [int(part) if part.isdigit() else part for part in path.split(".")]


def _kinds(annotation: Any) -> set[type]:
    """Return the types that an annotation is made of."""
    if isinstance(annotation, type) and not get_args(annotation):
        return {annotation}
    inner = {kind for argument in get_args(annotation) for kind in _kinds(argument)}
    literal = {str} if any(isinstance(argument, str) for argument in get_args(annotation)) else set()
    return inner | literal | ({tuple} if getattr(annotation, "__origin__", None) is tuple else set())


def _scalars(annotation: Any) -> set[type]:
    """Return the types that an annotation allows outside of lists."""
    if getattr(annotation, "__origin__", None) is tuple:
        return set()
    if isinstance(annotation, type) and not get_args(annotation):
        return {annotation}
    return {kind for argument in get_args(annotation) for kind in _scalars(argument)}


def _set(root: Any, parts: Sequence[str | int], value: Value) -> None:
    table = root
    for depth, part in enumerate(parts[:-1]):
        if not isinstance(part, int) and part not in table:
            missing = _written_out(model_at(parts[:depth]), part, table)
            # Lists of tables as a person writes them: each under a heading of its own.
            headed = missing == [] and isinstance(table, tomlkit.TOMLDocument)
            table[part] = tomlkit.aot() if headed else _plain(missing)
        table = table[part]
    last = parts[-1]
    if value is None:
        if isinstance(last, int) or last in table:
            del table[last]
        if isinstance(last, int) and not table:
            _set(root, parts[:-1], None)
    elif isinstance(last, int) and last == len(table):
        table.append(tomlkit.item(_plain(value)) if isinstance(table, AoT) else _plain(value))
    else:
        table[last] = _plain(value)


def _plain(value: Any) -> Any:
    """Return a copy, so that two documents never share a table; tables in lists inline, as a person writes them."""
    if isinstance(value, dict):
        return {key: _plain(item) for key, item in value.items()}
    return [_plain(item) for item in value] if isinstance(value, list) else value


def _written_out(owner: type[RecipeModel], key: str, table: Mapping[str, Any]) -> Any:
    """Return what must stand at a key that is left out before one value in it can be changed, and no more."""
    default = owner.default_of(key, table)
    if isinstance(default, tuple):
        return _default(owner, key, table)
    if not isinstance(default, BaseModel):
        return {}
    try:
        same = type(default)() == default
    except ValueError:  # a table that cannot be empty
        same = False
    return {} if same else _default(owner, key, table)


def _default(owner: type[RecipeModel], key: str, table: Mapping[str, Any]) -> Any:
    """Return the default of a key as plain data."""
    default = owner.default_of(key, table)
    if isinstance(default, BaseModel):
        return default.model_dump(mode="json", exclude_none=True)
    if isinstance(default, tuple):
        return [
            part.model_dump(mode="json", exclude_none=True) if isinstance(part, BaseModel) else part
            for part in default
        ]
    return default


def _loads(text: str) -> Any:
    try:
        return load_settings(text)
    except ValueError:
        return None

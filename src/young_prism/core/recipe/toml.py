"""A recipe as TOML that a person can write by hand and a repository can hold."""

from __future__ import annotations

import difflib
import re
from collections.abc import Sequence
from typing import Any, get_args

import tomlkit
from pydantic import ValidationError

from young_prism.core.errors import RecipeError
from young_prism.core.recipe.base import RecipeModel
from young_prism.core.recipe.formats import KINDS_OF_STILLS
from young_prism.core.recipe.model import Recipe
from young_prism.core.toml_text import load_settings
from young_prism.messages.recipes import invalid_recipe, invalid_toml

_MAX_PROBLEMS = 20
"""Wrong keys that an error names; looking for the line of each reads the whole text."""


def read_recipe(text: str, *, file: str = "") -> Recipe:
    """Parse and validate; what is left out has its default.

    Raises `RecipeError` naming every wrong key with its line and what is allowed.
    """
    try:
        return Recipe.model_validate(parsed(text, file=file))
    except ValidationError as error:
        errors = error.errors()
        problems = [_to_error(problem, text) for problem in errors[:_MAX_PROBLEMS]]
        if len(errors) > _MAX_PROBLEMS:
            problems.append(f"and {len(errors) - _MAX_PROBLEMS:,} more")
        raise RecipeError.of(invalid_recipe("; ".join(problems)), file=file) from error


def parsed(text: str, *, file: str = "") -> dict[str, Any]:
    """Return TOML as plain data. Raises `RecipeError` naming the line where it is none."""
    try:
        return load_settings(text)
    except ValueError as error:
        raise RecipeError.of(invalid_toml(error), file=file) from error


def write_recipe(recipe: Recipe) -> str:
    """Return the recipe with its values spelt out, but for those that its profile fills in.

    `read_recipe` reads the same recipe back.
    """
    plain = recipe.model_dump(mode="json", exclude_none=True)
    formats = [recipe.formats, *(override.formats for override in recipe.overrides)]
    for part, table in zip(formats, [plain, *plain["overrides"]], strict=True):
        for kind in KINDS_OF_STILLS:
            if part is not None and kind not in part.model_fields_set:
                del table["formats"][kind]
    return tomlkit.dumps(plain)


def _to_error(problem: Any, text: str) -> str:
    path: tuple[str | int, ...] = tuple(problem["loc"])
    key = ".".join(str(part) for part in path)
    line = line_of(text, path)
    where = f"line {line}, {key}" if line and key else key
    if problem["type"] == "extra_forbidden":
        return f"{where} is not a key of a recipe; {_allowed_beside(path)}"
    message = str(problem["msg"]).removeprefix("Value error, ").replace("a valid tuple", "a list")
    return f"{where}: {message[0].lower()}{message[1:]}" if where else message


def _allowed_beside(path: tuple[str | int, ...]) -> str:
    """Say which keys there are where an unknown one stands, the likeliest first."""
    keys = list(model_at(path[:-1]).model_fields)
    close = difflib.get_close_matches(str(path[-1]), keys, n=1)
    return f"did you mean {close[0]}?" if close else f"there are {', '.join(keys)}"


def model_at(path: Sequence[str | int]) -> type[RecipeModel]:
    """Return the part of the recipe's model that a path of keys leads to."""
    model: type[RecipeModel] = Recipe
    for part in path:
        field = model.model_fields.get(str(part))
        if field is not None:
            model = next(iter(_models_in(field.annotation)), model)
    return model


def _models_in(annotation: Any) -> list[type[RecipeModel]]:
    if isinstance(annotation, type) and issubclass(annotation, RecipeModel):
        return [annotation]
    return [model for inner in get_args(annotation) for model in _models_in(inner)]


_HEADER = re.compile(r"\s*\[+\s*([^\[\]]+?)\s*\]+\s*(?:#.*)?")
_KEY = re.compile(r"\s*((?:[\w-]+|\"[^\"]*\"|'[^']*')(?:\s*\.\s*(?:[\w-]+|\"[^\"]*\"|'[^']*'))*)\s*=")


def line_of(text: str, path: Sequence[str | int]) -> int:
    """Return the line, from 1, where the deepest key of `path` that can be found is set; 0 for none.

    Neither of the TOML libraries keeps positions; tables and keys stand at the start of lines, which is enough to find
    one's way (numbers in a path, places in a list, are passed over).
    """
    keys = [str(part) for part in path if isinstance(part, str)]
    table: list[str] = []
    best, depth = 0, 0
    for number, line in enumerate(text.splitlines(), start=1):
        header = _HEADER.fullmatch(line)
        key = None if header else _KEY.match(line)
        if header:
            table = here = _parts(header[1])
        elif key:
            here = [*table, *_parts(key[1])]
        else:
            continue
        if len(here) > depth and here == keys[: len(here)]:
            best, depth = number, len(here)
    return best


def _parts(dotted: str) -> list[str]:
    return [part.strip().strip("\"'") for part in dotted.split(".")]

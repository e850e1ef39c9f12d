"""A recipe as TOML that a person can write by hand and a repository can hold."""

from __future__ import annotations

import tomllib
from typing import Any

import tomlkit
from pydantic import ValidationError

from young_prism.core.errors import RecipeError
from young_prism.core.recipe.model import Recipe


def read_recipe(text: str, *, file: str = "") -> Recipe:
    """Parse and validate; what is left out has its default.

    Raises `RecipeError` naming every wrong key with what is allowed.
    """
    try:
        data = tomllib.loads(text)
    except tomllib.TOMLDecodeError as error:
        raise RecipeError(
            f"This is not valid TOML: {error}.", file=file, remedy="Correct that place."
        ) from error
    try:
        return Recipe.model_validate(data)
    except ValidationError as error:
        problems = "; ".join(_say(problem) for problem in error.errors())
        raise RecipeError(
            f"The recipe cannot be used: {problems}.",
            file=file,
            remedy="The keys and what they allow are in docs/schema/recipe.schema.json.",
        ) from error


def write_recipe(recipe: Recipe) -> str:
    """Return the recipe with all its values spelt out; `read_recipe` reads the same recipe back."""
    return tomlkit.dumps(recipe.model_dump(mode="json", exclude_none=True))


def _say(problem: Any) -> str:
    key = ".".join(str(part) for part in problem["loc"])
    if problem["type"] == "extra_forbidden":
        return f"{key} is not a key of a recipe"
    message = str(problem["msg"]).removeprefix("Value error, ")
    return f"{key}: {message[0].lower()}{message[1:]}" if key else message

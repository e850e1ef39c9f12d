"""An exception of the recipe for one original, as its page sets it."""

from __future__ import annotations

from typing import Any, NamedTuple

from young_prism.core.images.facts import Facts
from young_prism.core.plan.resolve import format_key, formats_for
from young_prism.core.proof.apply_choice import override_index, pattern_of
from young_prism.core.recipe.edit import parse_value, value_at, with_value
from young_prism.core.recipe.model import Recipe
from young_prism.core.recipe.toml import parsed, read_recipe


class OwnDecisions(NamedTuple):
    """What is decided otherwise for one original: widths as text, qualities by format, or that nothing is made of it."""

    exists: bool
    widths: str
    qualities: dict[str, int]
    leave_out: bool


def decisions_of(path: str, facts: Facts, recipe: Recipe, text: str) -> OwnDecisions:
    """Return what a recipe says of one original alone, with the qualities that hold for it."""
    index = _override_index(text, path)
    override = recipe.overrides[index] if index is not None and index < len(recipe.overrides) else None
    formats = override.formats if override and override.formats else recipe.formats
    chosen = formats_for(facts, recipe.model_copy(update={"formats": formats}))
    widths = override.ladder.widths if override and override.ladder else ()
    return OwnDecisions(
        override is not None,
        ", ".join(map(str, widths)),
        {
            fmt.value: settings.quality
            for fmt, settings in chosen.settings().items()
            if hasattr(settings, "quality")
        },
        bool(override and override.leave_out),
    )


def with_decisions(text: str, path: str, facts: Facts, form: dict[str, str]) -> str:
    """Return the recipe's text with what a form says of one original. Raises `RecipeError` where that cannot be used."""
    index = _override_index(text, path)
    if "remove" in form:
        return text if index is None else with_value(text, f"overrides.{index}", None)
    recipe = read_recipe(text)
    base = f"overrides.{len(recipe.overrides) if index is None else index}"
    if index is None:
        text = with_value(text, base, {"match": pattern_of(path)})
    text = with_value(text, f"{base}.leave_out", True if "leave_out" in form else None)
    widths = parse_value("ladder.widths", form.get("widths", ""))
    ladder: dict[str, Any] = {"widths": widths, "measure": recipe.ladder.measure}
    text = with_value(text, f"{base}.ladder", ladder if widths else None)
    text = with_value(text, f"{base}.formats", _formats(recipe, facts, form))
    if set(value_at(parsed(text), base)) == {"match"}:
        text = with_value(text, base, None)
    read_recipe(text)
    return text


def _formats(recipe: Recipe, facts: Facts, form: dict[str, str]) -> dict[str, Any] | None:
    """Return the recipe's formats with other qualities for this kind of picture; None where they are the same."""
    whole = recipe.model_dump(mode="json", exclude_none=True)["formats"]
    formats = whole
    for key in format_key(facts, recipe.formats).split("."):
        formats = formats[key]
    changed = False
    for fmt, settings in formats.items():
        value = parse_value("formats.photo.webp.quality", form.get(f"quality:{fmt}", ""))
        if value is not None and value != settings.get("quality"):
            settings["quality"], changed = value, True
    return whole if changed else None


def _override_index(text: str, path: str) -> int | None:
    """Return the place in the list of the exception that is for this original alone."""
    return override_index(text, path, f"/{path}", pattern_of(path))

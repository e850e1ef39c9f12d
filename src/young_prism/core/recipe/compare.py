"""What differs between two recipes, key by key, defaults included."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any, NamedTuple

from young_prism.core.recipe.model import Recipe


class Difference(NamedTuple):
    """One key with what each recipe says of it, as TOML writes it; empty where it says nothing."""

    key: str
    left: str
    right: str


def differences(recipe: Recipe, other_recipe: Recipe) -> list[Difference]:
    """Return all keys that differ, in the order of the recipe's parts. What is never used is not compared.

    Facets are told apart by their names and overrides by what they match, lines of a layout by their place; of overrides
    the order counts too, since the last one that matches decides.
    """
    left_values, theirs = dict(_comparable(recipe)), dict(_comparable(other_recipe))
    keys = dict.fromkeys([*left_values, *theirs])
    return [
        Difference(key, left_values.get(key, ""), theirs.get(key, ""))
        for key in keys
        if left_values.get(key) != theirs.get(key)
    ]


def _comparable(recipe: Recipe) -> Iterator[tuple[str, str]]:
    plain = recipe.model_dump(mode="json", exclude_none=True)
    for table in (plain, *plain["facets"], *plain["overrides"]):
        _without_unused_widths(table.get("ladder"))
    yield from _flat("", plain)


def _without_unused_widths(ladder: dict[str, Any] | None) -> None:
    if ladder and (ladder.get("steps") or ladder.get("layout") or ladder.get("percents")):
        ladder.pop("widths", None)


def _flat(key: str, value: Any) -> Iterator[tuple[str, str]]:
    if isinstance(value, dict):
        if not value and key:
            yield key, "{}"
        for name, inner in value.items():
            yield from _flat(f"{key}.{name}" if key else name, inner)
    elif isinstance(value, list) and value and isinstance(value[0], dict):
        names: list[str] = []
        for index, inner in enumerate(value, start=1):
            name = inner.get("name") or inner.get("match")
            rest = {k: v for k, v in inner.items() if k not in ("name", "match") or v != name}
            again = names.count(name) + 1 if name else 1
            yield from _flat(f"{key}.{name or index}{f' ({again})' if again > 1 else ''}", rest or {})
            names.append(name or str(index))
        if len(set(names)) > 1:
            yield f"{key}, in order", _toml(names)
    elif value != [] or (key.startswith("overrides.") and key.endswith(".facets")):
        # An override without cuts is something else than one that leaves the recipe's own.
        yield key, _toml(value)


def _toml(value: Any) -> str:
    if isinstance(value, bool):
        return "true" if value else "false"
    if isinstance(value, list):
        return "[" + ", ".join(_toml(item) for item in value) + "]"
    return f'"{value}"' if isinstance(value, str) else f"{value}"

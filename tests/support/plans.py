"""Planned originals that are on no disk, and no encoder has seen."""

from __future__ import annotations

from tests.support.facts import facts
from young_prism.core.plan.make import make_plan
from young_prism.core.plan.model import PlannedOriginal
from young_prism.core.recipe.toml import read_recipe


def planned(
    path: str = "a.jpg",
    widths: tuple[int, ...] = (100, 200, 400),
    formats: str = "jpeg = {}",
    **changes: object,
) -> PlannedOriginal:
    """Return the plan of one photograph."""
    recipe = read_recipe(f"[ladder]\nwidths = {list(widths)}\n[formats.photo]\n{formats}\n")
    return make_plan({path: facts(**changes)}, recipe).originals[0]

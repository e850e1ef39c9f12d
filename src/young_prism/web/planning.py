"""The plan of a source as pages show it."""

from __future__ import annotations

from collections.abc import Mapping
from pathlib import Path

from young_prism.core.originals.facts import Facts
from young_prism.core.plan.make import make_plan
from young_prism.core.plan.model import Plan
from young_prism.core.recipe.model import Recipe
from young_prism.engine.marks import find_marks
from young_prism.store.models import SourceRow
from young_prism.web.catalogue import Catalogue


def plan_of(
    source: SourceRow,
    catalogue: Catalogue,
    recipe: Recipe | None = None,
    facts: Mapping[str, Facts] | None = None,
) -> Plan:
    """Plan a source's originals in scope, or those whose `facts` are given, by its own recipe or another.

    What is known by its header alone joins the plan when its pixels have been seen.
    """
    recipe = recipe or catalogue.recipe
    known = catalogue.in_scope if facts is None else facts
    marks = find_marks(recipe, [Path(source.folder)]).by_file
    seen = {path: one for path, one in known.items() if one.seen}
    return make_plan(seen, recipe, details=catalogue.details, marks=marks)

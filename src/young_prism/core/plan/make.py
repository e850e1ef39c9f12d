"""Make the plan: pure, deterministic, quick."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping

from young_prism.core.images.facts import Facts
from young_prism.core.naming.clean import cleaned
from young_prism.core.naming.collisions import resolve_collisions
from young_prism.core.naming.context import NO_NAME_CONTEXT, NameContext
from young_prism.core.plan.model import (
    NO_WATERMARKS,
    Plan,
    PlannedOriginal,
    SkippedOriginal,
    WatermarkFile,
)
from young_prism.core.plan.original import OriginalPlanner, PlanCache
from young_prism.core.plan.resolve import resolve_recipe
from young_prism.core.recipe.model import Names, Recipe
from young_prism.core.selection.image_metadata import (
    EMPTY_METADATA,
    NO_METADATA,
    MetadataByPath,
)
from young_prism.core.types import Kind
from young_prism.messages.originals import EXCLUDED_BY_RECIPE, IS_WATERMARK, watermark_missing


def make_plan(
    facts: Mapping[str, Facts],
    recipe: Recipe,
    left_out: Iterable[SkippedOriginal] = (),
    *,
    details: MetadataByPath = EMPTY_METADATA,
    marks: Mapping[str, WatermarkFile] = NO_WATERMARKS,
    context: NameContext = NO_NAME_CONTEXT,
) -> Plan:
    """Plan all originals.

    Args:
        facts: The facts of originals by their path below the source, with `/` between folders.
        recipe: The rules.
        left_out: What gets no renditions.
        details: The metadata of single originals.
        marks: The watermarks by the file that the recipe names.
        context: Days and numbers for names.

    Raises:
        ValueError: Of an original only the header is known: its kind decides what is made.
    """
    unseen = [path for path, known in facts.items() if not known.seen]
    if unseen:
        raise ValueError(f"look closer first: {unseen[0]}")
    facts = {
        path: known.treated_as(details[path].kind) if path in details else known
        for path, known in facts.items()
    }
    recipes = {path: resolve_recipe(path, recipe) for path in facts}
    left = [
        SkippedOriginal.of(path, EXCLUDED_BY_RECIPE) for path, recipe in recipes.items() if recipe is None
    ]
    marking = _watermark_files(recipe) & facts.keys()
    left += [SkippedOriginal.of(path, IS_WATERMARK) for path in sorted(marking) if recipes[path] is not None]
    recipes = {path: None if path in marking else resolved for path, resolved in recipes.items()}
    no_mark = {
        path: mark
        for path, recipe in recipes.items()
        if recipe and (mark := _missing_mark(facts[path], recipe, marks))
    }
    left += [SkippedOriginal.of(path, watermark_missing(mark), failed=True) for path, mark in no_mark.items()]
    number_by_path = context.numbered(facts, recipe.names.counter_start)
    clean = _cleaner(recipe.names)
    titles = {
        path: title
        for path, detail in details.items()
        if path in facts and (title := title_stem(detail.title, recipe.names))
    }

    shared = PlanCache()
    in_place = recipe.names.layout == "in-place"

    def planned(path: str, stem: str) -> PlannedOriginal:
        effective = recipes[path] or recipe
        detail = details.get(path, NO_METADATA)
        return OriginalPlanner(
            path, facts[path], effective, number_by_path[path], detail, marks, clean, shared, context
        ).plan(stem, titles.get(path))

    named = resolve_collisions(
        [path for path, recipe in recipes.items() if recipe and path not in no_mark],
        planned,
        # In place an original's own name is its own: it stands, and no other one may have it.
        lambda original: [r.path for r in original.renditions if not in_place or r.path != original.path],
        titles,
        used_paths=facts if recipe.names.into_source else (),
    )
    problems = tuple(sorted([*left_out, *left], key=lambda skipped: skipped.path))
    overridden = {
        path: resolved for path in named if (resolved := recipes[path]) is not None and resolved is not recipe
    }
    return Plan(recipe=recipe, originals=tuple(named.values()), left_out=problems, overridden=overridden)


def _missing_mark(facts: Facts, recipe: Recipe, marks: Mapping[str, WatermarkFile]) -> str:
    """Return the file of the watermark that an original should wear and that does not exist; empty for none."""
    watermark = recipe.finishing.watermark
    worn = watermark and not (facts.kind is Kind.VECTOR or recipe.formats.squeeze)
    return watermark.name if watermark and worn and watermark.name not in marks else ""


def _watermark_files(recipe: Recipe) -> set[str]:
    """Return the files that a recipe and its exceptions name as watermarks."""
    finishings = (recipe.finishing, *(override.finishing for override in recipe.overrides))
    return {finishing.watermark.file for finishing in finishings if finishing and finishing.watermark}


def _cleaner(names: Names) -> Callable[[str], str]:
    if names.case == "keep" and not (names.hyphens or names.ascii_only):
        return lambda text: text
    return lambda text: cleaned(text, case=names.case, hyphens=names.hyphens, ascii_only=names.ascii_only)


def title_stem(title: str, names: Names) -> str:
    """Return a typed title as a stem: words with hyphens between them, lower case; it may not leave its folder."""
    return cleaned(title, case="lower", hyphens=True, ascii_only=names.ascii_only).strip("-._")

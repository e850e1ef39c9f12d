"""What was decided of a source, as values of the core: read from its row."""

from __future__ import annotations

from functools import lru_cache
from pathlib import Path

from young_prism.core.errors import RecipeError
from young_prism.core.recipe.model import Recipe
from young_prism.core.recipe.toml import read_recipe, write_recipe
from young_prism.core.selection.scope import Scope
from young_prism.store.records import Source


def scope_of(source: Source, out: frozenset[str] = frozenset()) -> Scope:
    """Return a source's patterns, with what was taken out of it by hand."""
    return Scope(tuple(source.include), tuple(source.exclude), out)


def recipe_of(source: Source) -> Recipe:
    """Return a source's recipe; the default one where it has none, or none that this version understands."""
    return _read(source.recipe)


def recipe_text(source: Source) -> str:
    """Return a source's recipe as text, the default one written out where it has none."""
    return source.recipe if source.recipe.strip() else write_recipe(recipe_of(source))


def out_of(source: Source, recipe: Recipe | None = None) -> Path:
    """Return the folder that renditions go to: the source's own where its recipe puts them next to their originals."""
    is_beside_originals = (recipe or recipe_of(source)).names.into_source
    return Path(source.folder if is_beside_originals else source.out_folder)


@lru_cache(maxsize=64)
def _read(text: str) -> Recipe:
    try:
        return read_recipe(text) if text.strip() else Recipe()
    except RecipeError:
        return Recipe()  # it was checked when it was saved: only another version can have thought otherwise

"""Recipes saved under a name, apart from any source."""

from __future__ import annotations

from datetime import UTC, datetime

from sqlalchemy import delete, select

from young_prism.store.models import SavedRecipeRow
from young_prism.store.records import SavedRecipe, record_or_none, to_record, to_records
from young_prism.store.sessions import Sessions
from young_prism.store.slugs import free_slug


class SavedRecipes(Sessions):
    """The shelf of recipes. What is put there is TOML that was read already."""

    def all(self) -> list[SavedRecipe]:
        """Return all of them, by name."""
        with self._session() as session:
            query = select(SavedRecipeRow).order_by(SavedRecipeRow.name, SavedRecipeRow.id)
            return to_records(SavedRecipe, session.scalars(query))

    def get(self, slug: str) -> SavedRecipe | None:
        """Return one by the name in its address."""
        with self._session() as session:
            return record_or_none(
                SavedRecipe, session.scalar(select(SavedRecipeRow).where(SavedRecipeRow.slug == slug))
            )

    def add(self, name: str, text: str) -> SavedRecipe:
        """Save a recipe as one more, under an address of its own."""
        with self._session() as session:
            slug = free_slug(name, set(session.scalars(select(SavedRecipeRow.slug))), otherwise="recipe")
            row = SavedRecipeRow(slug=slug, name=name, text=text, changed_at=datetime.now(UTC))
            session.add(row)
            session.flush()
            return to_record(SavedRecipe, row)

    def change(self, slug: str, name: str, text: str) -> None:
        """Put another text in its place."""
        with self._session() as session:
            row = session.scalar(select(SavedRecipeRow).where(SavedRecipeRow.slug == slug))
            if row:
                row.name, row.text, row.changed_at = name, text, datetime.now(UTC)

    def remove(self, slug: str) -> None:
        """Forget one. Sources that were given it keep their copy."""
        with self._session() as session:
            session.execute(delete(SavedRecipeRow).where(SavedRecipeRow.slug == slug))

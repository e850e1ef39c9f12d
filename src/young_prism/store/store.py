"""The database, as one object with a repository for each subject."""

from __future__ import annotations

from pathlib import Path

from young_prism.store.access import AccessRecords
from young_prism.store.database import open_database
from young_prism.store.image_metadata import MetadataRecords
from young_prism.store.originals import OriginalRecords
from young_prism.store.recipes import SavedRecipes
from young_prism.store.runs import RunRecords
from young_prism.store.scope import ScopeRecords
from young_prism.store.sources import SourceRecords
from young_prism.store.uploads import UploadRecords
from young_prism.store.webhooks import WebhookRecords


class Store:
    """All reading and writing of the database. Safe to use from several threads.

    Repositories take and return values (`store.records`), never rows of the database.
    """

    def __init__(self, file: Path) -> None:
        self._engine = open_database(file)
        self.sources = SourceRecords(self._engine)
        self.originals = OriginalRecords(self._engine)
        self.scope = ScopeRecords(self._engine)
        self.metadata = MetadataRecords(self._engine)
        self.runs = RunRecords(self._engine)
        self.uploads = UploadRecords(self._engine)
        self.recipes = SavedRecipes(self._engine)
        self.access = AccessRecords(self._engine)
        self.webhooks = WebhookRecords(self._engine)

    def close(self) -> None:
        """Close the database file."""
        self._engine.dispose()

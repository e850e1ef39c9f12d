"""A run by command in the one history: its folder is known to the store, though it is no source for people."""

from __future__ import annotations

from pathlib import Path
from typing import Any

from young_prism import __version__
from young_prism.core.errors import StoreError
from young_prism.core.recipe.model import Recipe
from young_prism.core.recipe.toml import write_recipe
from young_prism.engine.versions import versions
from young_prism.services.runs.recorder import RunRecorder
from young_prism.store import owners
from young_prism.store.database import DATABASE
from young_prism.store.sources import COMMAND
from young_prism.store.states import RunState
from young_prism.store.store import Store


class RecordedCommandRun:
    """The record of one build. Where it cannot be kept, `problem` says why, and the build goes on without it."""

    def __init__(
        self, data: Path, source: Path, out: Path, recipe: Recipe, *, verify: bool, origin: str = "command"
    ) -> None:
        self.problem = ""
        self.recorder: RunRecorder | None = None
        self.number = 0
        self.store: Store | None = None
        try:
            self.store = Store(data / DATABASE)
            folder = source.resolve()
            row = self.store.sources.add(folder.name or "folder", folder, out.resolve(), data, kind=COMMAND)
            self.number = self.store.runs.add(
                row.id,
                origin=origin,
                owner=owners.COMMAND,
                state=RunState.INSPECTING,
                recipe=write_recipe(recipe),
                version=__version__,
                out_folder=str(out.resolve()),
                versions=versions(),
            )
            self.recorder = RunRecorder(
                self.store, self.number, recipe, verify=verify, pace=self.store.runs.pace(row.id)
            )
        except StoreError as error:
            self.close()
            self.store = None
            self.problem = f"This run is not in the history: {error}"

    def report_before(self) -> dict[str, Any] | None:
        """Return the figures of the run before this one, None where there was none."""
        return self.store.runs.report_before(self.number) if self.store else None

    def close(self) -> None:
        """Let go of the database."""
        if self.store:
            self.store.close()

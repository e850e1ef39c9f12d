"""A site as a build sees it: which folder is built into which, by what rules; given by hand, or by a project file."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass
from pathlib import Path

from young_prism.core.errors import LayoutFileError, ProjectError, RecipeError, YoungPrismError
from young_prism.core.measurement.model import MeasuredLayout, read_layout
from young_prism.core.plan.model import WatermarkFile
from young_prism.core.project import PROJECT_FILE, Project, read_project
from young_prism.core.recipe.model import Recipe
from young_prism.core.recipe.toml import read_recipe
from young_prism.core.selection.image_metadata import (
    EMPTY_METADATA,
    MetadataByPath,
    read_details,
)
from young_prism.core.selection.scope import Scope
from young_prism.engine.build.planning import (
    PreparedPlan,
    plan_source,
)
from young_prism.engine.build.request import BuildRequest, PathFilter
from young_prism.engine.source.watermarks import load_watermarks
from young_prism.engine.workers.pool import Pool
from young_prism.messages.originals import unreadable
from young_prism.messages.projects import NO_SOURCE


@dataclass(frozen=True, slots=True)
class Site:
    """A folder of originals and one for renditions, with the decisions: their files are read, their patterns checked."""

    source: Path
    out: Path
    recipe: Recipe
    scope: Scope
    details: MetadataByPath
    marks: Mapping[str, WatermarkFile]

    def request(self, *, only: PathFilter | None = None) -> BuildRequest:
        """Return the request that builds this site, or only some of its originals."""
        return BuildRequest(
            source=self.source,
            out=self.out,
            recipe=self.recipe,
            scope=self.scope,
            metadata=self.details,
            watermarks=self.marks,
            only=only,
        )

    def plan(self, pool: Callable[[], Pool]) -> PreparedPlan:
        """Walk, inspect and plan the source. Nothing is written. Raises `SourceError`."""
        return plan_source(self.request(), pool)


def find_project(folder: Path) -> Path | None:
    """Return the project file in a folder, or in the nearest one above that has one."""
    folders = [folder.resolve(), *folder.resolve().parents]
    return next(
        (folder_above / PROJECT_FILE for folder_above in folders if (folder_above / PROJECT_FILE).is_file()),
        None,
    )


def load_project(file: Path) -> Project:
    """Read a project file. Raises `ProjectError`."""
    return read_project(read_text(file, ProjectError), file=str(file))


def load_site(file: Path) -> Site:
    """Return the site that a project file describes. Raises `ProjectError`, `RecipeError` and `SourceError`."""
    project, here = load_project(file), file.parent
    if not project.source or not (project.out or project.recipe):
        raise ProjectError.of(NO_SOURCE, file=str(file))
    recipe = load_recipe(here / project.recipe if project.recipe else None)
    scope = Scope(project.include, project.exclude)
    scope.check()
    recipe_folders = [(here / project.recipe).parent] if project.recipe else []
    source = here / project.source
    return Site(
        source,
        here / project.out if project.out else source,
        recipe,
        scope,
        load_details(here / project.details if project.details else None),
        load_watermarks(recipe, *recipe_folders, source),
    )


def load_recipe(file: Path | None) -> Recipe:
    """Read a recipe, or take the default one. Raises `RecipeError`."""
    return Recipe() if file is None else read_recipe(read_text(file), file=str(file))


def load_details(file: Path | None) -> MetadataByPath:
    """Read the metadata of single originals; none without a file. Raises `RecipeError`."""
    return EMPTY_METADATA if file is None else read_details(read_text(file), file=str(file))


def load_layout(file: Path) -> MeasuredLayout:
    """Read a layout file. Raises `LayoutFileError`."""
    return read_layout(read_text(file, LayoutFileError), file=str(file))


def read_text(file: Path, refused: type[YoungPrismError] = RecipeError) -> str:
    """Read a recipe, a file of details, or another text. Raises `RecipeError`, or the error that is to be raised for it."""
    try:
        return file.read_text(encoding="utf-8")
    except (OSError, UnicodeDecodeError) as error:
        raise refused.of(
            unreadable(getattr(error, "strerror", None) or "it is not UTF-8"), file=str(file)
        ) from error

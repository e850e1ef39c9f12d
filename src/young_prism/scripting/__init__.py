"""Young Prism from Python, for build scripts: a few functions that stay as they are.

    from young_prism import scripting

    site = scripting.site()                        # young-prism.toml here or above
    result = scripting.build(site)                 # makes what is missing
    for finding in scripting.check(site):
        print(finding.file, finding.what)
    print(scripting.picture(site, "photos/summit.jpg", alt="The summit"))

Everything that can go wrong is a `YoungPrismError` with `what`, `file` and `remedy`. A script that builds needs the usual
`if __name__ == "__main__":` round it, since the worker processes read it again (see `multiprocessing`).
"""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from pathlib import Path
from typing import TYPE_CHECKING

from young_prism.core.audit.budgets import Finding
from young_prism.core.conversion.options import ConvertOptions
from young_prism.core.errors import OutputError, ProjectError, YoungPrismError
from young_prism.core.images.facts import Facts
from young_prism.core.markup.delivered import Delivered
from young_prism.core.markup.picture import MarkupContext
from young_prism.core.naming.rule import WHOLE_FACET
from young_prism.core.plan.model import Plan
from young_prism.core.project import Budget
from young_prism.core.recipe.model import Recipe
from young_prism.core.selection.image_metadata import EMPTY_METADATA, NO_METADATA
from young_prism.core.selection.scope import Scope
from young_prism.core.types import ImageFormat, Size
from young_prism.engine.build.options import BuildOptions
from young_prism.engine.build.outcome import BuildOutcome
from young_prism.engine.build.pipeline import build as build_request
from young_prism.engine.conversion import convert_bytes
from young_prism.engine.events import OnEvent, ignore_event
from young_prism.engine.output.manifest_file import manifest_file, require_manifest
from young_prism.engine.site.check import check_site
from young_prism.engine.site.config import (
    Site,
    find_project,
    load_project,
    load_recipe,
    load_site,
)
from young_prism.engine.source.inspection import inspect_folder
from young_prism.engine.source.watermarks import load_watermarks
from young_prism.engine.workers.pool import lazy_pool
from young_prism.serving.build import ServedBuild, load_build

if TYPE_CHECKING:
    from young_prism.core.conversion.convert import Converted

BuildResult = BuildOutcome
"""The former name of `BuildOutcome`."""

__all__ = [
    "BuildOutcome",
    "Finding",
    "Site",
    "YoungPrismError",
    "budget_of",
    "build",
    "check",
    "convert",
    "folders",
    "look",
    "picture",
    "plan",
    "site",
]


def site(project: str | Path | None = None) -> Site:
    """Return the site of a project file, by default the nearest `young-prism.toml` here or above. Raises `ProjectError`."""
    file = Path(project) if project else find_project(Path.cwd())
    if file is None:
        raise ProjectError(
            "There is no young-prism.toml here or above.",
            file=str(Path.cwd()),
            remedy="Write one, or name the folders with folders().",
        )
    return load_site(file)


def folders(source: str | Path, out: str | Path, recipe: str | Path | Recipe | None = None) -> Site:
    """Return a site by its folders and a recipe: a TOML file, or the default one. Raises `RecipeError`."""
    chosen = recipe if isinstance(recipe, Recipe) else load_recipe(Path(recipe) if recipe else None)
    folder = Path(source)
    return Site(folder, Path(out), chosen, Scope(), EMPTY_METADATA, load_watermarks(chosen, folder))


def look(of: Site) -> Mapping[str, Facts]:
    """Return the facts of each original in scope, by its path below the source. Raises `SourceError`."""
    with lazy_pool(None) as pool:
        return inspect_folder(of.source, pool, output=of.out, scope=of.scope).facts


def plan(of: Site) -> Plan:
    """Return every rendition that a build would make, with name, size and reason; nothing is written. Raises `SourceError`."""
    with lazy_pool(None) as pool:
        return of.plan(pool).plan


def build(
    of: Site,
    *,
    only: Callable[[str], bool] | None = None,
    jobs: int | None = None,
    verify: bool = True,
    listen: OnEvent = ignore_event,
) -> BuildOutcome:
    """Make every rendition that is not there yet, and write the manifest; one original that fails costs no other one.

    `only` says by its path whether an original is to be done now; `jobs` are worker processes, one a core by default; `listen`
    is told what goes on (`young_prism.engine.events`). Raises `SourceError` and `OutputError` when nothing can be done at all.
    """
    return build_request(of.request(only=only), BuildOptions(jobs=jobs, verify=verify), listen)


def convert(
    data: bytes,
    *,
    widths: Sequence[int] = (),
    longest_sides: Sequence[int] = (),
    percents: Sequence[float] = (),
    box: tuple[int, int] | None = None,
    formats: Sequence[str] = (),
    qualities: Sequence[int] = (),
    target: float | None = None,
    max_bytes: int | None = None,
    poster: bool = False,
    lossless: bool = False,
) -> list[Converted]:
    """Turn one picture into files in memory: every size, format and quality that is asked for. Nothing is enlarged.

    Args:
        data: The bytes of the picture.
        widths: Widths in pixels.
        longest_sides: Longest sides in pixels.
        percents: Percentages of the picture's own sides.
        box: The largest width and height in pixels; None for any.
        formats: Of jxl, avif, webp, jpeg and png; empty for the picture's own, or jpeg where that cannot be written.
        qualities: Qualities from 1 to 100; empty for the usual one of each format.
        target: The score that each lossy file reaches, 10 to 100, in place of a quality.
        max_bytes: The most bytes that each file has.
        poster: Whether the first frame of an animation is made too.
        lossless: Whether every pixel stays as it is.

    Returns:
        The files, by size, then format, then quality: each with `data`, `format`, `size`, `quality`, `score` and `note`.

    Raises:
        ValueError: A format that is none of those.
        YoungPrismError: The picture cannot be read, or no file can be made as asked.
    """
    options = ConvertOptions(
        widths=tuple(widths),
        longest_sides=tuple(longest_sides),
        percents=tuple(percents),
        box=Size(*box) if box else None,
        formats=tuple(ImageFormat(name) for name in formats),
        qualities=tuple(qualities),
        target=target,
        max_bytes=max_bytes,
        poster=poster,
        lossless=lossless,
    )
    return convert_bytes(data, options)


def check(of: Site, budget: Budget | None = None, *, pages: str | Path | None = None) -> list[Finding]:
    """Return what is missing, stale or orphaned, and what breaks a budget; nothing where all is well. Raises `SourceError`."""
    with lazy_pool(None) as pool:
        return check_site(of, budget or Budget(), pool, pages=Path(pages) if pages else None).findings


def budget_of(project: str | Path) -> Budget:
    """Return the budget that a project file sets. Raises `ProjectError`."""
    return load_project(Path(project)).budget


def picture(
    of: Site,
    path: str,
    facet: str = WHOLE_FACET,
    *,
    alt: str | None = None,
    caption: str | None = None,
    hero: bool = False,
    sizes: str | None = None,
    base_url: str | None = None,
) -> str:
    """Return the markup of a picture that was built, by its original's path below the source.

    With the name of a `facet`, of that cut alone. What is not said is taken from the site's details and recipe. A `hero` is loaded first.
    Raises `OutputError` for a picture, or a cut, that there is no rendition of.
    """
    built = load_build(of.out) or ServedBuild.from_manifest(require_manifest(manifest_file(of.out)))
    entry = built.originals.get(path)
    delivered = Delivered.from_entry(entry, of.recipe).of_facet(facet) if entry else None
    if delivered is None or not delivered.whole:
        cut = "" if facet == WHOLE_FACET else f" in the cut “{facet}”"
        raise OutputError(
            f"There is no rendition of it{cut}.",
            file=path,
            remedy="Build first; its path is the one below the source folder.",
        )
    metadata = of.details.get(path, NO_METADATA)
    words = metadata.alt if alt is None else alt
    below = metadata.caption_line if caption is None else caption
    return delivered.with_markup(sizes=sizes, base_url=base_url).html(MarkupContext(words, below, hero))

"""Young Prism from Python, for build scripts: a few functions that stay as they are.

    from young_prism import scripting

    site = scripting.site()                        # young-prism.toml here or above
    result = scripting.build(site)                 # makes what is missing
    for finding in scripting.check(site):
        print(finding.file, finding.what)
    print(scripting.picture(site, "photos/summit.jpg", alt="The summit"))

Every error is a `YoungPrismError` with `what`, `file` and `remedy`. A script that builds needs the usual
`if __name__ == "__main__":`, because worker processes import it again (see `multiprocessing`).
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
from young_prism.messages.pages import no_rendition
from young_prism.messages.projects import NO_PROJECT_FILE
from young_prism.serving.build import ServedBuild, load_build

if TYPE_CHECKING:
    from young_prism.core.conversion.results import Converted

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
    """Return the site that a project file describes.

    Args:
        project: The project file. Default: `young-prism.toml` in the working directory or the nearest folder above.

    Raises:
        ProjectError: There is no project file, or it is invalid.
    """
    file = Path(project) if project else find_project(Path.cwd())
    if file is None:
        raise ProjectError.of(NO_PROJECT_FILE, file=str(Path.cwd()))
    return load_site(file)


def folders(source: str | Path, out: str | Path, recipe: str | Path | Recipe | None = None) -> Site:
    """Return a site without a project file.

    Args:
        source: The folder of originals.
        out: The folder for renditions.
        recipe: A TOML file or a `Recipe`. Default: the default recipe.

    Raises:
        RecipeError: The recipe is invalid.
    """
    chosen = recipe if isinstance(recipe, Recipe) else load_recipe(Path(recipe) if recipe else None)
    folder = Path(source)
    return Site(folder, Path(out), chosen, Scope(), EMPTY_METADATA, load_watermarks(chosen, folder))


def look(of: Site) -> Mapping[str, Facts]:
    """Inspect the originals of a site.

    Args:
        of: The site.

    Returns:
        The facts of each original (format, size, kind, metadata and more), by its path below the source.

    Raises:
        SourceError: The source folder cannot be listed.
    """
    with lazy_pool(None) as pool:
        return inspect_folder(of.source, pool, output=of.out, scope=of.scope).facts


def plan(of: Site) -> Plan:
    """Return every rendition that a build would create, with name, size and reason. Writes nothing.

    Args:
        of: The site.

    Raises:
        SourceError: The source folder cannot be listed.
    """
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
    """Create the missing renditions and write the manifest. A failed original does not stop the others.

    Args:
        of: The site.
        only: Decides by its path whether an original is built now. Default: all.
        jobs: Worker processes. Default: one for each core.
        verify: Whether each rendition is read back after writing.
        listen: Called with each event of the build (`young_prism.engine.events`).

    Returns:
        The outcome with counts, bytes and failures.

    Raises:
        SourceError: The source folder cannot be listed.
        OutputError: The output folder cannot be written.
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
    """Convert one image in memory to every requested size, format and quality. Nothing is enlarged.

    Args:
        data: The bytes of the image.
        widths: Widths in pixels.
        longest_sides: Longest sides in pixels.
        percents: Percentages of the original size.
        box: The largest width and height in pixels; None for any.
        formats: Of jxl, avif, webp, jpeg and png. Default: the format of the image, or jpeg if that cannot be written.
        qualities: Qualities from 1 to 100. Default: the usual one of each format.
        target: Score from 10 to 100 that each lossy file must reach, instead of a quality.
        max_bytes: Byte limit of each file.
        poster: Whether the first frame of an animation is also returned.
        lossless: Whether every pixel is kept.

    Returns:
        The files, sorted by size, format and quality, each with `data`, `format`, `size`, `quality`, `score` and `note`.

    Raises:
        ValueError: A format is not one of these.
        YoungPrismError: The image cannot be read, or no file meets the request.
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
    """Compare a build with its source and its budget. Writes nothing.

    Args:
        of: The site.
        budget: The budget. Default: no limits.
        pages: The folder of the pages whose weight is checked. Default: found by itself.

    Returns:
        One finding for each missing, stale or orphaned rendition and for each exceeded limit.

    Raises:
        SourceError: The source folder cannot be listed.
    """
    with lazy_pool(None) as pool:
        return check_site(of, budget or Budget(), pool, pages=Path(pages) if pages else None).findings


def budget_of(project: str | Path) -> Budget:
    """Return the budget of a project file.

    Args:
        project: The project file.

    Raises:
        ProjectError: The project file is invalid.
    """
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
    """Return the markup of an original that was built.

    Args:
        of: The site.
        path: Path of the original below the source.
        facet: Name of a crop. Default: the whole image.
        alt: Alternative text. Default: from the details of the site.
        caption: Caption. Default: from the details of the site.
        hero: Whether this is the main image of its page, loaded with priority.
        sizes: The sizes attribute. Default: from the recipe.
        base_url: Address of the renditions. Default: from the recipe.

    Raises:
        OutputError: The original, or the crop, has no rendition.
    """
    built = load_build(of.out) or ServedBuild.from_manifest(require_manifest(manifest_file(of.out)))
    entry = built.originals.get(path)
    delivered = Delivered.from_entry(entry, of.recipe).of_facet(facet) if entry else None
    if delivered is None or not delivered.whole:
        cut = "" if facet == WHOLE_FACET else f" in the cut “{facet}”"
        raise OutputError.of(no_rendition(cut), file=path)
    metadata = of.details.get(path, NO_METADATA)
    words = metadata.alt if alt is None else alt
    below = metadata.caption_line if caption is None else caption
    return delivered.with_markup(sizes=sizes, base_url=base_url).html(MarkupContext(words, below, hero))

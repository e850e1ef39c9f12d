"""`young-prism ladder`: which widths a layout needs, and what a ladder wastes on it."""

from __future__ import annotations

import json
from pathlib import Path

import click

from young_prism.cli.common import FOLDER, json_option, print_json, printable, say
from young_prism.cli.verb import Verb
from young_prism.core.errors import LayoutFileError, RecipeError
from young_prism.core.ladder.layout import USUAL_VIEWPORTS, needs_of, read_viewports, sizes_of
from young_prism.core.ladder.optimum import best_rungs, waste_of
from young_prism.core.measurement.needs import ImageNeeds, joined, needs_by_image
from young_prism.core.recipe.ladder import Layout
from young_prism.core.report.formatting import format_bytes
from young_prism.engine.site.config import load_layout, load_recipe
from young_prism.messages.recipes import NO_LAYOUT, NO_VISIBLE_IMAGE, VIEWPORTS_UNREADABLE

_USUAL_RUNGS = 5
"""How many widths are chosen for a measured layout."""


@click.command(
    cls=Verb,
    short_help="Find the best widths for a layout.",
    example="young-prism ladder --layout young-prism-layout.json --rungs 6",
)
@click.argument("recipe_file", type=FOLDER, required=False)
@click.option(
    "--layout", "layout_file", type=FOLDER, help="Layout file of young-prism measure, instead of a recipe."
)
@click.option(
    "--per-image", is_flag=True, help="With --layout: also a ladder for each image, as recipe overrides."
)
@click.option("--source", type=FOLDER, help="With --per-image: folder of originals.")
@click.option(
    "--pages", type=FOLDER, help="The site's folder, to which the layout file belongs; its own if left out."
)
@click.option("--viewports", type=FOLDER, help="CSV file of viewport widths and their share of visits.")
@click.option("--rungs", type=click.IntRange(1, 20), help="Number of widths. Default: as in the recipe.")
@click.option(
    "--sample",
    "samples",
    type=FOLDER,
    multiple=True,
    help="Image to encode at several widths, for steps in bytes. Repeatable.",
)
@click.option("--step", default="40%", help='With --sample: saving of each step, such as "20 kB" or "40%".')
@click.option("--smallest", type=click.IntRange(1), default=320, help="With --sample: smallest width.")
@click.option(
    "--format",
    "fmt",
    type=click.Choice(("jxl", "avif", "webp", "jpeg", "png")),
    default="webp",
    help="With --sample: format to measure.",
)
@click.option("--against", help="Widths to compare with, such as 400,800,1200.")
@json_option
def ladder(
    *,
    recipe_file: Path | None,
    layout_file: Path | None,
    per_image: bool,
    source: Path | None,
    pages: Path | None,
    viewports: Path | None,
    rungs: int | None,
    samples: tuple[Path, ...],
    step: str,
    smallest: int,
    fmt: str,
    against: str | None,
    as_json: bool,
) -> None:
    """Show the best widths for a layout and the pixels they waste.

    The layout is that of RECIPE_FILE, with the `sizes` that belongs to it, or what young-prism measure found on the pages. With --sample,
    widths are chosen by what pictures really weigh, in steps of bytes.
    """
    if samples:
        _show_sampled(samples, step, smallest, fmt, rungs, as_json=as_json)
        return
    shares = _viewports(viewports) if viewports else None
    if recipe_file is not None:
        layout = _layout_of(recipe_file, shares)
        needs, sizes, images = needs_of(layout), sizes_of(layout), []
        usual = len(layout.rungs) if isinstance(layout.rungs, tuple) else layout.rungs
    elif layout_file is not None:
        images = _measured_needs(layout_file, shares)
        needs, sizes, usual = joined(images), "", _USUAL_RUNGS
    else:
        raise click.UsageError("Give a recipe, or a layout file with --layout.")
    chosen = best_rungs(needs, rungs or usual)
    ladders = {"best": chosen, **({"against": _widths(against)} if against else {})}
    wastes = {name: waste_of(widths, needs) for name, widths in ladders.items()}
    single = [(image, best_rungs(image.needs, rungs or usual)) for image in images] if per_image else []
    if as_json:
        print_json(
            {
                "needs": [need._asdict() for need in needs],
                "sizes": sizes,
                "ladders": {
                    name: {"widths": list(widths), **wastes[name]._asdict()}
                    for name, widths in ladders.items()
                },
                "images": {
                    image.image: {
                        "widths": list(widths),
                        **waste_of(widths, image.needs)._asdict(),
                        "with_best": waste_of(chosen, image.needs)._asdict(),
                    }
                    for image, widths in single
                },
            }
        )
        return
    if per_image:
        click.echo("[ladder]")  # so that the whole is a recipe
    click.echo(f"widths = {list(chosen)}")
    if sizes and not per_image:
        click.echo(f'sizes = "{sizes}"')
    below = _source_path(source, pages or (layout_file.parent if layout_file else None))
    for image, widths in single:
        if not image.image.startswith(below):
            say(f"Note: {printable(image.image)} is outside the source")
            continue
        match = json.dumps(f"/{image.image.removeprefix(below)}", ensure_ascii=False)
        click.echo(f"\n[[overrides]]\nmatch = {match}\nladder.widths = {list(widths)}")
        own_waste, shared_waste = (waste_of(rungs, image.needs).beyond for rungs in (widths, chosen))
        click.echo(f"# {own_waste:.1%} unused; {shared_waste:.1%} with the widths above")
    for name, waste in wastes.items():
        short = f", too few for {waste.short:.0%} of visits" if waste.short else ""
        say(f"{name}: {waste.beyond:.1%} of fetched pixels are unused{short}")


def _show_sampled(
    samples: tuple[Path, ...], step: str, smallest: int, fmt: str, rungs: int | None, *, as_json: bool
) -> None:
    """Print the widths at which pictures weigh a step less each time."""
    from young_prism.core.ladder.by_bytes import averaged, parse_step, widths_by_bytes
    from young_prism.core.types import ImageFormat
    from young_prism.engine.conversion import weigh_widths

    try:
        parsed_step = parse_step(step)
    except ValueError as error:
        raise click.BadParameter(f"“{step}”: {error}.", param_hint="--step") from error
    measured = averaged([weigh_widths(sample, ImageFormat(fmt)) for sample in samples])
    widths = widths_by_bytes(measured, step=parsed_step, smallest=smallest)
    widths = widths[-rungs:] if rungs else widths
    if as_json:
        print_json({"measured": [point._asdict() for point in measured], "widths": list(widths)})
        return
    click.echo(f"widths = {list(widths)}")
    for point in measured:
        say(f"{point.width} px: {format_bytes(round(point.bytes))} of {fmt} on average")


def _source_path(source: Path | None, pages: Path | None) -> str:
    """Return the path of the source below the site's folder, with a slash at its end; empty where it is not known."""
    if source is None or pages is None or not source.resolve().is_relative_to(pages.resolve()):
        return ""
    below = source.resolve().relative_to(pages.resolve()).as_posix()
    return "" if below == "." else f"{below}/"


def _layout_of(recipe_file: Path, shares: tuple[tuple[int, float], ...] | None) -> Layout:
    layout = load_recipe(recipe_file).ladder.layout
    if layout is None:
        raise RecipeError.of(NO_LAYOUT, file=str(recipe_file))
    return layout.model_copy(update={"viewports": shares}) if shares else layout


def _measured_needs(layout_file: Path, shares: tuple[tuple[int, float], ...] | None) -> list[ImageNeeds]:
    images = needs_by_image(load_layout(layout_file), viewports=shares or USUAL_VIEWPORTS)
    if not images:
        raise LayoutFileError.of(NO_VISIBLE_IMAGE, file=str(layout_file))
    return images


def _viewports(file: Path) -> tuple[tuple[int, float], ...]:
    try:
        return read_viewports(file.read_text(encoding="utf-8-sig"), file=str(file))
    except (OSError, UnicodeDecodeError) as error:
        raise RecipeError.of(VIEWPORTS_UNREADABLE, file=str(file)) from error


def _widths(text: str) -> tuple[int, ...]:
    try:
        widths = tuple(sorted({int(part) for part in text.split(",")}))
    except ValueError as error:
        raise click.UsageError(f"“{text}” is not a list of widths such as 400,800") from error
    if min(widths) < 1:
        raise click.UsageError("a width is at least 1")
    return widths

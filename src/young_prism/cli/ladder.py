"""`young-prism ladder`: which widths a layout needs, and what a ladder wastes on it."""

from __future__ import annotations

from pathlib import Path

import click

from young_prism.cli.common import FOLDER, json_option, print_json, say
from young_prism.core.errors import RecipeError
from young_prism.core.ladder.layout import needs_of, read_viewports, sizes_of
from young_prism.core.ladder.optimum import best_rungs, waste_of
from young_prism.engine.site.config import load_recipe


@click.command()
@click.argument("recipe_file", type=FOLDER)
@click.option("--viewports", type=FOLDER, help="CSV of viewport widths with their shares of visits.")
@click.option("--rungs", type=click.IntRange(1, 20), help="How many; the recipe's own number if left out.")
@click.option("--against", help="Other widths to compare with, such as 400,800,1200.")
@json_option
def ladder(
    *, recipe_file: Path, viewports: Path | None, rungs: int | None, against: str | None, as_json: bool
) -> None:
    """Show the best widths for the layout of RECIPE_FILE, their waste, and the `sizes` that belongs to them."""
    layout = load_recipe(recipe_file).ladder.layout
    if layout is None:
        raise RecipeError(
            "This recipe has no layout.", file=str(recipe_file), remedy="Add [ladder.layout] with its lines."
        )
    if viewports:
        layout = layout.model_copy(update={"viewports": _viewports(viewports)})
    needs = needs_of(layout)
    usual = len(layout.rungs) if isinstance(layout.rungs, tuple) else layout.rungs
    chosen = best_rungs(needs, rungs or usual)
    ladders = {"best": chosen, **({"against": _widths(against)} if against else {})}
    wastes = {name: waste_of(widths, needs) for name, widths in ladders.items()}
    if as_json:
        print_json(
            {
                "needs": [need._asdict() for need in needs],
                "sizes": sizes_of(layout),
                "ladders": {
                    name: {"widths": list(widths), **wastes[name]._asdict()}
                    for name, widths in ladders.items()
                },
            }
        )
        return
    click.echo(f"widths = {list(chosen)}")
    click.echo(f'sizes = "{sizes_of(layout)}"')
    for name, waste in wastes.items():
        short = f", too few for {waste.short:.0%} of visits" if waste.short else ""
        say(f"{name}: {waste.beyond:.1%} of what is fetched is beyond need{short}")


def _viewports(file: Path) -> tuple[tuple[int, float], ...]:
    try:
        return read_viewports(file.read_text(encoding="utf-8-sig"), file=str(file))
    except (OSError, UnicodeDecodeError) as error:
        raise RecipeError(
            "The viewports cannot be read.", file=str(file), remedy="Check the path."
        ) from error


def _widths(text: str) -> tuple[int, ...]:
    try:
        widths = tuple(sorted({int(part) for part in text.split(",")}))
    except ValueError as error:
        raise click.UsageError(f"“{text}” is no list of widths such as 400,800") from error
    if min(widths) < 1:
        raise click.UsageError("a width is at least 1")
    return widths

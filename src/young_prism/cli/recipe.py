"""`young-prism recipe`: the recipe in full, as a start for one's own file."""

from __future__ import annotations

from pathlib import Path

import click

from young_prism.cli.common import FOLDER, say
from young_prism.cli.verb import Verb
from young_prism.core.errors import RecipeError
from young_prism.core.recipe.compare import differences
from young_prism.core.recipe.starts import starts
from young_prism.core.recipe.toml import write_recipe
from young_prism.core.report.formatting import count
from young_prism.engine.site.config import load_recipe
from young_prism.messages.recipes import unknown_start


@click.command(
    cls=Verb, short_help="Print or check a recipe.", example="young-prism recipe --start blog > recipe.toml"
)
@click.argument("recipe_file", type=FOLDER, required=False)
@click.option("--start", metavar="NAME", help="Print this starting recipe.")
@click.option("--compare", "against", type=FOLDER, help="Print the differences to another recipe file.")
@click.option("--list", "list_starts", is_flag=True, help="List the starting recipes.")
def recipe(recipe_file: Path | None, *, against: Path | None, start: str | None, list_starts: bool) -> None:
    """Print the default recipe, or check RECIPE_FILE and print it with all defaults."""
    known = {start.name: start for start in starts()}
    if list_starts:
        for known_start in known.values():
            click.echo(f"{known_start.name:<26} {known_start.purpose}")
    elif against is not None:
        changes = differences(load_recipe(recipe_file), load_recipe(against))
        for key, left, theirs in changes:
            click.echo(f"{key}: {left or '(missing)'} → {theirs or '(missing)'}")
        say(f"{count(len(changes), 'difference')}")
    elif start is None:
        click.echo(write_recipe(load_recipe(recipe_file)), nl=False)
    elif start in known:
        click.echo(known[start].text, nl=False)
    else:
        raise RecipeError.of(unknown_start(start=start, known=", ".join(known)))

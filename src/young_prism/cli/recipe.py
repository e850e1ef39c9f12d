"""`young-prism recipe`: the recipe in full, as a start for one's own file."""

from __future__ import annotations

from pathlib import Path

import click

from young_prism.cli.common import FOLDER, load_recipe
from young_prism.core.recipe.toml import write_recipe


@click.command()
@click.argument("recipe_file", type=FOLDER, required=False)
def recipe(recipe_file: Path | None) -> None:
    """Print the default recipe, or check RECIPE_FILE and print it with all that it leaves out spelt out."""
    click.echo(write_recipe(load_recipe(recipe_file)), nl=False)

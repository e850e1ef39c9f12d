"""`young-prism snippet`: markup for one original of a finished build."""

from __future__ import annotations

from pathlib import Path

import click

from young_prism.cli.common import FOLDER
from young_prism.core.errors import OutputError
from young_prism.core.manifest.model import MANIFEST_NAME


@click.command()
@click.argument("out", type=FOLDER)
@click.argument("original")
@click.option("--alt", default="", help="Alternative text.")
@click.option("--sizes", help="How wide the layout shows it; from the recipe if left out.")
@click.option("--base-url", help="Where the output folder is served; from the recipe if left out.")
def snippet(out: Path, original: str, alt: str, sizes: str | None, base_url: str | None) -> None:
    """Print the markup for ORIGINAL (its path in the source) from the build in OUT."""
    from young_prism.core.markup.picture import art_of
    from young_prism.core.plan.decide import recipe_for
    from young_prism.engine.ledger import read_manifest
    from young_prism.engine.record import snippet as write_snippet

    manifest = read_manifest(out / MANIFEST_NAME)
    if manifest is None:
        raise OutputError("There is no manifest of a finished build.", file=str(out), remedy="Build first.")
    entry = next((entry for entry in manifest.originals if entry.path == original), None)
    if entry is None:
        raise OutputError(
            f"The manifest has no original called {original}.",
            file=str(out / MANIFEST_NAME),
            remedy="Give its path as `young-prism look` prints it.",
        )
    changes = {key: value for key, value in (("sizes", sizes), ("base_url", base_url)) if value is not None}
    recipe = recipe_for(original, manifest.recipe) or manifest.recipe
    markup = recipe.snippet_markup.model_copy(update=changes)
    click.echo(
        write_snippet(entry.renditions, markup, alt=alt, art=art_of(recipe), transparent=entry.transparent)
    )

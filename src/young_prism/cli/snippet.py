"""`young-prism snippet`: markup for originals of a finished build, in the form that a page, a stylesheet or a template takes."""

from __future__ import annotations

import json
from collections.abc import Mapping
from pathlib import Path
from typing import TYPE_CHECKING

import click

from young_prism.cli.common import FOLDER, printable, say
from young_prism.core.errors import OutputError
from young_prism.engine.site.config import read_text

if TYPE_CHECKING:
    from young_prism.core.markup.delivered import Delivered
    from young_prism.core.markup.picture import MarkupContext
    from young_prism.core.recipe.model import Recipe
    from young_prism.core.selection.image_metadata import MetadataByPath

_FORMS = ("html", "preload", "css", "markdown", "json", "jinja")


@click.command()
@click.option(
    "--manifest",
    "folder",
    type=FOLDER,
    required=True,
    metavar="FILE",
    help="The build's manifest.json, or its folder.",
)
@click.argument("originals", nargs=-1)
@click.option("--form", type=click.Choice(_FORMS), default="html", show_default=True)
@click.option("--alt", help="Alternative text of one original.")
@click.option(
    "--decorative", is_flag=True, help="They are decoration: the alternative text is empty on purpose."
)
@click.option("--caption", default="", help="A caption, which makes a figure of one original.")
@click.option("--details", "details_file", type=FOLDER, help="Alternative texts and captions as a TOML file.")
@click.option(
    "--hero", is_flag=True, help="The first is what a page shows first: loaded at once, before others."
)
@click.option("--sizes", help="How wide the layout shows it; from the recipe if left out.")
@click.option("--auto-sizes", is_flag=True, default=None, help="Browsers may measure the layout themselves.")
@click.option("--loading", type=click.Choice(["lazy", "eager"]), help="From the recipe if left out.")
@click.option("--base-url", help="Where the site is served; from the recipe if left out.")
@click.option("--prefix", help="The folders from there to the renditions; from the recipe if left out.")
@click.option(
    "--selector", default="", help="The selector of a CSS rule; a class called like the original if left out."
)
def snippet(
    *,
    folder: Path,
    originals: tuple[str, ...],
    form: str,
    alt: str | None,
    decorative: bool,
    caption: str,
    details_file: Path | None,
    hero: bool,
    selector: str,
    **changes: object,
) -> None:
    """Print the markup for ORIGINALS (paths in the source), or for all of a build.

    An alternative text that nobody has written is left out and said on standard error: give --alt or --details, or
    --decorative where there is nothing to tell.
    """
    from young_prism.core.markup.delivered import all_delivered
    from young_prism.core.selection.image_metadata import read_details
    from young_prism.engine.output.manifest_file import manifest_file, require_manifest

    if len(originals) != 1 and (alt is not None or caption):
        raise click.UsageError("--alt and --caption are for one original; --details is for several.")
    file = manifest_file(folder) if folder.is_dir() else folder
    manifest = require_manifest(file)
    known = all_delivered(manifest.originals, manifest.recipe)
    unknown = next((path for path in originals if path not in known), None)
    if unknown is not None:
        raise OutputError(
            f"The manifest has no original called {unknown}.",
            file=str(file),
            remedy="Give its path as `young-prism look` prints it.",
        )
    chosen = {path: known[path].with_markup(**changes) for path in originals or known}
    details = read_details(read_text(details_file), file=str(details_file)) if details_file else {}
    texts = _markup_context(tuple(chosen), details, alt="" if decorative else alt, caption=caption, hero=hero)
    click.echo(_written(form, chosen, texts, manifest.recipe, selector))
    if form in ("html", "markdown", "json"):
        for path in chosen:
            if texts[path].alt is None:
                say(
                    f"Note: {printable(path)} has no alternative text yet; --decorative says that it needs none."
                )


def _markup_context(
    paths: tuple[str, ...], details: MetadataByPath, *, alt: str | None, caption: str, hero: bool
) -> dict[str, MarkupContext]:
    from young_prism.core.markup.picture import MarkupContext
    from young_prism.core.selection.image_metadata import NO_METADATA

    texts = {}
    for number, path in enumerate(paths):
        detail = details.get(path, NO_METADATA)
        words = detail.alt if alt is None else alt
        texts[path] = MarkupContext(words, caption or detail.caption_line, hero=hero and number == 0)
    return texts


def _written(
    form: str,
    chosen: Mapping[str, Delivered],
    texts: Mapping[str, MarkupContext],
    recipe: Recipe,
    selector: str,
) -> str:
    from young_prism.core.markup import forms
    from young_prism.core.plan.resolve import effective_recipe

    match form:
        case "jinja":
            return forms.JINJA_MACRO.rstrip()
        case "json":
            return json.dumps(forms.data(chosen.values(), texts), indent=1, ensure_ascii=False)
        case "css":
            layouts = {path: effective_recipe(path, recipe).ladder.layout for path in chosen}
            return "\n\n".join(
                forms.css(delivered, layouts[path], selector) for path, delivered in chosen.items()
            )
        case "preload":
            return "\n".join(forms.preload(delivered) for delivered in chosen.values())
        case "markdown":
            return "\n\n".join(forms.markdown(delivered, texts[path]) for path, delivered in chosen.items())
        case _:
            return "\n\n".join(delivered.html(texts[path]) for path, delivered in chosen.items())

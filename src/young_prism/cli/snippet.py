"""`young-prism snippet`: markup for originals of a finished build, in the form that a page, a stylesheet or a template takes."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

import click

from young_prism.cli.common import FOLDER, printable, say
from young_prism.cli.verb import Verb
from young_prism.core.errors import OutputError
from young_prism.core.markup.forms import SnippetForm
from young_prism.core.naming.rule import WHOLE_FACET
from young_prism.engine.site.config import read_text
from young_prism.messages.pages import facet_not_built, not_in_manifest

if TYPE_CHECKING:
    from young_prism.core.markup.picture import MarkupContext
    from young_prism.core.selection.image_metadata import MetadataByPath


@click.command(
    cls=Verb,
    short_help="Print markup for originals.",
    example='young-prism snippet harbour.jpg --manifest public/pictures --alt "Boats in the harbour"',
)
@click.option(
    "--manifest",
    "folder",
    type=FOLDER,
    required=True,
    metavar="FILE",
    help="manifest.json of a build, or its folder.",
)
@click.argument("originals", nargs=-1)
@click.option(
    "--form", type=click.Choice([form.value for form in SnippetForm]), default="html", show_default=True
)
@click.option(
    "--facet",
    default=WHOLE_FACET,
    help="Crop to show instead of the whole image; for a thumbnail, the small one.",
)
@click.option("--alt", help="Alternative text of one original.")
@click.option(
    "--decorative", is_flag=True, help="The images are decorative: their alternative text is empty."
)
@click.option("--caption", default="", help="Caption of one original, which is wrapped in a figure.")
@click.option("--details", "details_file", type=FOLDER, help="TOML file of alternative texts and captions.")
@click.option(
    "--hero", is_flag=True, help="The first image is the main image of its page and is loaded with priority."
)
@click.option("--sizes", help="Displayed width as a sizes attribute. Default: from the recipe.")
@click.option(
    "--auto-sizes", is_flag=True, default=None, help="Let browsers measure the layout (sizes=auto)."
)
@click.option(
    "--loading", type=click.Choice(["lazy", "eager"]), help="Loading attribute. Default: from the recipe."
)
@click.option("--base-url", help="Address of the site. Default: from the recipe.")
@click.option("--prefix", help="Path from there to the renditions. Default: from the recipe.")
@click.option(
    "--selector", default="", help="Selector of the CSS rule. Default: a class named like the original."
)
def snippet(
    *,
    folder: Path,
    originals: tuple[str, ...],
    form: str,
    facet: str,
    alt: str | None,
    decorative: bool,
    caption: str,
    details_file: Path | None,
    hero: bool,
    selector: str,
    **changes: object,
) -> None:
    """Print the markup for originals, given by their path in the source, or for a whole build.

    A missing alternative text is reported on standard error. Give --alt or --details, or --decorative for images
    without content.
    """
    from young_prism.core.markup.delivered import all_delivered
    from young_prism.core.markup.snippets import write_snippets
    from young_prism.core.selection.image_metadata import read_details
    from young_prism.engine.output.manifest_file import manifest_file, require_manifest

    if len(originals) != 1 and (alt is not None or caption):
        raise click.UsageError("--alt and --caption are for one original; --details is for several.")
    file = manifest_file(folder) if folder.is_dir() else folder
    manifest = require_manifest(file)
    known = all_delivered(manifest.originals, manifest.recipe)
    unknown = next((path for path in originals if path not in known), None)
    if unknown is not None:
        raise OutputError.of(not_in_manifest(unknown), file=str(file))
    chosen = {path: known[path].with_markup(**changes) for path in originals or known}
    if facet != WHOLE_FACET:
        lacking = [path for path, delivered in chosen.items() if not delivered.of_facet(facet).renditions]
        if (originals and lacking) or len(lacking) == len(chosen):
            raise OutputError.of(facet_not_built(original=lacking[0], facet=facet), file=str(file))
        chosen = {path: delivered for path, delivered in chosen.items() if path not in lacking}
    details = read_details(read_text(details_file), file=str(details_file)) if details_file else {}
    texts = _markup_context(tuple(chosen), details, alt="" if decorative else alt, caption=caption, hero=hero)
    originals_in_order = list(chosen.values())
    click.echo(
        write_snippets(
            SnippetForm(form), originals_in_order, texts, manifest.recipe, facet=facet, selector=selector
        )
    )
    if form in ("html", "markdown", "json", "thumbnail", "gallery", "video"):
        for path in chosen:
            if texts[path].alt is None:
                say(f"Note: {printable(path)} has no alternative text; use --decorative if it needs none.")


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

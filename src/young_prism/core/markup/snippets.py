"""Snippets of several originals in any form: the same text for the command, the pages and the API."""

from __future__ import annotations

import json
from collections.abc import Mapping, Sequence

from young_prism.core.markup import forms, thumbnails
from young_prism.core.markup.delivered import Delivered
from young_prism.core.markup.forms import SnippetForm
from young_prism.core.markup.moving import video
from young_prism.core.markup.picture import MarkupContext
from young_prism.core.naming.rule import WHOLE_FACET
from young_prism.core.plan.resolve import effective_recipe
from young_prism.core.recipe.model import Recipe


def write_snippets(
    form: SnippetForm,
    originals: Sequence[Delivered],
    texts: Mapping[str, MarkupContext],
    recipe: Recipe,
    *,
    facet: str = WHOLE_FACET,
    selector: str = "",
) -> str:
    """Return the markup of originals in one form.

    Args:
        form: The form.
        originals: The originals, in order; those without the facet are left out.
        texts: Alternative texts and captions, by path.
        recipe: The recipe of the build.
        facet: The cut to show; of a thumbnail or a gallery the small picture.
        selector: The selector of a CSS rule; a class named after the original if empty.
    """
    with_facet = [original for original in originals if original.of_facet(facet).renditions]
    facets = [original.of_facet(facet) for original in with_facet]
    match form:
        case SnippetForm.THUMBNAIL:
            snippets = [thumbnails.thumbnail(item, texts[item.path], facet) for item in with_facet]
        case SnippetForm.VIDEO:
            snippets = [video(item, texts[item.path]) for item in with_facet]
        case SnippetForm.GALLERY:
            snippets = [thumbnails.gallery(with_facet, texts, facet)]
        case SnippetForm.JINJA:
            snippets = [forms.JINJA_MACRO.rstrip()]
        case SnippetForm.JSON:
            snippets = [json.dumps(forms.data(facets, texts), indent=1, ensure_ascii=False)]
        case SnippetForm.CSS:
            layouts = [effective_recipe(item.path, recipe).ladder.layout for item in facets]
            snippets = [
                forms.css(item, layout, selector) for item, layout in zip(facets, layouts, strict=True)
            ]
        case SnippetForm.PRELOAD:
            return "\n".join(forms.preload(item) for item in facets)
        case SnippetForm.MARKDOWN:
            snippets = [forms.markdown(item, texts[item.path]) for item in facets]
        case SnippetForm.HTML:
            snippets = [item.html(texts[item.path]) for item in facets]
    return "\n\n".join(snippets)

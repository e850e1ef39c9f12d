"""Which rules for images the stylesheets of a page hold."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from young_prism.core.html.rewrite.context import PageContext
from young_prism.core.html.rewrite.image_style import ImageRule, image_rules, style_imports
from young_prism.core.html.rewrite.site import BaseAddress
from young_prism.core.html.rewrite.tokens import Token


def rules_of_page(context: PageContext, page: Sequence[Token]) -> tuple[ImageRule, ...]:
    """Return the rules for images of the stylesheets that a page uses.

    A page without any, such as a part that a template puts into others, may be shown with each of the site's.
    """
    rules: list[ImageRule] = []
    has_styles = False
    base = context.base
    for token in page:
        if token.kind == "raw" and token.name == "style":
            text = context.document.meaning(context.document.text[token.start : token.end])
            rules += _rules_of(context, text, base, set())
            has_styles = True
        elif token.kind == "start" and token.name == "base":
            href = context.tags.read(token).get("href")
            base = context.site.base_of(context.page, context.tags.value(href)) if href else base
        elif token.kind == "start" and token.name == "link":
            link = context.tags.read(token)
            rel, href = link.get("rel"), link.get("href")
            if rel and href and "stylesheet" in context.tags.value(rel).lower().split():
                rules += _imported_rules(context, context.tags.value(href), base, set())
                has_styles = True
    if has_styles:
        return tuple(rules)
    all_texts = (
        context.site.read_style(path) for path in sorted(context.site.files) if path.endswith(".css")
    )
    return tuple(rule._replace(is_conditional=True) for text in all_texts for rule in image_rules(text))


def _imported_rules(context: PageContext, url: str, base: BaseAddress, seen: set[str]) -> Iterator[ImageRule]:
    """Yield the rules of a stylesheet and of those that it imports, each stylesheet once."""
    path = context.site.file(url, base)
    if path is not None and path not in seen:
        seen.add(path)
        yield from _rules_of(context, context.site.read_style(path), context.site.base_of(path), seen)


def _rules_of(context: PageContext, text: str, base: BaseAddress, seen: set[str]) -> Iterator[ImageRule]:
    for imported in style_imports(text):
        for rule in _imported_rules(context, imported.url, base, seen):
            yield rule._replace(is_conditional=rule.is_conditional or imported.is_conditional)
    yield from image_rules(text)

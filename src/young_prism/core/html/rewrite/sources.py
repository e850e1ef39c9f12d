"""The `source` elements of a `picture`: completed, repaired, and given dimensions of their own."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from urllib.parse import quote

from young_prism.core.html.rewrite.changes import Edit
from young_prism.core.html.rewrite.context import ImageReplacement, OpenPicture, PageContext
from young_prism.core.html.rewrite.site import Match, NoMatch
from young_prism.core.html.rewrite.tags import FORMER_ORIGINAL, ORIGINAL, ParsedTag
from young_prism.core.markup.picture import Attributes, MarkupContext
from young_prism.core.markup.srcset import split_srcset


def other_picture(context: PageContext, img: ParsedTag, picture: OpenPicture | None, original: str) -> str:
    """Return an address of another picture in the same element, other than for art direction."""
    for tag in [img, *(picture.sources if picture else [])]:
        srcset = tag.get("srcset")
        if srcset is None or tag.get("media"):
            continue
        for url, _ in split_srcset(context.tags.value(srcset)):
            match = context.site.find(url, context.base)
            if (
                isinstance(match, Match)
                and match.original != original
                and not context.same_shape(match.original, original)
            ):
                return url
    return ""


def sized_sources(context: PageContext, picture: OpenPicture) -> list[Edit]:
    """Give each source of another shape its own dimensions."""
    edits: list[Edit] = []
    for source in picture.sources:
        srcset = source.get("srcset")
        if srcset is None or source.get("media") is None or source.templated:
            continue
        url = next((url for url, _ in split_srcset(context.tags.value(srcset))), "")
        match = context.site.find(url, context.base)
        if isinstance(match, Match) and not (source.get("width") or source.get("height")):
            size = context.site.delivered[match.original].size
            if size.pixels:
                text = f' width="{size.width}" height="{size.height}"'
                edits.append(Edit(srcset.end, srcset.end, text))
    return edits


def source_edits(
    context: PageContext,
    img: ParsedTag,
    picture: OpenPicture | None,
    sources: Sequence[Attributes],
    replacement: ImageReplacement,
) -> list[Edit]:
    """Return the edits that give an image its sources: a `picture` round it, or those of its `picture` brought up to date.

    Args:
        context: The page.
        img: The image.
        picture: The `picture` round it; None for none.
        sources: The attributes of the sources, in order.
        replacement: The original that the image is to show.
    """
    text = context.document.text
    written = context.tags.render_sources(img, sources)
    if picture is None:
        return context.tags.wrap(img, written)
    kinds = {(dict(new).get("media", ""), dict(new)["type"]) for new in sources}
    our_sources = [tag for tag in picture.sources if _is_ours(context, tag, replacement, kinds)]
    if [text[tag.token.start : tag.token.end] for tag in our_sources] == written:
        return []
    if len(our_sources) == len(written) and all(
        context.tags.kind_of(tag) == (dict(new).get("media", ""), dict(new)["type"])
        for tag, new in zip(our_sources, sources, strict=True)
    ):
        return [
            edit
            for tag, new in zip(our_sources, sources, strict=True)
            for edit in context.tags.set_attributes(tag, dict(new))
        ]
    removals = [Edit(tag.token.start, context.tags.skip_whitespace(tag.token.end), "") for tag in our_sources]
    if not written:
        return removals
    # Sources without a condition come behind those with one, which a browser must meet first.
    return [*removals, Edit(img.token.start, img.token.start, context.tags.insert_before(img, written))]


def _is_ours(
    context: PageContext, source: ParsedTag, replacement: ImageReplacement, kinds: set[tuple[str, str]]
) -> bool:
    """Whether a source is what an earlier rewriting wrote, or says by hand what ours say better."""
    srcset = source.get("srcset")
    if srcset is None or source.get(ORIGINAL) or source.get(FORMER_ORIGINAL):
        return False
    matches = [
        (context.site.find(url, context.base), context.site.is_rendition(url, context.base))
        for url, _ in split_srcset(context.tags.value(srcset))
    ]
    # When the site has moved, what an earlier rewrite wrote leads nowhere; it is recognised by its kind then.
    lost = replacement.is_ours and context.tags.kind_of(source) in kinds
    if all(is_own or (lost and isinstance(match, NoMatch)) for match, is_own in matches):
        return bool(matches)
    return not source.get("media") and all(
        isinstance(match, Match) and context.same_shape(match.original, replacement.match.original)
        for match, _ in matches
    )


def directed_edits(context: PageContext, img: ParsedTag, picture: OpenPicture) -> list[Edit]:
    """Give other pictures for some viewports, which a page chose by hand, their modern formats too."""
    edits: list[Edit] = []
    runs: dict[tuple[str, str], list[ParsedTag]] = {}
    for source in picture.sources:
        srcset, media = source.get("srcset"), source.get("media")
        attribute = source.get(ORIGINAL) or source.get(FORMER_ORIGINAL)
        if srcset is None or media is None or (source.get("type") and not attribute):
            continue
        url = (
            context.tags.value(attribute)
            if attribute
            else next((url for url, _ in split_srcset(context.tags.value(srcset))), "")
        )
        if attribute or not context.site.is_rendition(url, context.base):
            runs.setdefault((context.tags.value(media), url), []).append(source)
    for (condition, url), group in runs.items():
        match = context.site.find(url, context.base)
        prefix = context.site.prefix(match, context.base) if isinstance(match, Match) else None
        if isinstance(match, NoMatch) or prefix is None:
            continue
        sizes = group[-1].get("sizes")
        replacement = context.site.delivered[match.original].with_markup(
            base_url=prefix, prefix="", sizes=context.tags.value(sizes) if sizes else None
        )
        element = replace(replacement, art=()).element(MarkupContext(alt=""))
        inner = dict(element.img)
        last: list[tuple[str, str]] = [("srcset", inner.get("srcset", inner["src"]))]
        last += [(name, inner[name]) for name in ("sizes", "width", "height") if name in inner]
        raw = quote(url, safe="/:?=&#%+,~()!@$;")
        # Of another shape than the img: without dimensions of its own each would be drawn in that one's.
        sides = tuple((name, inner[name]) for name in ("width", "height") if name in inner)
        sources: list[Attributes] = [
            *((("media", condition), *attributes, *sides, (ORIGINAL, raw)) for attributes in element.sources),
            (("media", condition), *last, (ORIGINAL, raw)),
        ]
        start, end = group[0].token.start, group[-1].token.end
        joint = (
            ""
            if context.tags.indent(start) is None
            else context.tags.newline() + (context.tags.indent(start) or "")
        )
        edits.append(Edit(start, end, joint.join(context.tags.render_sources(img, sources))))
    return edits

"""Pages: `img` becomes `picture`, a `picture` is completed or repaired, sizes are added; backgrounds in styles too.

What was put into a page says so itself: `data-young-prism-original` on the `img` holds the address that stood there before. By it a
second rewriting knows what is ours, whatever became of the renditions' names.

A box never changes silently: attributes and `sizes` follow what the page and its stylesheets say of the image (`image_style`), and
what cannot be known is listed.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass, replace

from young_prism.core.html.references import mentions_in
from young_prism.core.html.rewrite import opt_out
from young_prism.core.html.rewrite.changes import (
    Concern,
    Edit,
    Rewriting,
    change,
)
from young_prism.core.html.rewrite.context import OpenPicture, PageContext
from young_prism.core.html.rewrite.document import Document
from young_prism.core.html.rewrite.images import ImageRewriter
from young_prism.core.html.rewrite.measured import MeasuredPlaces
from young_prism.core.html.rewrite.options import RewriteOptions
from young_prism.core.html.rewrite.other_places import (
    OTHER_TAGS,
    OtherEdits,
    OtherPlaces,
    is_json,
)
from young_prism.core.html.rewrite.page_styles import rules_of_page
from young_prism.core.html.rewrite.site import (
    Match,
    SiteIndex,
)
from young_prism.core.html.rewrite.style import style_changes
from young_prism.core.html.rewrite.style_classes import STYLESHEET, link_edit
from young_prism.core.html.rewrite.tags import (
    TagEditor,
)
from young_prism.core.html.rewrite.tokens import Token, tokens


def rewrite_page(document: Document, page: str, site: SiteIndex, options: RewriteOptions) -> Rewriting:
    """Return what would change in an HTML page, or in a template that makes one."""
    context = PageContext(document, page, site, site.base_of(page), TagEditor(document))
    images = ImageRewriter(context, options)
    return _Rewriter(context, options, images, OtherPlaces(context, options, images.elements)).run()


@dataclass(slots=True)
class _Rewriter:
    context: PageContext
    options: RewriteOptions
    images: ImageRewriter
    plain_places: OtherPlaces
    based: bool = False
    picture: OpenPicture | None = None
    is_structured_data: bool = False

    def run(self) -> Rewriting:
        page = list(tokens(self.context.document.text))
        self.images.rules = rules_of_page(self.context, page)
        if measured := self.context.site.measured.get(self.context.page):
            self.images.measured = MeasuredPlaces(measured, self.context.site, self._shown_originals(page))
        for token in page:
            if token.kind == "start":
                self._start(token)
                self._style_of(token)
            elif token.kind == "end" and token.name == "picture":
                self.picture = None
            elif token.kind == "raw" and token.name == "style":
                self._style(token.start, token.end, mark='"')
            elif token.kind == "open":
                self.context.leave(
                    token.start, "", "a tag starts here and never ends; nothing after it is changed"
                )
            elif token.kind == "raw" and token.name == "script" and self.is_structured_data:
                self._structured_data(token)
            elif token.kind in ("comment", "raw"):
                self._mentioned(token)
                if token.kind == "comment":
                    comment = self.context.document.text[token.start : token.end]
                    self.context.is_opted_out = opt_out.is_opted_out_after(
                        comment, before=self.context.is_opted_out
                    )
        self._take(self.plain_places.preloads())
        self._link_stylesheet(page)
        changes = sorted(self.context.changes, key=lambda change: change.start)
        return Rewriting(
            self.context.document.text,
            tuple(changes),
            tuple(self.context.left),
            frozenset(self.context.styles),
            tuple(self.context.sizes),
        )

    def _link_stylesheet(self, page: Sequence[Token]) -> None:
        """Link the stylesheet of the classes, if an image of the page has one."""
        if self.context.styles:
            edit = link_edit(self.context, page, from_root=self.images.is_from_root)
            self._take([OtherEdits(STYLESHEET, (edit,)) if edit else None])

    def _shown_originals(self, page: Iterable[Token]) -> Iterator[str]:
        """Yield the original of each `img` of the page that has one."""
        for token in page:
            if token.kind == "start" and token.name == "img":
                img = self.context.tags.read(token)
                source = self.images.former_address(img) or img.get("src")
                match = self.context.find(self.context.tags.value(source)) if source else None
                if isinstance(match, Match):
                    yield match.original

    def _take(self, edits_by_place: Iterable[OtherEdits | None]) -> None:
        for place_edits in edits_by_place:
            made = place_edits and change(
                self.context.document.text, place_edits.original, place_edits.edits, self.context.seen
            )
            if made:
                self.context.changes.append(made)

    def _rewrite_plain_place(self, token: Token) -> None:
        tag = self.context.tags.read(token)
        if self.images.asks_to_stay(tag, None):
            return
        self._take([self.plain_places.tag(tag)])

    def _structured_data(self, token: Token) -> None:
        text = self.context.document.meaning(self.context.document.text[token.start : token.end])
        if self.context.is_opted_out or not is_json(text):
            self._mentioned(token)
        else:
            self._take(self.plain_places.structured_data(token))

    def _start(self, token: Token) -> None:
        match token.name:
            case "base":
                href = self.context.tags.read(token).get("href")
                if href and not self.based:  # the first one counts (HTML, 4.2.3)
                    self.context.base, self.based = (
                        self.context.site.base_of(self.context.page, self.context.tags.value(href)),
                        True,
                    )
            case "picture":
                self.picture = OpenPicture(token)
            case "source" if self.picture:
                self.picture.sources.append(self.context.tags.read(token))
            case "img":
                self.images.rewrite(self.context.tags.read(token), self.picture)
                self.picture = None
            case "script":
                kind = self.context.tags.read(token).get("type")
                self.is_structured_data = bool(
                    kind and self.context.tags.value(kind).strip().lower() == "application/ld+json"
                )
            case name if name in OTHER_TAGS:
                self._rewrite_plain_place(token)

    def _style_of(self, token: Token) -> None:
        text = self.context.document.text[token.start : token.end]
        if "url(" not in text.lower() or "style" not in text.lower():
            return
        style = self.context.tags.read(token).get("style")
        if style is None:
            return
        raw = self.context.document.text[style.value_start : style.value_end]
        if not style.quote:
            self._leave_mentions(
                token.start,
                self.context.tags.value(style),
                "its style attribute has no quotes",
                Concern.BY_HAND,
            )
            return
        if token.name == "img" and "data:" in raw:
            return  # a placeholder
        mark = "'" if style.quote == '"' else '"'
        self._style(style.value_start, style.value_end, mark=mark, inline=True)

    def _style(self, start: int, end: int, *, mark: str, inline: bool = False) -> None:
        if self.context.is_opted_out:
            text = self.context.document.meaning(self.context.document.text[start:end])
            self._leave_mentions(start, text, opt_out.REASON, Concern.HARMLESS)
            return
        part = replace(self.context.document, text=self.context.document.text[start:end])
        context = replace(self.context, document=part, left=[])
        changes = style_changes(context, self.options, self.context.seen, mark=mark, inline=inline)
        for in_style in changes:
            edits = tuple(Edit(edit.start + start, edit.end + start, edit.new) for edit in in_style.edits)
            self.context.changes.append(in_style._replace(edits=edits))
        line = self.context.document.line(start) - 1
        self.context.left += [skipped._replace(line=skipped.line + line) for skipped in context.left]

    def _leave_mentions(self, at: int, text: str, why: str, concern: Concern) -> None:
        """List the originals that a text mentions as left alone."""
        for url in mentions_in(text):
            match = self.context.find(url)
            if isinstance(match, Match) and not self.context.is_rendition(url):
                self.context.leave(at, url, why, concern=concern)

    def _mentioned(self, token: Token) -> None:
        text = self.context.document.meaning(self.context.document.text[token.start : token.end])
        if token.kind == "comment":
            self._leave_mentions(token.start, text, "in a comment", Concern.HARMLESS)
        else:
            self._leave_mentions(token.start, text, f"inside {token.name}", Concern.BY_HAND)

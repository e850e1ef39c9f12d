"""Pages: `img` becomes `picture`, a `picture` is completed or repaired, sizes are added; backgrounds in styles too.

What was put into a page says so itself: `data-young-prism-original` on the `img` holds the address that stood there before. By it a
second rewriting knows what is ours, whatever became of the renditions' names.

A box never changes silently: attributes and `sizes` follow what the page and its stylesheets say of the image (`image_style`), and
what cannot be known is listed.
"""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field, replace
from typing import NamedTuple

from young_prism.core.html.references import mentions_in
from young_prism.core.html.rewrite import box, opt_out
from young_prism.core.html.rewrite.addresses import swapped_addresses
from young_prism.core.html.rewrite.ancestors import Ancestors, ancestors_of_images
from young_prism.core.html.rewrite.changes import (
    Concern,
    Edit,
    Mode,
    ReferenceChange,
    Rewriting,
    change,
)
from young_prism.core.html.rewrite.context import OpenPicture, PageContext, Replacement
from young_prism.core.html.rewrite.document import Document
from young_prism.core.html.rewrite.image_style import (
    Certainty,
    ImageRule,
    ImageStyle,
    style_of,
)
from young_prism.core.html.rewrite.measured import MeasuredPlace, MeasuredPlaces
from young_prism.core.html.rewrite.options import BY_CHOICE, RewriteOptions
from young_prism.core.html.rewrite.other_places import (
    LIGHTER_ORIGINAL,
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
from young_prism.core.html.rewrite.sources import directed_edits, other_picture, sized_sources, source_edits
from young_prism.core.html.rewrite.style import style_changes
from young_prism.core.html.rewrite.style_classes import STYLESHEET, class_edits, link_edit
from young_prism.core.html.rewrite.tags import (
    FORMER_ORIGINAL,
    ORIGINAL,
    ParsedTag,
    TagEditor,
)
from young_prism.core.html.rewrite.tokens import Attribute, Token, tokens
from young_prism.core.html.rewrite.weight import weight_of
from young_prism.core.markup.delivered import Delivered
from young_prism.core.markup.picture import WHOLE_VIEWPORT, MarkupContext
from young_prism.core.markup.srcset import split_srcset
from young_prism.core.types import ImageFormat, Size

_HERO_WIDTH = 600
"""Pixels: the first original on a page that is at least so wide is what it shows first; a logo above it is not."""
_SAME_SHAPE = 0.02


_SCRIPT_ATTRIBUTES = frozenset(
    {
        "data-src",
        "data-srcset",
        "data-original",
        "data-lazy",
        "data-lazy-src",
        "data-lowsrc",
        "data-hover",
        "data-rollover",
    }
)
"""Attributes by which scripts keep addresses that they put into `src` (common practice, no source)."""


def rewrite_page(document: Document, page: str, site: SiteIndex, options: RewriteOptions) -> Rewriting:
    """Return what would change in an HTML page, or in a template that makes one."""
    context = PageContext(document, page, site, site.base_of(page), TagEditor(document))
    return _Rewriter(context, options, OtherPlaces(context, options)).run()


class _Address(NamedTuple):
    """An address of the page.

    Attributes:
        url: The address.
        match: The original that it leads to.
        is_ours: Whether an earlier rewriting put it there.
        mode: How much is changed there.
    """

    url: str
    match: Match
    is_ours: bool
    mode: Mode


@dataclass(slots=True)
class _Rewriter:
    context: PageContext
    options: RewriteOptions
    plain_places: OtherPlaces
    based: bool = False
    picture: OpenPicture | None = None
    changes: list[ReferenceChange] = field(default_factory=list)
    seen: dict[str, int] = field(default_factory=dict)
    hero_found: bool = False
    is_opted_out: bool = False
    is_structured_data: bool = False
    is_from_root: bool = False
    rules: tuple[ImageRule, ...] = ()
    measured: MeasuredPlaces | None = None
    ancestors: Mapping[int, Ancestors] | None = None

    def run(self) -> Rewriting:
        page = list(tokens(self.context.document.text))
        self.rules = rules_of_page(self.context, page)
        if measured := self.context.site.measured.get(self.context.page):
            self.measured = MeasuredPlaces(measured, self.context.site, self._shown_originals(page))
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
                    token.start, "", "a tag that begins here never ends; nothing behind it is changed"
                )
            elif token.kind == "raw" and token.name == "script" and self.is_structured_data:
                self._structured_data(token)
            elif token.kind in ("comment", "raw"):
                self._mentioned(token)
                if token.kind == "comment":
                    comment = self.context.document.text[token.start : token.end]
                    self.is_opted_out = opt_out.is_opted_out_after(comment, before=self.is_opted_out)
        self._take(self.plain_places.preloads())
        self._link_stylesheet(page)
        changes = sorted(self.changes, key=lambda change: change.start)
        return Rewriting(
            self.context.document.text,
            tuple(changes),
            tuple(self.context.left),
            frozenset(self.context.styles),
        )

    def _link_stylesheet(self, page: Sequence[Token]) -> None:
        """Link the stylesheet of the classes, if an image of the page has one."""
        if self.context.styles:
            edit = link_edit(self.context, page, from_root=self.is_from_root)
            self._take([OtherEdits(STYLESHEET, (edit,)) if edit else None])

    def _style_edits(
        self, img: ParsedTag, placeholder: str, css: str
    ) -> tuple[list[Edit], list[tuple[str, str]]]:
        """Return the edits that give an image a style, by its `style` attribute or by a class, or the attribute to add."""
        if self.options.styles == "inline":
            return box.style_edits(self.context.tags, img, placeholder, css)
        joined = "; ".join(part for part in (placeholder, css) if part)
        if joined:
            self.context.styles.add(joined)
        return class_edits(self.context.tags, img, joined)

    def _shown_originals(self, page: Iterable[Token]) -> Iterator[str]:
        """Yield the original of each `img` of the page that has one."""
        for token in page:
            if token.kind == "start" and token.name == "img":
                img = self.context.tags.read(token)
                source = self._former_address(img) or img.get("src")
                match = self.context.find(self.context.tags.value(source)) if source else None
                if isinstance(match, Match):
                    yield match.original

    def _take(self, edits_by_place: Iterable[OtherEdits | None]) -> None:
        for place_edits in edits_by_place:
            made = place_edits and change(
                self.context.document.text, place_edits.original, place_edits.edits, self.seen
            )
            if made:
                self.changes.append(made)

    def _rewrite_plain_place(self, token: Token) -> None:
        tag = self.context.tags.read(token)
        if self._asks_to_stay(tag, None):
            return
        self._take([self.plain_places.tag(tag)])

    def _structured_data(self, token: Token) -> None:
        text = self.context.document.meaning(self.context.document.text[token.start : token.end])
        if self.is_opted_out or not is_json(text):
            self._mentioned(token)
        else:
            self._take(self.plain_places.structured_data(token))

    def _style_of_img(self, img: ParsedTag) -> ImageStyle:
        values = {
            name: self.context.tags.value(attribute) if (attribute := img.get(name)) else ""
            for name in ("class", "id", "style")
        }
        if self.ancestors is None and any(rule.around for rule in self.rules):
            self.ancestors = ancestors_of_images(self.context.document) or {}
        ancestors = self.ancestors.get(img.token.start) if self.ancestors else None
        return style_of(
            self.rules, frozenset(values["class"].split()), values["id"], values["style"], ancestors
        )

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
                self._img(self.context.tags.read(token), self.picture)
                self.picture = None
            case "script":
                kind = self.context.tags.read(token).get("type")
                self.is_structured_data = bool(
                    kind and self.context.tags.value(kind).strip().lower() == "application/ld+json"
                )
            case name if name in OTHER_TAGS:
                self._rewrite_plain_place(token)

    def _former_address(self, img: ParsedTag) -> Attribute | None:
        """Return the attribute of ours that holds the address from before."""
        former = img.get(FORMER_ORIGINAL)
        source = img.get("src")
        if img.get(ORIGINAL) or former is None or source is None:
            return img.get(ORIGINAL)
        # Under this name scripts keep addresses too: it is ours where the address is a rendition's.
        return (
            former
            if self.context.site.is_rendition(self.context.tags.value(source), self.context.base)
            else None
        )

    def _script_of(self, img: ParsedTag) -> str:
        """Return the attribute by which a script changes the picture; empty for none."""
        for attribute in img.attributes:
            if attribute.name in _SCRIPT_ATTRIBUTES:
                return attribute.name
            if attribute.name.startswith("on") and "src" in self.context.tags.value(attribute):
                return attribute.name
        return ""

    def _img(self, img: ParsedTag, picture: OpenPicture | None) -> None:
        former = self._former_address(img)
        source = former or img.get("src")
        if source is None:
            lazily = img.get("data-src")
            if lazily:
                self.context.leave(img.token.start, self.context.tags.value(lazily), "a script loads it")
            return
        url = self.context.tags.value(source)
        match = self.context.find(url)
        why: str | None
        concern = Concern.BY_HAND
        if isinstance(match, Match):
            measurement = self.measured.next_place(match.original) if self.measured else None
            is_ours = former is not None or self.context.is_rendition(url)
            mode = self.options.mode_of(self.context.page, match.original)
            if mode is None or self._asks_to_stay(img, picture):
                why, concern = opt_out.REASON if mode else BY_CHOICE, Concern.HARMLESS
            else:
                why = self._why_not(img, match, mode, is_ours=is_ours, has_marker=former is not None)
            if why is None and mode is not None:
                self._rewrite_img(img, picture, _Address(url, match, is_ours, mode), measurement)
        else:
            why, concern = match.value, match.concern
        if why:
            self.context.leave(img.token.start, url, why, concern=concern)

    def _asks_to_stay(self, img: ParsedTag, picture: OpenPicture | None) -> bool:
        """Whether the page asks that an image be left alone: by a comment before it, or by its tag or that of its `picture`."""
        tags = (img, self.context.tags.read(picture.token)) if picture else (img,)
        attributes = [attribute for tag in tags if (attribute := tag.get(opt_out.ATTRIBUTE))]
        return self.is_opted_out or any(
            self.context.tags.value(each).strip() == opt_out.LEAVE for each in attributes
        )

    def _why_not(
        self, img: ParsedTag, match: Match, mode: Mode, *, is_ours: bool, has_marker: bool
    ) -> str | None:
        """Return why an image is left alone; empty where that is not worth a word, None where it is changed."""
        script = "" if has_marker else self._script_of(img)
        if script:
            return f"a script changes it ({script})"
        if img.templated and img.is_duplicated("src"):
            return "a template chooses between two addresses"
        if mode is Mode.SIZES:
            return None
        if not is_ours and self.context.site.delivered[match.original].is_copy:
            return ""
        if self.context.site.prefix(match, self.context.base) is None:
            return "this page cannot reach the renditions; say where they are served"
        return None

    def _rewrite_img(
        self,
        img: ParsedTag,
        picture: OpenPicture | None,
        address: _Address,
        measurement: MeasuredPlace | None,
    ) -> None:
        """Change an image, with what belongs to it."""
        url, match, is_ours, mode = address
        self.is_from_root = self.is_from_root or match.from_root
        style = self._style_of_img(img)
        if measurement is not None and measurement.keeps_ratio and style.limits_height is Certainty.POSSIBLE:
            style = style._replace(limits_height=Certainty.NO)
        has_own_sizes = img.get("srcset") is not None and img.get("sizes") is not None and not is_ours
        natural_size = self.context.site.delivered[match.original].size
        prefix = self.context.site.prefix(match, self.context.base)
        first, match = match, self._largest(img, picture, match)
        delivered = self.context.site.delivered[match.original]
        text = MarkupContext(alt="", hero=self._is_hero(img, delivered, measurement))
        loading = img.get("loading")
        is_eager = loading and self.context.tags.value(loading).lower() != "lazy"
        if measurement is not None and not measurement.sizes:
            why = "no measured viewport shows it"
            self.context.leave(img.token.start, url, why, concern=Concern.REVIEW)
        replacement = delivered.with_markup(
            base_url=prefix or "",
            prefix="",
            sizes=self._sizes_of(img, delivered, natural_size, style, measurement, is_ours=is_ours),
            loading="eager" if is_eager or (measurement and measurement.is_in_first_view) else None,
        )
        if mode is Mode.PICTURE:
            is_alone = picture is None and bool(style.structural)
            choice = self._formats_for(replacement, match=first, is_alone=is_alone)
            if choice is None and not is_ours:
                self.context.leave(img.token.start, url, LIGHTER_ORIGINAL, concern=Concern.HARMLESS)
                return
            replacement = choice or replacement
            if is_alone and not self._report_structural(img, url, style.structural[0]):
                return
        element = replacement.element(text)
        self.plain_places.elements.setdefault(match.original, element)
        shown_size = None if has_own_sizes else natural_size
        edits = self._edits(
            img, picture, Replacement(replacement, element, match, is_ours, style, shown_size, mode)
        )
        made = (
            change(self.context.document.text, match.original, edits, self.seen)
            if edits is not None
            else None
        )
        if made:
            art = replacement.art if mode is Mode.PICTURE else ()
            self.changes.append(made._replace(art_up_to=max((cut.up_to for cut in art), default=0)))

    def _formats_for(self, delivered: Delivered, *, match: Match, is_alone: bool) -> Delivered | None:
        """Return an original with the formats that save something in its place; None where the file itself weighs less.

        Args:
            delivered: The original, with the `sizes` of the place.
            match: The original that the page loads now.
            is_alone: Whether there is no `picture`, so that only the fallback can be offered.
        """
        if any(rendition.format == ImageFormat.SVG for rendition in delivered.whole):
            return delivered
        if is_alone:
            fallback = delivered.whole[-1].format
            delivered = replace(
                delivered, renditions=tuple(r for r in delivered.whole if r.format == fallback), art=()
            )
        weight = weight_of(delivered, self.context.site.delivered[match.original].original_bytes)
        if weight.is_heavier:
            return None
        renditions = tuple(r for r in delivered.renditions if r.facet or r.format not in weight.left_out)
        return replace(delivered, renditions=renditions)

    def _report_structural(self, img: ParsedTag, url: str, selector: str) -> bool:
        """List an image that a selector hits by its parent or place; return whether it is changed."""
        is_changed = self.options.structural == "srcset"
        why = f"“{selector}” hits it by its place"
        if is_changed:
            why += ", so it gets no picture round it and stays in its fallback format"
        concern = Concern.REVIEW if is_changed else Concern.HARMLESS
        self.context.leave(img.token.start, url, why, concern=concern)
        return is_changed

    def _is_hero(self, img: ParsedTag, delivered: Delivered, measurement: MeasuredPlace | None) -> bool:
        if measurement is not None:
            return self.options.hero and measurement.is_largest
        if self.hero_found or not self.options.hero or delivered.fallback[-1].width < _HERO_WIDTH:
            return False
        self.hero_found = True
        loading = img.get("loading")
        return loading is None or self.context.tags.value(loading).lower() != "lazy"

    def _largest(self, img: ParsedTag, picture: OpenPicture | None, match: Match) -> Match:
        """Return the largest original of the same shape that the page offers for this place."""
        largest = match
        for tag in [img, *(picture.sources if picture else [])]:
            srcset = tag.get("srcset")
            if srcset is None or tag.get("media"):
                continue
            for url, _ in split_srcset(self.context.tags.value(srcset)):
                candidate = self.context.find(url)
                if (
                    isinstance(candidate, Match)
                    and self.context.same_shape(candidate.original, match.original)
                    and self._width_of(candidate) > self._width_of(largest)
                ):
                    largest = candidate
        return largest

    def _width_of(self, match: Match) -> int:
        return self.context.site.delivered[match.original].size.width

    def _sizes_of(
        self,
        img: ParsedTag,
        delivered: Delivered,
        natural_size: Size,
        style: ImageStyle,
        measurement: MeasuredPlace | None,
        *,
        is_ours: bool,
    ) -> str | None:
        """Return the `sizes` of a place, None where the recipe's are to be taken.

        The page's own; or a width in pixels, where the page or the picture's natural size says how wide it is shown.

        Args:
            img: The tag.
            delivered: The original that is offered.
            natural_size: The size of the original that the page shows.
            style: What styles declare for the image.
            measurement: What a browser measured of it; None for nothing.
            is_ours: Whether an earlier rewriting changed it.
        """
        page_sizes = img.get("sizes")
        measured = measurement.sizes if measurement else ""
        if self.options.new_sizes:
            return measured or None
        if page_sizes is not None and not (measured and is_ours):
            return re.sub(r"^\s*auto\s*,\s*", "", self.context.tags.value(page_sizes))
        if measured:
            return measured
        return box.sizes_in_pixels(
            self.context.tags, img, natural_size, style, from_recipe=delivered.markup.sizes != WHOLE_VIEWPORT
        )

    def _edits(
        self, img: ParsedTag, picture: OpenPicture | None, replacement: Replacement
    ) -> list[Edit] | None:
        reserved = self._reserved(img, replacement)
        if replacement.mode is Mode.SIZES:
            edits, added = self._style_edits(img, "", reserved.css)
            edits += self.context.tags.add_attributes(img, [*reserved.attributes, *added])
            return edits + (sized_sources(self.context, picture) if picture else [])
        if replacement.mode is Mode.ADDRESSES:
            return swapped_addresses(self.context, img, picture, replacement)
        mixed = (
            other_picture(self.context, img, picture, replacement.match.original)
            if not replacement.is_ours
            else ""
        )
        if mixed:
            self.context.leave(img.token.start, mixed, "it stands beside other pictures in one element")
            return None
        element = replacement.element
        inner = dict(element.img)
        attributes: dict[str, str] = {
            name: inner[name] for name in ("src", "srcset", "sizes") if name in inner
        }
        edits = self.context.tags.set_attributes(img, attributes)
        added = [(name, value) for name, value in attributes.items() if img.get(name) is None]
        if (former := img.get(FORMER_ORIGINAL)) is not None and replacement.is_ours:
            edits.append(Edit(former.start, former.start + len(FORMER_ORIGINAL), ORIGINAL))
        if "srcset" not in inner and (stale := img.get("srcset")):
            edits.append(Edit(stale.start, stale.end, ""))
        added += reserved.attributes
        if not img.templated:
            placeholder = inner.get("style", "") if not img.get("style") else ""
            style_edits, style = self._style_edits(img, placeholder, reserved.css)
            edits += style_edits
            added += style
            if not img.get("decoding"):
                added.append(("decoding", "async"))
        edits += self.context.tags.add_attributes(img, added, remember=not replacement.is_ours)
        if element.sources:
            edits += source_edits(self.context, img, picture, element.sources, replacement)
        return edits + (directed_edits(self.context, img, picture) if picture else [])

    def _reserved(self, img: ParsedTag, replacement: Replacement) -> box.ReservedPlace:
        """Return what reserves the place of an image, and how it is loaded, as far as that is missing."""
        reserved = box.ReservedPlace([], "", is_reserved=bool(img.get("width") and img.get("height")))
        if img.templated:
            return reserved
        natural_size = replacement.natural_size
        if natural_size is not None and natural_size.pixels and not reserved.is_reserved:
            reserved = box.reserved_place(self.context.tags, img, natural_size, replacement.style)
        if reserved.is_unknown:
            why = "styles limit its width and its height, so it gets no dimensions"
            self.context.leave(img.token.start, "", why, concern=Concern.REVIEW)
        inner = dict(replacement.element.img)
        if not img.get("loading") and (reserved.is_reserved or inner["loading"] != "lazy"):
            reserved.attributes.append(("loading", inner["loading"]))
            if "fetchpriority" in inner and not img.get("fetchpriority"):
                reserved.attributes.append(("fetchpriority", "high"))
        return reserved

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
        if self.is_opted_out:
            text = self.context.document.meaning(self.context.document.text[start:end])
            self._leave_mentions(start, text, opt_out.REASON, Concern.HARMLESS)
            return
        part = replace(self.context.document, text=self.context.document.text[start:end])
        context = replace(self.context, document=part, left=[])
        changes = style_changes(context, self.options, self.seen, mark=mark, inline=inline)
        for in_style in changes:
            edits = tuple(Edit(edit.start + start, edit.end + start, edit.new) for edit in in_style.edits)
            self.changes.append(in_style._replace(edits=edits))
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

"""Each `img` of a page: whether it is changed, to what, and how its box stays as it is."""

from __future__ import annotations

import re
from collections.abc import Mapping
from dataclasses import dataclass, field, replace
from typing import NamedTuple

from young_prism.core.html.rewrite import box, opt_out
from young_prism.core.html.rewrite.addresses import swapped_addresses
from young_prism.core.html.rewrite.ancestors import Ancestors, ancestors_of_images
from young_prism.core.html.rewrite.changes import (
    Concern,
    Edit,
    Mode,
    WrittenSize,
    change,
)
from young_prism.core.html.rewrite.context import ImageReplacement, OpenPicture, PageContext
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
)
from young_prism.core.html.rewrite.site import (
    Match,
)
from young_prism.core.html.rewrite.sources import directed_edits, other_picture, sized_sources, source_edits
from young_prism.core.html.rewrite.style_classes import class_edits
from young_prism.core.html.rewrite.tags import (
    FORMER_ORIGINAL,
    ORIGINAL,
    ParsedTag,
)
from young_prism.core.html.rewrite.tokens import Attribute
from young_prism.core.html.rewrite.weight import weight_of
from young_prism.core.markup.delivered import Delivered
from young_prism.core.markup.picture import WHOLE_VIEWPORT, Element, MarkupContext
from young_prism.core.markup.srcset import split_srcset
from young_prism.core.types import ImageFormat, Size

_HERO_WIDTH = 600
"""Pixels: the first original on a page that is at least so wide is what it shows first; a logo above it is not."""


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
class ImageRewriter:
    """Rewrites the images of one page, in their order.

    Attributes:
        context: The page.
        options: How it is to be rewritten.
        rules: The rules for images of its stylesheets.
        measured: What a browser measured of its images; None for nothing.
        elements: The elements that images became, by original.
        is_from_root: Whether the address of a changed image begins with a slash.
    """

    context: PageContext
    options: RewriteOptions
    rules: tuple[ImageRule, ...] = ()
    measured: MeasuredPlaces | None = None
    elements: dict[str, Element] = field(default_factory=dict)
    is_from_root: bool = False
    _hero_found: bool = False
    _ancestors: Mapping[int, Ancestors] | None = None

    def rewrite(self, img: ParsedTag, picture: OpenPicture | None) -> None:
        """Change an image, or list why it is left alone.

        Args:
            img: Its tag.
            picture: The `picture` round it; None for none.
        """
        former = self.former_address(img)
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
            if mode is None or self.asks_to_stay(img, picture):
                why, concern = opt_out.REASON if mode else BY_CHOICE, Concern.HARMLESS
            else:
                why = self._why_not(img, match, mode, is_ours=is_ours, has_marker=former is not None)
            if why is None and mode is not None:
                self._rewrite_img(img, picture, _Address(url, match, is_ours, mode), measurement)
        else:
            why, concern = match.value, match.concern
        if why:
            self.context.leave(img.token.start, url, why, concern=concern)

    def asks_to_stay(self, img: ParsedTag, picture: OpenPicture | None) -> bool:
        """Whether the page asks that an image be left alone: by a comment before it, or by its tag or that of its `picture`."""
        tags = (img, self.context.tags.read(picture.token)) if picture else (img,)
        attributes = [attribute for tag in tags if (attribute := tag.get(opt_out.ATTRIBUTE))]
        return self.context.is_opted_out or any(
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
            return "this page cannot reach the renditions; give their address"
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
        self.elements.setdefault(match.original, element)
        shown_size = None if has_own_sizes else natural_size
        edits = self._edits(
            img, picture, ImageReplacement(replacement, element, match, is_ours, style, shown_size, mode)
        )
        made = (
            change(self.context.document.text, match.original, edits, self.context.seen)
            if edits is not None
            else None
        )
        if made:
            art = replacement.art if mode is Mode.PICTURE else ()
            self.context.changes.append(made._replace(art_up_to=max((cut.up_to for cut in art), default=0)))

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
        why = f"“{selector}” selects it by its position"
        if is_changed:
            why += ", so it gets a srcset in its fallback format and no picture"
        concern = Concern.REVIEW if is_changed else Concern.HARMLESS
        self.context.leave(img.token.start, url, why, concern=concern)
        return is_changed

    def _is_hero(self, img: ParsedTag, delivered: Delivered, measurement: MeasuredPlace | None) -> bool:
        if measurement is not None:
            return self.options.hero and measurement.is_largest
        if self._hero_found or not self.options.hero or delivered.fallback[-1].width < _HERO_WIDTH:
            return False
        self._hero_found = True
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
        self, img: ParsedTag, picture: OpenPicture | None, replacement: ImageReplacement
    ) -> list[Edit] | None:
        reserved = self._reserved(img, replacement)
        renewed = self._renewed_size(img, replacement)
        if replacement.mode is Mode.SIZES:
            edits, added = self._style_edits(img, "", reserved.css)
            edits += self.context.tags.set_attributes(img, renewed)
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
            self.context.leave(img.token.start, mixed, "it is next to other images in one element")
            return None
        element = replacement.element
        inner = dict(element.img)
        attributes: dict[str, str] = {
            name: inner[name] for name in ("src", "srcset", "sizes") if name in inner
        }
        edits = self.context.tags.set_attributes(img, attributes | renewed)
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
        # Also without sources: what an earlier rewriting wrote may offer a format that is not delivered any more.
        if element.sources or (picture and replacement.is_ours):
            edits += source_edits(self.context, img, picture, element.sources, replacement)
        return edits + (directed_edits(self.context, img, picture) if picture else [])

    def _reserved(self, img: ParsedTag, replacement: ImageReplacement) -> box.ReservedPlace:
        """Return what reserves the place of an image, and how it is loaded, as far as that is missing."""
        reserved = box.ReservedPlace([], "", is_reserved=bool(img.get("width") and img.get("height")))
        if img.templated:
            return reserved
        natural_size = replacement.natural_size
        if natural_size is not None and natural_size.pixels and not reserved.is_reserved:
            reserved = box.reserved_place(self.context.tags, img, natural_size, replacement.style)
            self._remember_size(img, replacement.match.original, dict(reserved.attributes))
        if reserved.is_unknown:
            why = "styles limit its width and height, so it gets no dimensions"
            self.context.leave(img.token.start, "", why, concern=Concern.REVIEW)
        inner = dict(replacement.element.img)
        if not img.get("loading") and (reserved.is_reserved or inner["loading"] != "lazy"):
            reserved.attributes.append(("loading", inner["loading"]))
            if "fetchpriority" in inner and not img.get("fetchpriority"):
                reserved.attributes.append(("fetchpriority", "high"))
        return reserved

    def _renewed_size(self, img: ParsedTag, replacement: ImageReplacement) -> dict[str, str]:
        """Return the width and height to renew, since the original was replaced by one of another size."""
        original = replacement.match.original
        written = self.context.site.written_sizes.get(original, ())
        natural_size = self.context.site.delivered[original].size
        if img.templated or not (img.get("width") and img.get("height")) or not written:
            return {}
        renewed = box.renewed_size(self.context.tags, img, natural_size, written)
        if renewed:
            self._remember_size(img, original, renewed)
        return renewed

    def _remember_size(self, img: ParsedTag, original: str, sides: Mapping[str, str]) -> None:
        """Note the size that an image gets, for later rewritings."""
        width, height = (
            int(sides[name]) if name in sides else self.context.tags.pixels(img, name)
            for name in ("width", "height")
        )
        added = tuple(name for name in ("width", "height") if name in sides)
        if width and height and added:
            self.context.sizes.append(WrittenSize(original, width, height, added))

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

    def _style_of_img(self, img: ParsedTag) -> ImageStyle:
        values = {
            name: self.context.tags.value(attribute) if (attribute := img.get(name)) else ""
            for name in ("class", "id", "style")
        }
        if self._ancestors is None and any(rule.around for rule in self.rules):
            self._ancestors = ancestors_of_images(self.context.document) or {}
        ancestors = self._ancestors.get(img.token.start) if self._ancestors else None
        return style_of(
            self.rules, frozenset(values["class"].split()), values["id"], values["style"], ancestors
        )

    def former_address(self, img: ParsedTag) -> Attribute | None:
        """Return the attribute that holds the address from before."""
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

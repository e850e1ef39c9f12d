"""Pages: `img` becomes `picture`, a `picture` is completed or repaired, sizes are added; backgrounds in styles too.

What was put into a page says so itself: `data-young-prism-original` on the `img` holds the address that stood there before. By it a
second rewriting knows what is ours, whatever became of the renditions' names.

A box never changes silently: attributes and `sizes` follow what the page and its stylesheets say of the image (`image_style`), and
what cannot be known is listed.
"""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field, replace
from typing import Literal, NamedTuple
from urllib.parse import quote

from young_prism.core.html.references import mentions_in
from young_prism.core.html.rewrite import box, opt_out
from young_prism.core.html.rewrite.changes import (
    Edit,
    Mode,
    ReferenceChange,
    Rewriting,
    SkippedReference,
    change,
)
from young_prism.core.html.rewrite.document import Document
from young_prism.core.html.rewrite.image_style import (
    Certainty,
    ImageRule,
    ImageStyle,
    image_rules,
    style_imports,
    style_of,
)
from young_prism.core.html.rewrite.site import (
    BaseAddress,
    Match,
    NoMatch,
    SiteIndex,
)
from young_prism.core.html.rewrite.style import style_changes
from young_prism.core.html.rewrite.tags import (
    FORMER_ORIGINAL,
    ORIGINAL,
    ParsedTag,
    TagEditor,
)
from young_prism.core.html.rewrite.tokens import Attribute, Token, tokens
from young_prism.core.html.rewrite.weight import weight_of
from young_prism.core.markup.delivered import Delivered
from young_prism.core.markup.picture import WHOLE_VIEWPORT, Attributes, Element, MarkupContext
from young_prism.core.markup.srcset import split_srcset
from young_prism.core.markup.urls import path_url
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


@dataclass(frozen=True, slots=True)
class RewriteOptions:
    """How pages are to be rewritten.

    Attributes:
        mode: How much is changed.
        new_sizes: Whether the recipe's `sizes` are used also where a page has its own.
        hero: Whether the first large picture of a page is loaded at once.
        structural: What becomes of an image that a selector hits by its parent or place, which a `picture` would change: it gets a
            `srcset` in its fallback format, or is left alone.
    """

    mode: Mode = Mode.PICTURE
    new_sizes: bool = False
    hero: bool = True
    structural: Literal["srcset", "leave"] = "srcset"


@dataclass(slots=True)
class _Picture:
    """A `picture` that is open: its tag and the sources so far."""

    token: Token
    sources: list[ParsedTag] = field(default_factory=list)


def rewrite_page(document: Document, page: str, site: SiteIndex, options: RewriteOptions) -> Rewriting:
    """Return what would change in an HTML page, or in a template that makes one."""
    return _Rewriter(document, page, site, options, site.base_of(page), TagEditor(document)).run()


@dataclass(slots=True)
class _Rewriter:
    document: Document
    page: str
    site: SiteIndex
    wish: RewriteOptions
    base: BaseAddress
    tags: TagEditor
    based: bool = False
    picture: _Picture | None = None
    changes: list[ReferenceChange] = field(default_factory=list)
    left: list[SkippedReference] = field(default_factory=list)
    seen: dict[str, int] = field(default_factory=dict)
    hero_found: bool = False
    is_opted_out: bool = False
    rules: tuple[ImageRule, ...] = ()

    def run(self) -> Rewriting:
        page = list(tokens(self.document.text))
        self.rules = self._image_rules(page)
        for token in page:
            if token.kind == "start":
                self._start(token)
                self._style_of(token)
            elif token.kind == "end" and token.name == "picture":
                self.picture = None
            elif token.kind == "raw" and token.name == "style":
                self._style(token.start, token.end, mark='"')
            elif token.kind == "open":
                self._leave(
                    token.start, "", "a tag that begins here never ends; nothing behind it is changed"
                )
            elif token.kind in ("comment", "raw"):
                self._mentioned(token)
                if token.kind == "comment":
                    comment = self.document.text[token.start : token.end]
                    self.is_opted_out = opt_out.is_opted_out_after(comment, before=self.is_opted_out)
        changes = sorted(self.changes, key=lambda change: change.start)
        return Rewriting(self.document.text, tuple(changes), tuple(self.left))

    def _image_rules(self, page: Sequence[Token]) -> tuple[ImageRule, ...]:
        """Return the rules for images of the stylesheets that a page uses.

        A page without any, such as a part that a template puts into others, may be shown with each of the site's.
        """
        rules: list[ImageRule] = []
        has_styles = False
        base = self.base
        for token in page:
            if token.kind == "raw" and token.name == "style":
                text = self.document.meaning(self.document.text[token.start : token.end])
                rules += self._rules_of(text, base, set())
                has_styles = True
            elif token.kind == "start" and token.name == "base":
                href = self.tags.read(token).get("href")
                base = self.site.base_of(self.page, self.tags.value(href)) if href else base
            elif token.kind == "start" and token.name == "link":
                link = self.tags.read(token)
                rel, href = link.get("rel"), link.get("href")
                if rel and href and "stylesheet" in self.tags.value(rel).lower().split():
                    rules += self._imported_rules(self.tags.value(href), base, set())
                    has_styles = True
        if has_styles:
            return tuple(rules)
        all_texts = (self.site.read_style(path) for path in sorted(self.site.files) if path.endswith(".css"))
        return tuple(rule._replace(is_conditional=True) for text in all_texts for rule in image_rules(text))

    def _imported_rules(self, url: str, base: BaseAddress, seen: set[str]) -> Iterator[ImageRule]:
        """Yield the rules of a stylesheet and of those that it imports, each stylesheet once."""
        path = self.site.file(url, base)
        if path is not None and path not in seen:
            seen.add(path)
            yield from self._rules_of(self.site.read_style(path), self.site.base_of(path), seen)

    def _rules_of(self, text: str, base: BaseAddress, seen: set[str]) -> Iterator[ImageRule]:
        for imported in style_imports(text):
            for rule in self._imported_rules(imported.url, base, seen):
                yield rule._replace(is_conditional=rule.is_conditional or imported.is_conditional)
        yield from image_rules(text)

    def _style_of_img(self, img: ParsedTag) -> ImageStyle:
        values = {
            name: self.tags.value(attribute) if (attribute := img.get(name)) else ""
            for name in ("class", "id", "style")
        }
        return style_of(self.rules, frozenset(values["class"].split()), values["id"], values["style"])

    def _start(self, token: Token) -> None:
        match token.name:
            case "base":
                href = self.tags.read(token).get("href")
                if href and not self.based:  # the first one counts (HTML, 4.2.3)
                    self.base, self.based = self.site.base_of(self.page, self.tags.value(href)), True
            case "picture":
                self.picture = _Picture(token)
            case "source" if self.picture:
                self.picture.sources.append(self.tags.read(token))
            case "img":
                self._img(self.tags.read(token), self.picture)
                self.picture = None
            case name if name in _PLAIN_URL_ATTRIBUTES:
                self._edit_other(self.tags.read(token))

    def _leave(self, at: int, url: str, why: str, *, is_changed: bool = False) -> None:
        self.left.append(SkippedReference(self.document.line(at), url[:200], why, is_changed))

    def _former_address(self, img: ParsedTag) -> Attribute | None:
        """Return the attribute of ours that holds the address from before."""
        former = img.get(FORMER_ORIGINAL)
        source = img.get("src")
        if img.get(ORIGINAL) or former is None or source is None:
            return img.get(ORIGINAL)
        # Under this name scripts keep addresses too: it is ours where the address is a rendition's.
        return former if self.site.is_rendition(self.tags.value(source), self.base) else None

    def _script_of(self, img: ParsedTag) -> str:
        """Return the attribute by which a script changes the picture; empty for none."""
        for attribute in img.attributes:
            if attribute.name in _SCRIPT_ATTRIBUTES:
                return attribute.name
            if attribute.name.startswith("on") and "src" in self.tags.value(attribute):
                return attribute.name
        return ""

    def _img(self, img: ParsedTag, picture: _Picture | None) -> None:
        former = self._former_address(img)
        source = former or img.get("src")
        if source is None:
            lazily = img.get("data-src")
            if lazily:
                self._leave(img.token.start, self.tags.value(lazily), "a script loads it")
            return
        url = self.tags.value(source)
        match = self.site.find(url, self.base)
        if isinstance(match, Match):
            is_ours = former is not None or self.site.is_rendition(url, self.base)
            why = (
                opt_out.REASON
                if self._asks_to_stay(img, picture)
                else self._why_not(img, match, is_ours=is_ours, has_marker=former is not None)
            )
            if why is None:
                self._rewrite_img(img, picture, url, match, is_ours=is_ours)
        else:
            why = match.value
        if why:
            self._leave(img.token.start, url, why)

    def _asks_to_stay(self, img: ParsedTag, picture: _Picture | None) -> bool:
        """Whether the page asks that an image be left alone: by a comment before it, or by its tag or that of its `picture`."""
        tags = (img, self.tags.read(picture.token)) if picture else (img,)
        attributes = [attribute for tag in tags if (attribute := tag.get(opt_out.ATTRIBUTE))]
        return self.is_opted_out or any(self.tags.value(each).strip() == opt_out.LEAVE for each in attributes)

    def _why_not(self, img: ParsedTag, match: Match, *, is_ours: bool, has_marker: bool) -> str | None:
        """Return why an image is left alone; empty where that is not worth a word, None where it is changed."""
        script = "" if has_marker else self._script_of(img)
        if script:
            return f"a script changes it ({script})"
        if img.templated and img.is_duplicated("src"):
            return "a template chooses between two addresses"
        if self.wish.mode is Mode.SIZES:
            return None
        if not is_ours and self.site.delivered[match.original].is_copy:
            return ""
        if self.site.prefix(match, self.base) is None:
            return "this page cannot reach the renditions; say where they are served"
        return None

    def _rewrite_img(
        self, img: ParsedTag, picture: _Picture | None, url: str, match: Match, *, is_ours: bool
    ) -> None:
        """Change an image, with what belongs to it."""
        style = self._style_of_img(img)
        has_own_sizes = img.get("srcset") is not None and img.get("sizes") is not None and not is_ours
        natural_size = self.site.delivered[match.original].size
        prefix = self.site.prefix(match, self.base)
        first, match = match, self._largest(img, picture, match)
        delivered = self.site.delivered[match.original]
        text = MarkupContext(alt="", hero=self._is_hero(img, delivered))
        loading = img.get("loading")
        replacement = delivered.with_markup(
            base_url=prefix or "",
            prefix="",
            sizes=self._sizes_of(img, delivered, natural_size, style),
            loading="eager" if loading and self.tags.value(loading).lower() != "lazy" else None,
        )
        if self.wish.mode is Mode.PICTURE:
            is_alone = picture is None and bool(style.structural)
            choice = self._formats_for(replacement, match=first, is_alone=is_alone)
            if choice is None and not is_ours:
                self._leave(img.token.start, url, "the file itself weighs less than its renditions")
                return
            replacement = choice or replacement
            if is_alone and not self._report_structural(img, url, style.structural[0]):
                return
        element = replacement.element(text)
        shown_size = None if has_own_sizes else natural_size
        edits = self._edits(
            img, picture, _Replacement(replacement, element, match, is_ours, style, shown_size)
        )
        made = change(self.document.text, match.original, edits, self.seen) if edits is not None else None
        if made:
            self.changes.append(made)

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
        weight = weight_of(delivered, self.site.delivered[match.original].original_bytes)
        if weight.is_heavier:
            return None
        renditions = tuple(r for r in delivered.renditions if r.facet or r.format not in weight.left_out)
        return replace(delivered, renditions=renditions)

    def _report_structural(self, img: ParsedTag, url: str, selector: str) -> bool:
        """List an image that a selector hits by its parent or place; return whether it is changed."""
        is_changed = self.wish.structural == "srcset"
        why = f"“{selector}” hits it by its place"
        if is_changed:
            why += ", so it gets no picture round it and stays in its fallback format"
        self._leave(img.token.start, url, why, is_changed=is_changed)
        return is_changed

    def _is_hero(self, img: ParsedTag, delivered: Delivered) -> bool:
        if self.hero_found or not self.wish.hero or delivered.fallback[-1].width < _HERO_WIDTH:
            return False
        self.hero_found = True
        loading = img.get("loading")
        return loading is None or self.tags.value(loading).lower() != "lazy"

    def _largest(self, img: ParsedTag, picture: _Picture | None, match: Match) -> Match:
        """Return the largest original of the same shape that the page offers for this place."""
        largest = match
        for tag in [img, *(picture.sources if picture else [])]:
            srcset = tag.get("srcset")
            if srcset is None or tag.get("media"):
                continue
            for url, _ in split_srcset(self.tags.value(srcset)):
                candidate = self.site.find(url, self.base)
                if (
                    isinstance(candidate, Match)
                    and self._same_shape(candidate.original, match.original)
                    and self._width_of(candidate) > self._width_of(largest)
                ):
                    largest = candidate
        return largest

    def _width_of(self, match: Match) -> int:
        return self.site.delivered[match.original].size.width

    def _sizes_of(
        self, img: ParsedTag, delivered: Delivered, natural_size: Size, style: ImageStyle
    ) -> str | None:
        """Return the `sizes` of a place, None where the recipe's are to be taken.

        The page's own; or a width in pixels, where the page or the picture's natural size says how wide it is shown.

        Args:
            img: The tag.
            delivered: The original that is offered.
            natural_size: The size of the original that the page shows.
            style: What styles declare for the image.
        """
        page_sizes = img.get("sizes")
        if self.wish.new_sizes:
            return None
        if page_sizes is not None:
            return re.sub(r"^\s*auto\s*,\s*", "", self.tags.value(page_sizes))
        return box.sizes_in_pixels(
            self.tags, img, natural_size, style, from_recipe=delivered.markup.sizes != WHOLE_VIEWPORT
        )

    def _edits(
        self, img: ParsedTag, picture: _Picture | None, replacement: _Replacement
    ) -> list[Edit] | None:
        reserved = self._reserved(img, replacement)
        if self.wish.mode is Mode.SIZES:
            edits, added = box.style_edits(self.tags, img, "", reserved.css)
            edits += self.tags.add_attributes(img, [*reserved.attributes, *added])
            return edits + (self._sized_sources(picture) if picture else [])
        if self.wish.mode is Mode.ADDRESSES:
            return self._swapped(img, picture, replacement)
        mixed = self._mixed(img, picture, replacement.match.original) if not replacement.is_ours else ""
        if mixed:
            self._leave(img.token.start, mixed, "it stands beside other pictures in one element")
            return None
        element = replacement.element
        inner = dict(element.img)
        attributes: dict[str, str] = {
            name: inner[name] for name in ("src", "srcset", "sizes") if name in inner
        }
        edits = self.tags.set_attributes(img, attributes)
        added = [(name, value) for name, value in attributes.items() if img.get(name) is None]
        if (former := img.get(FORMER_ORIGINAL)) is not None and replacement.is_ours:
            edits.append(Edit(former.start, former.start + len(FORMER_ORIGINAL), ORIGINAL))
        if "srcset" not in inner and (stale := img.get("srcset")):
            edits.append(Edit(stale.start, stale.end, ""))
        added += reserved.attributes
        if not img.templated:
            placeholder = inner.get("style", "") if not img.get("style") else ""
            style_edits, style = box.style_edits(self.tags, img, placeholder, reserved.css)
            edits += style_edits
            added += style
            if not img.get("decoding"):
                added.append(("decoding", "async"))
        edits += self.tags.add_attributes(img, added, remember=not replacement.is_ours)
        if element.sources:
            edits += self._sources(img, picture, element.sources, replacement)
        return edits + (self._directed(img, picture) if picture else [])

    def _mixed(self, img: ParsedTag, picture: _Picture | None, original: str) -> str:
        """Return an address of another picture in the same element, other than for art direction."""
        for tag in [img, *(picture.sources if picture else [])]:
            srcset = tag.get("srcset")
            if srcset is None or tag.get("media"):
                continue
            for url, _ in split_srcset(self.tags.value(srcset)):
                match = self.site.find(url, self.base)
                if (
                    isinstance(match, Match)
                    and match.original != original
                    and not self._same_shape(match.original, original)
                ):
                    return url
        return ""

    def _same_shape(self, first_path: str, other_path: str) -> bool:
        first, second = (self.site.delivered[path].size for path in (first_path, other_path))
        return _same_shape(first, second)

    def _reserved(self, img: ParsedTag, replacement: _Replacement) -> box.ReservedPlace:
        """Return what reserves the place of an image, and how it is loaded, as far as that is missing."""
        reserved = box.ReservedPlace([], "", is_reserved=bool(img.get("width") and img.get("height")))
        if img.templated:
            return reserved
        natural_size = replacement.natural_size
        if natural_size is not None and natural_size.pixels and not reserved.is_reserved:
            reserved = box.reserved_place(self.tags, img, natural_size, replacement.style)
        if reserved.is_unknown:
            why = "styles limit its width and its height, so it gets no dimensions"
            self._leave(img.token.start, "", why, is_changed=True)
        inner = dict(replacement.element.img)
        if not img.get("loading") and (reserved.is_reserved or inner["loading"] != "lazy"):
            reserved.attributes.append(("loading", inner["loading"]))
            if "fetchpriority" in inner and not img.get("fetchpriority"):
                reserved.attributes.append(("fetchpriority", "high"))
        return reserved

    def _sized_sources(self, picture: _Picture) -> list[Edit]:
        """Give each source of another shape its own dimensions."""
        edits: list[Edit] = []
        for source in picture.sources:
            srcset = source.get("srcset")
            if srcset is None or source.get("media") is None or source.templated:
                continue
            url = next((url for url, _ in split_srcset(self.tags.value(srcset))), "")
            match = self.site.find(url, self.base)
            if isinstance(match, Match) and not (source.get("width") or source.get("height")):
                size = self.site.delivered[match.original].size
                if size.pixels:
                    text = f' width="{size.width}" height="{size.height}"'
                    edits.append(Edit(srcset.end, srcset.end, text))
        return edits

    def _sources(
        self,
        img: ParsedTag,
        picture: _Picture | None,
        sources: Sequence[Attributes],
        replacement: _Replacement,
    ) -> list[Edit]:
        text = self.document.text
        written = self.tags.render_sources(img, sources)
        if picture is None:
            return self.tags.wrap(img, written)
        kinds = {(dict(new).get("media", ""), dict(new)["type"]) for new in sources}
        our_sources = [tag for tag in picture.sources if self._is_ours(tag, replacement, kinds)]
        if [text[tag.token.start : tag.token.end] for tag in our_sources] == written:
            return []
        if len(our_sources) == len(written) and all(
            self.tags.kind_of(tag) == (dict(new).get("media", ""), dict(new)["type"])
            for tag, new in zip(our_sources, sources, strict=True)
        ):
            return [
                edit
                for tag, new in zip(our_sources, sources, strict=True)
                for edit in self.tags.set_attributes(tag, dict(new))
            ]
        removals = [
            Edit(tag.token.start, self.tags.skip_whitespace(tag.token.end), "") for tag in our_sources
        ]
        # Sources without a condition come behind those with one, which a browser must meet first.
        return [*removals, Edit(img.token.start, img.token.start, self.tags.insert_before(img, written))]

    def _is_ours(self, source: ParsedTag, replacement: _Replacement, kinds: set[tuple[str, str]]) -> bool:
        """Whether a source is what an earlier rewriting wrote, or says by hand what ours say better."""
        srcset = source.get("srcset")
        if srcset is None or source.get(ORIGINAL) or source.get(FORMER_ORIGINAL):
            return False
        matches = [
            (self.site.find(url, self.base), self.site.is_rendition(url, self.base))
            for url, _ in split_srcset(self.tags.value(srcset))
        ]
        # When the site has moved, what an earlier rewrite wrote leads nowhere; it is recognised by its kind then.
        lost = replacement.is_ours and self.tags.kind_of(source) in kinds
        if all(is_own or (lost and isinstance(match, NoMatch)) for match, is_own in matches):
            return bool(matches)
        return not source.get("media") and all(
            isinstance(match, Match) and self._same_shape(match.original, replacement.match.original)
            for match, _ in matches
        )

    def _directed(self, img: ParsedTag, picture: _Picture) -> list[Edit]:
        """Give other pictures for some viewports, which a page chose by hand, their modern formats too."""
        edits: list[Edit] = []
        runs: dict[tuple[str, str], list[ParsedTag]] = {}
        for source in picture.sources:
            srcset, media = source.get("srcset"), source.get("media")
            attribute = source.get(ORIGINAL) or source.get(FORMER_ORIGINAL)
            if srcset is None or media is None or (source.get("type") and not attribute):
                continue
            url = (
                self.tags.value(attribute)
                if attribute
                else next((url for url, _ in split_srcset(self.tags.value(srcset))), "")
            )
            if attribute or not self.site.is_rendition(url, self.base):
                runs.setdefault((self.tags.value(media), url), []).append(source)
        for (condition, url), group in runs.items():
            match = self.site.find(url, self.base)
            prefix = self.site.prefix(match, self.base) if isinstance(match, Match) else None
            if isinstance(match, NoMatch) or prefix is None:
                continue
            sizes = group[-1].get("sizes")
            replacement = self.site.delivered[match.original].with_markup(
                base_url=prefix, prefix="", sizes=self.tags.value(sizes) if sizes else None
            )
            element = replace(replacement, art=()).element(MarkupContext(alt=""))
            inner = dict(element.img)
            last: list[tuple[str, str]] = [("srcset", inner.get("srcset", inner["src"]))]
            last += [(name, inner[name]) for name in ("sizes", "width", "height") if name in inner]
            raw = quote(url, safe="/:?=&#%+,~()!@$;")
            # Of another shape than the img: without dimensions of its own each would be drawn in that one's.
            sides = tuple((name, inner[name]) for name in ("width", "height") if name in inner)
            sources: list[Attributes] = [
                *(
                    (("media", condition), *attributes, *sides, (ORIGINAL, raw))
                    for attributes in element.sources
                ),
                (("media", condition), *last, (ORIGINAL, raw)),
            ]
            start, end = group[0].token.start, group[-1].token.end
            joint = (
                ""
                if self.tags.indent(start) is None
                else self.tags.newline() + (self.tags.indent(start) or "")
            )
            edits.append(Edit(start, end, joint.join(self.tags.render_sources(img, sources))))
        return edits

    def _swapped(
        self, img: ParsedTag, picture: _Picture | None, replacement: _Replacement
    ) -> list[Edit] | None:
        """Swap addresses alone: that of `src`, and those in `srcset` for which there is a rung of the same width."""
        edits: list[Edit] = []
        source = img.get("src")
        if source:
            rung = self._one_rung(img, replacement)
            if not rung:
                why = "its natural size shows here, and no rendition has that"
                self._leave(img.token.start, self.tags.value(source), why)
                return None
            edits += self.tags.set_attributes(img, {"src": rung})
            edits += self.tags.add_attributes(img, [], remember=not replacement.is_ours)
        for tag in [img, *(picture.sources if picture else [])]:
            srcset = tag.get("srcset")
            if srcset is None or tag.get("type"):
                continue
            swapped = self._srcset(self.tags.value(srcset))
            if swapped:
                edits.append(self.tags.replace_value(srcset, "srcset", swapped))
        return edits

    def _srcset(self, srcset: str) -> str:
        """Return a `srcset` with each original's address replaced; empty where one of them has no rung of that width."""
        parts = []
        for url, descriptors in split_srcset(srcset):
            match = self.site.find(url, self.base)
            width = next(
                (int(descriptor[:-1]) for descriptor in descriptors if re.fullmatch(r"\d+w", descriptor)), 0
            )
            if isinstance(match, NoMatch) or not width:
                return ""
            prefix = self.site.prefix(match, self.base)
            fallback = self.site.delivered[match.original].fallback
            rung = next((rendition.path for rendition in fallback if rendition.width == width), None)
            if rung is None or prefix is None:
                return ""
            parts.append(f"{path_url(rung, prefix)} {width}w")
        return ", ".join(parts)

    def _one_rung(self, img: ParsedTag, replacement: _Replacement) -> str:
        """Return the address to show where there is but one: twice the width that the tag says, or the natural one.

        Empty where the natural size shows, on which the layout or an image map depends, and no rendition has it.
        """
        delivered, width = replacement.delivered, self.tags.pixels(img, "width")
        fallback = delivered.fallback
        has_map = img.get("usemap") is not None or img.get("ismap") is not None
        is_sized = bool(width and img.get("height")) or (width is not None and not has_map)
        if is_sized and width is not None:
            rung = next((rendition for rendition in fallback if rendition.width >= 2 * width), fallback[-1])
        elif replacement.style.width is Certainty.CERTAIN or img.get("sizes"):
            rung = delivered.default_rendition
        else:
            natural = [rendition for rendition in fallback if rendition.width == delivered.size.width]
            if not natural:
                return ""
            rung = natural[0]
        return path_url(rung.path, delivered.markup.url_base)

    def _edit_other(self, tag: ParsedTag) -> None:
        """List what loads an original in a way that is not rewritten."""
        for name in _PLAIN_URL_ATTRIBUTES[tag.token.name]:
            attribute = tag.get(name)
            if attribute is None:
                continue
            url = self.tags.value(attribute)
            match = self.site.find(url, self.base)
            if isinstance(match, Match) and not self.site.is_rendition(url, self.base):
                self._leave(tag.token.start, url, f"{tag.token.name} {name} is not rewritten")

    def _style_of(self, token: Token) -> None:
        text = self.document.text[token.start : token.end]
        if "url(" not in text.lower() or "style" not in text.lower():
            return
        style = self.tags.read(token).get("style")
        if style is None:
            return
        raw = self.document.text[style.value_start : style.value_end]
        if not style.quote:
            self._leave_mentions(token.start, self.tags.value(style), "its style attribute has no quotes")
            return
        if token.name == "img" and "data:" in raw:
            return  # a placeholder
        mark = "'" if style.quote == '"' else '"'
        self._style(style.value_start, style.value_end, mark=mark, inline=True)

    def _style(self, start: int, end: int, *, mark: str, inline: bool = False) -> None:
        if self.wish.mode is Mode.SIZES:
            return
        if self.is_opted_out:
            self._leave_mentions(start, self.document.meaning(self.document.text[start:end]), opt_out.REASON)
            return
        part = replace(self.document, text=self.document.text[start:end])
        changes, left = style_changes(
            part, self.site, self.base, self.wish.mode, self.seen, mark=mark, inline=inline
        )
        for in_style in changes:
            edits = tuple(Edit(edit.start + start, edit.end + start, edit.new) for edit in in_style.edits)
            self.changes.append(in_style._replace(edits=edits))
        line = self.document.line(start) - 1
        self.left += [skipped._replace(line=skipped.line + line) for skipped in left]

    def _leave_mentions(self, at: int, text: str, why: str) -> None:
        """List the originals that a text mentions as left alone."""
        for url in mentions_in(text):
            match = self.site.find(url, self.base)
            if isinstance(match, Match) and not self.site.is_rendition(url, self.base):
                self._leave(at, url, why)

    def _mentioned(self, token: Token) -> None:
        where = "in a comment" if token.kind == "comment" else f"inside {token.name}"
        self._leave_mentions(
            token.start, self.document.meaning(self.document.text[token.start : token.end]), where
        )


_PLAIN_URL_ATTRIBUTES = {
    "video": ("poster",),
    "input": ("src",),
    "image": ("href", "xlink:href"),
    "embed": ("src",),
    "object": ("data",),
    "div": ("data-src", "data-bg", "data-background"),
    "body": ("background",),
    "table": ("background",),
    "td": ("background",),
    "link": ("href",),
}


class _Replacement(NamedTuple):
    """An original as a page is to show it.

    Attributes:
        delivered: The original.
        element: Its markup.
        match: How the page leads to it.
        is_ours: Whether an earlier rewriting put it there.
        style: What styles declare for the image.
        natural_size: The size that is natural for the place; None where the page's own `sizes` say it.
    """

    delivered: Delivered
    element: Element
    match: Match
    is_ours: bool
    style: ImageStyle
    natural_size: Size | None


def _same_shape(size: Size, other_size: Size) -> bool:
    across, down = size.width * other_size.height, size.height * other_size.width
    return abs(across - down) <= _SAME_SHAPE * max(across, down)

"""Places other than `img` that load one file of an original.

They are posters, buttons, icons, backgrounds of tables, previews for other sites, links to the large picture, and structured data. None of them can offer several formats, so each gets one rendition in the fallback format: one of the original's own size where the
natural size shows, otherwise one that is wide enough. The file itself stays where that weighs no more.
"""

from __future__ import annotations

import json
import re
from collections.abc import Iterator
from dataclasses import dataclass, field
from typing import NamedTuple
from urllib.parse import urlsplit

from young_prism.core.html.rewrite.changes import Concern, Edit, Mode
from young_prism.core.html.rewrite.context import PageContext
from young_prism.core.html.rewrite.options import RewriteOptions
from young_prism.core.html.rewrite.site import Match, NoMatch
from young_prism.core.html.rewrite.tags import ORIGINAL, ParsedTag
from young_prism.core.html.rewrite.tokens import Attribute, Token
from young_prism.core.manifest.model import RenditionEntry
from young_prism.core.markup.delivered import Delivered
from young_prism.core.markup.picture import Element
from young_prism.core.markup.urls import path_url
from young_prism.core.types import ImageFormat

LIGHTER_ORIGINAL = "the file itself weighs less than its renditions"
_PREVIEW_WIDTH = 1200
"""Pixels: the width that other sites recommend for the picture of a preview (from memory)."""
_URL_ATTRIBUTES = {
    "video": ("poster",),
    "input": ("src",),
    "image": ("href", "xlink:href"),
    "body": ("background",),
    "table": ("background",),
    "td": ("background",),
    "link": ("href",),
    "a": ("href",),
    "meta": ("content",),
}
_LISTED_ONLY = {
    "embed": ("src",),
    "object": ("data",),
    "div": ("data-src", "data-bg", "data-background"),
}
OTHER_TAGS = frozenset(_URL_ATTRIBUTES) | frozenset(_LISTED_ONLY)
_PREVIEWS = re.compile(r"og:image(?::(?:secure_)?url)?|twitter:image(?::src)?|image")
_PREVIEW_DETAILS = re.compile(r"og:image:(width|height|type)")
_STRUCTURED = re.compile(
    r'"(?:image|images|logo|thumbnail|thumbnailUrl|contentUrl|primaryImageOfPage|photo|url)"\s*:\s*'
    r'(\[[^\[\]{}]*\]|"(?:[^"\\]|\\.)*")'
)
"""Properties of schema.org that hold addresses of pictures, in JSON."""
_STRING = re.compile(r'"(?:[^"\\]|\\.)*"')


class OtherEdits(NamedTuple):
    """The edits of one place, and the original that it loads."""

    original: str
    edits: tuple[Edit, ...]


class _OriginalReference(NamedTuple):
    """How a place leads to an original.

    Attributes:
        match: The original.
        url: The address that the page names, or the one that it named before a rewriting.
        is_ours: Whether an earlier rewriting put it there.
        prefix: The part of the address before a rendition's path; None where the page cannot reach it.
    """

    match: Match
    url: str
    is_ours: bool
    prefix: str | None


@dataclass(slots=True)
class OtherPlaces:
    """Rewrites the places of one page.

    Attributes:
        context: The page.
        options: How it is to be rewritten.
        elements: The elements that the page's images became, by original: a preload must ask for the same file.
    """

    context: PageContext
    options: RewriteOptions
    elements: dict[str, Element] = field(default_factory=dict)
    _preloads: list[tuple[ParsedTag, _OriginalReference]] = field(default_factory=list)
    _preview: RenditionEntry | None = None

    def tag(self, tag: ParsedTag) -> OtherEdits | None:
        """Return what changes in a tag; None for nothing."""
        name = tag.token.name
        for attribute_name in _LISTED_ONLY.get(name, ()):
            attribute = tag.get(attribute_name)
            reference = self._find(tag, attribute) if attribute else None
            if reference and not reference.is_ours:
                self.context.leave(
                    tag.token.start, reference.url, f"{name} {attribute_name} is not rewritten"
                )
        if name == "meta":
            return self._meta(tag)
        attribute = next((a for key in _URL_ATTRIBUTES.get(name, ()) if (a := tag.get(key))), None)
        reference = self._find(tag, attribute) if attribute and not tag.templated else None
        if attribute is None or reference is None:
            return None
        if name == "link":
            return self._link(tag, attribute, reference)
        if name == "a":
            return self._anchor(tag, attribute, reference)
        if name == "input" and self._value(tag, "type").lower() != "image":
            return None
        width = None if attribute.name == "background" else self.context.tags.pixels(tag, "width")
        return self._one_file(tag, attribute, reference, width)

    def preloads(self) -> Iterator[OtherEdits]:
        """Yield what changes in the links that preload an original: each asks for what the page's `img` takes.

        To be called at the end of the page.
        """
        for tag, reference in self._preloads:
            element = self.elements.get(reference.match.original)
            if element is None:
                why = "it is preloaded, but no changed image of this page shows it"
                self.context.leave(tag.token.start, reference.url, why)
                continue
            values = dict(next(iter(element.sources), element.img))
            values_to_set = {"type": values["type"]} if "type" in values else {}
            href = ""
            if "sizes" in values:
                values_to_set |= {"imagesrcset": values["srcset"], "imagesizes": values["sizes"]}
            else:
                href = values.get("srcset") or values["src"]
            yield OtherEdits(reference.match.original, tuple(self._preload_edits(tag, values_to_set, href)))

    def structured_data(self, token: Token) -> Iterator[OtherEdits]:
        """Yield what changes in JSON-LD that is whole: addresses of originals become that of the largest rendition (JSON-LD 1.1, 7)."""
        text = self.context.document.text[token.start : token.end]
        for value in _STRUCTURED.finditer(text):
            for string in _STRING.finditer(text, *value.span(1)):
                url = json.loads(self.context.document.meaning(string[0]))
                match = self._absolute(url)
                if not isinstance(match, Match):
                    continue
                if self.options.mode_of(self.context.page, match.original) in (None, Mode.SIZES):
                    continue
                prefix = self.context.site.prefix(match, self.context.base)
                delivered = self.context.site.delivered[match.original]
                rendition = delivered.fallback[-1]
                if prefix is None or delivered.is_copy or not self._saves(delivered, rendition):
                    continue
                start = token.start + string.start()
                edit = Edit(start, start + len(string[0]), json.dumps(path_url(rendition.path, prefix)))
                yield OtherEdits(match.original, (edit,))

    def _find(self, tag: ParsedTag, attribute: Attribute) -> _OriginalReference | None:
        """Return the original that an attribute leads to, by itself or by what stood there before."""
        former = tag.get(ORIGINAL)
        url = self.context.tags.value(former or attribute)
        match = self._absolute(url) if tag.token.name == "meta" else self.context.find(url)
        if not isinstance(match, Match):
            return None
        is_rendition = self.context.is_rendition(self.context.tags.value(attribute))
        if is_rendition and former is None:
            return None  # written by hand, with our files
        if self.options.mode_of(self.context.page, match.original) in (None, Mode.SIZES):
            return None
        prefix = self.context.site.prefix(match, self.context.base)
        return _OriginalReference(match, url, former is not None, prefix)

    def _absolute(self, url: str) -> Match | NoMatch:
        """Return the original that an address leads to, also with the host under which the site is known to be served."""
        match = self.context.find(url)
        address = urlsplit(self.context.site.address)
        if match is NoMatch.ELSEWHERE and address.netloc:
            parts = urlsplit(url)
            if (parts.scheme, parts.netloc) == (address.scheme, address.netloc):
                return self.context.find(parts.path)
        return match

    def _value(self, tag: ParsedTag, name: str) -> str:
        attribute = tag.get(name)
        return self.context.tags.value(attribute).strip() if attribute else ""

    def _saves(self, delivered: Delivered, rendition: RenditionEntry) -> bool:
        return not delivered.original_bytes or rendition.bytes < delivered.original_bytes

    def _one_file(
        self, tag: ParsedTag, attribute: Attribute, reference: _OriginalReference, width: int | None
    ) -> OtherEdits | None:
        """Replace an original by one rendition: by a width in CSS pixels twice that, otherwise the natural size."""
        delivered = self.context.site.delivered[reference.match.original]
        fallback = delivered.fallback
        if width:
            rendition = next((rung for rung in fallback if rung.width >= 2 * width), fallback[-1])
        else:
            natural = [rung for rung in fallback if rung.width == delivered.size.width]
            if not natural:
                why = "shown at its natural size, and no rendition has that size"
                self.context.leave(tag.token.start, reference.url, why)
                return None
            rendition = natural[0]
        return self._swap(tag, attribute, reference, rendition)

    def _swap(
        self, tag: ParsedTag, attribute: Attribute, reference: _OriginalReference, rendition: RenditionEntry
    ) -> OtherEdits | None:
        delivered = self.context.site.delivered[reference.match.original]
        if delivered.is_copy:
            return None
        if reference.prefix is None:
            why = "this page cannot reach the renditions; give their address"
            self.context.leave(tag.token.start, reference.url, why)
            return None
        if not reference.is_ours and not self._saves(delivered, rendition):
            self.context.leave(tag.token.start, reference.url, LIGHTER_ORIGINAL, concern=Concern.HARMLESS)
            return None
        url = path_url(rendition.path, reference.prefix)
        edits = self.context.tags.set_attributes(tag, {attribute.name: url})
        if not reference.is_ours:
            edits.append(Edit(attribute.end, attribute.end, self.context.tags.remembered(attribute)))
        return OtherEdits(reference.match.original, tuple(edits))

    def _link(self, tag: ParsedTag, attribute: Attribute, reference: _OriginalReference) -> OtherEdits | None:
        relations = set(self._value(tag, "rel").lower().split())
        if "preload" in relations and self._value(tag, "as").lower() == "image":
            self._preloads.append((tag, reference))
            return None
        delivered = self.context.site.delivered[reference.match.original]
        if relations & {"icon", "apple-touch-icon", "image_src"}:
            declared = self._value(tag, "type").lower()
            format_type = ImageFormat(delivered.fallback[-1].format).mime
            if declared and declared != format_type:
                why = f"it says {declared}, and its fallback is {format_type}"
                self.context.leave(tag.token.start, reference.url, why)
                return None
            if "image_src" in relations:
                return self._swap(tag, attribute, reference, _for_preview(delivered))
            return self._one_file(tag, attribute, reference, None)
        return None

    def _anchor(
        self, tag: ParsedTag, attribute: Attribute, reference: _OriginalReference
    ) -> OtherEdits | None:
        if self.options.links == "keep":
            if not reference.is_ours:
                why = "links to originals are kept; --links largest sends them to the largest rendition"
                self.context.leave(tag.token.start, reference.url, why, concern=Concern.HARMLESS)
            return None
        delivered = self.context.site.delivered[reference.match.original]
        return self._swap(tag, attribute, reference, delivered.fallback[-1])

    def _meta(self, tag: ParsedTag) -> OtherEdits | None:
        named = next((v for name in ("property", "name", "itemprop") if (v := self._value(tag, name))), "")
        content = tag.get("content")
        if content is None or tag.templated:
            return None
        detail = _PREVIEW_DETAILS.fullmatch(named)
        if detail and self._preview is not None:
            return self._preview_detail(tag, detail[1])
        if not _PREVIEWS.fullmatch(named):
            return None
        self._preview = None
        reference = self._find(tag, content)
        if reference is None:
            self._list_unknown_host(tag, content)
            return None
        delivered = self.context.site.delivered[reference.match.original]
        rendition = _for_preview(delivered)
        swapped = self._swap(tag, content, reference, rendition)
        if swapped is not None and named.startswith("og:"):
            self._preview = rendition
        return swapped

    def _list_unknown_host(self, tag: ParsedTag, content: Attribute) -> None:
        """List an address with a host that may be the site's own: nothing says where that is served."""
        url = self.context.tags.value(content)
        if self.context.find(url) is NoMatch.ELSEWHERE and isinstance(
            self.context.find(urlsplit(url).path), Match
        ):
            why = "it names a host; say with --base-url where the site is served, if it is this one"
            self.context.leave(tag.token.start, url, why)

    def _preview_detail(self, tag: ParsedTag, name: str) -> OtherEdits | None:
        """Let width, height and type of a preview say what its new file is."""
        preview = self._preview
        original = preview and self.context.site.original_of(preview.path)
        if preview is None or not original:
            return None
        value = {
            "width": str(preview.width),
            "height": str(preview.height),
            "type": ImageFormat(preview.format).mime,
        }[name]
        return OtherEdits(original, tuple(self.context.tags.set_attributes(tag, {"content": value})))

    def _preload_edits(self, tag: ParsedTag, values_to_set: dict[str, str], href: str) -> Iterator[Edit]:
        address = tag.get("href")
        if href and address:
            yield from self.context.tags.set_attributes(tag, {"href": href})
        yield from self.context.tags.set_attributes(tag, values_to_set)
        added = {name: value for name, value in values_to_set.items() if tag.get(name) is None}
        text = self.context.tags.written(added)
        if not tag.get(ORIGINAL) and address:
            text += self.context.tags.remembered(address)
        if address and not href:
            # A browser that does not know `imagesrcset` would fetch the file for nothing.
            yield Edit(address.start, address.end, text.strip())
        elif text:
            end = address.end if address else tag.attributes[-1].end
            yield Edit(end, end, text)


def _for_preview(delivered: Delivered) -> RenditionEntry:
    """Return the rendition for the preview of a page: the narrowest that is wide enough, in the fallback format."""
    fallback = delivered.fallback
    return next((rung for rung in fallback if rung.width >= _PREVIEW_WIDTH), fallback[-1])


def is_json(text: str) -> bool:
    """Whether a text is JSON; what a template makes often is not."""
    try:
        json.loads(text)
    except ValueError:
        return False
    return True

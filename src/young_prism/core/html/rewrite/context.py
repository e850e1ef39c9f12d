"""What all parts of the rewriting of one page share: the page, its site, and the list of what is left alone."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import NamedTuple

from young_prism.core.html.rewrite.changes import (
    Concern,
    Mode,
    ReferenceChange,
    SkippedReference,
    WrittenSize,
)
from young_prism.core.html.rewrite.document import Document
from young_prism.core.html.rewrite.image_style import ImageStyle
from young_prism.core.html.rewrite.site import BaseAddress, Match, NoMatch, SiteIndex
from young_prism.core.html.rewrite.tags import ParsedTag, TagEditor
from young_prism.core.html.rewrite.tokens import Token
from young_prism.core.markup.delivered import Delivered
from young_prism.core.markup.picture import Element
from young_prism.core.types import Size

_SAME_SHAPE = 0.02


@dataclass(slots=True)
class OpenPicture:
    """A `picture` that is open: its tag and the sources so far."""

    token: Token
    sources: list[ParsedTag] = field(default_factory=list)


@dataclass(slots=True)
class PageContext:
    """One page while it is rewritten.

    Attributes:
        document: Its text.
        page: Its path below the site.
        site: The site and its renditions.
        base: Where its relative addresses start; a `base` element changes it.
        tags: Reads and edits its tags.
        left: What is left alone, or deserves a look.
        styles: The styles that images have by class.
        changes: What would change.
        seen: Counts equal changes.
        sizes: The sizes that images get.
        is_opted_out: Whether the part of the page that is being read asks to be left alone.
    """

    document: Document
    page: str
    site: SiteIndex
    base: BaseAddress
    tags: TagEditor
    left: list[SkippedReference] = field(default_factory=list)
    styles: set[str] = field(default_factory=set)
    changes: list[ReferenceChange] = field(default_factory=list)
    seen: dict[str, int] = field(default_factory=dict)
    is_opted_out: bool = False
    sizes: list[WrittenSize] = field(default_factory=list)

    def find(self, url: str) -> Match | NoMatch:
        """Return the original that an address of the page leads to."""
        return self.site.find(url, self.base)

    def is_rendition(self, url: str) -> bool:
        """Whether an address of the page leads to a rendition, or to what was one."""
        return self.site.is_rendition(url, self.base)

    def leave(self, at: int, url: str, why: str, *, concern: Concern = Concern.BY_HAND) -> None:
        """List something for the person who runs the rewriting.

        Args:
            at: The place in the text.
            url: The address, or the selector.
            why: The reason.
            concern: What that means for the person.
        """
        self.left.append(SkippedReference(self.document.line(at), url[:200], why, concern))

    def same_shape(self, first_path: str, other_path: str) -> bool:
        """Whether two originals have the same aspect ratio, within two percent."""
        size, other_size = (self.site.delivered[path].size for path in (first_path, other_path))
        across, down = size.width * other_size.height, size.height * other_size.width
        return abs(across - down) <= _SAME_SHAPE * max(across, down)


class ImageReplacement(NamedTuple):
    """An original as a page is to show it.

    Attributes:
        delivered: The original.
        element: Its markup.
        match: How the page leads to it.
        is_ours: Whether an earlier rewriting put it there.
        style: What styles declare for the image.
        natural_size: The size that is natural for the place; None where the page's own `sizes` say it.
        mode: How much is changed.
    """

    delivered: Delivered
    element: Element
    match: Match
    is_ours: bool
    style: ImageStyle
    natural_size: Size | None
    mode: Mode

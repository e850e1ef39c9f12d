"""From a manifest's lines to markup."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass, replace

from young_prism.core.manifest.model import OriginalEntry, RenditionEntry
from young_prism.core.markup.media import Screen
from young_prism.core.markup.picture import (
    NO_TEXT,
    ArtDirection,
    Element,
    MarkupContext,
    MarkupRendition,
    art_direction_of,
    compose,
    html,
    snippet_markup,
)
from young_prism.core.markup.selection import slot_width
from young_prism.core.naming.rule import WHOLE_FACET
from young_prism.core.plan.resolve import effective_recipe
from young_prism.core.recipe.formats import browsers_without
from young_prism.core.recipe.model import Markup, Recipe
from young_prism.core.types import ImageFormat, Size

WIDEST_VIEWPORT = 1920
"""CSS pixels of the widest viewport that a picture is chosen for where the layout sets no limit."""
_NO_SIZE = Size(0, 0)


@dataclass(frozen=True, slots=True)
class Delivered:
    """One original's delivered renditions, in the order of the plan, with how its recipe shows them."""

    path: str
    renditions: tuple[RenditionEntry, ...]
    markup: Markup
    art: tuple[ArtDirection, ...] = ()
    transparent: bool = False
    size: Size = _NO_SIZE
    """Of the original, upright, in pixels; needed where pages are rewritten."""
    original_bytes: int = 0
    """Of the original; 0 where that is not known."""

    @classmethod
    def from_entry(cls, entry: OriginalEntry, recipe: Recipe) -> Delivered:
        """Return an original of a manifest, shown as the recipe for it says."""
        resolved = effective_recipe(entry.path, recipe)
        size = Size(entry.width, entry.height)
        return cls(
            entry.path,
            entry.renditions,
            snippet_markup(resolved),
            art_direction_of(resolved),
            entry.transparent,
            size,
            entry.bytes,
        )

    def with_markup(self, **changes: object) -> Delivered:
        """Return the same with some of the markup's settings changed; None leaves one as it is."""
        changed = {key: value for key, value in changes.items() if value is not None}
        return replace(self, markup=self.markup.model_copy(update=changed))

    def of_facet(self, facet: str) -> Delivered:
        """Return one cut of it as if that were the picture; of the whole picture what there is, with its art direction."""
        if facet == WHOLE_FACET:
            return self
        renditions = tuple(
            rendition.model_copy(update={"facet": None})
            for rendition in self.renditions
            if rendition.facet == facet
        )
        return replace(self, renditions=renditions, art=())

    @property
    def whole(self) -> tuple[RenditionEntry, ...]:
        """The renditions of the whole picture."""
        return tuple(rendition for rendition in self.renditions if not rendition.facet)

    @property
    def fallback(self) -> list[RenditionEntry]:
        """The rungs of the whole picture that any browser can show, ascending."""
        last = self.whole[-1].format
        return sorted(
            (rendition for rendition in self.whole if rendition.format == last),
            key=lambda rendition: rendition.width,
        )

    @property
    def default_rendition(self) -> RenditionEntry:
        """The one to show where there can be but one: as wide as the layout shows it on a large screen."""
        width = slot_width(self.markup.sizes, Screen(WIDEST_VIEWPORT))
        return next((rendition for rendition in self.fallback if rendition.width >= width), self.fallback[-1])

    @property
    def keeps_shape(self) -> bool:
        """Whether the whole picture has the original's shape: a person may have turned or cropped it."""
        width, height = self.size
        most = max(width, height)  # a pixel of rounding on one side
        return all(abs(r.width * height - r.height * width) <= most for r in self.whole)

    @property
    def is_copy(self) -> bool:
        """Whether there is one file alone, and that as the original was: a drawing, or what was the smallest already."""
        return len(self.renditions) == 1 and self.renditions[0].outcome == "kept"

    @property
    def candidates(self) -> list[MarkupRendition]:
        """The renditions as markup sees them."""
        return candidates(self.renditions)

    @property
    def placeholder(self) -> str:
        """The placeholder until it is loaded; a transparent picture has none, it would show through."""
        if self.transparent:
            return ""
        return next((r.placeholder for r in self.renditions if r.placeholder and not r.facet), None) or ""

    def element(self, text: MarkupContext = NO_TEXT) -> Element:
        """Return the picture as data. Raises `ValueError` without a rendition of the whole picture."""
        rungs = self.candidates
        if len(rungs) == 1 and rungs[0].format in (ImageFormat.SVG, ImageFormat.GIF):
            return compose(rungs, self.markup, text=text)
        return compose(rungs, self.markup, text=text, art=self.art, placeholder=self.placeholder)

    def html(self, text: MarkupContext = NO_TEXT) -> str:
        """Return the markup ready to paste; empty without a rendition of the whole picture."""
        if not self.whole:
            return ""
        return html(self.element(text), text.caption) + self._fallback_note

    @property
    def _fallback_note(self) -> str:
        """A comment below the markup that names the browsers that show nothing; empty where there is a fallback."""
        browsers = browsers_without(self.fallback[0].format)
        return f"\n<!-- No fallback: these show nothing: {browsers}. -->" if browsers else ""


def candidates(renditions: Iterable[RenditionEntry]) -> list[MarkupRendition]:
    """Return the renditions that markup offers, as it sees them."""
    return [
        MarkupRendition(r.path, ImageFormat(r.format), Size(r.width, r.height), r.facet or WHOLE_FACET)
        for r in offered(renditions)
    ]


def offered(renditions: Iterable[RenditionEntry]) -> list[RenditionEntry]:
    """Return the renditions that are worth offering to a browser, in their order.

    A rung that weighs no less than a larger one of the same facet and format is left out: a phone would fetch more bytes for
    fewer pixels. It happens where a screenshot is reduced, since blurred edges are harder to compress than sharp ones.
    """
    delivered = list(renditions)
    lightest: dict[tuple[str | None, str], int] = {}
    paths = set()
    for rendition in sorted(delivered, key=lambda rendition: -rendition.width):
        ladder = (rendition.facet, rendition.format)
        if ladder not in lightest or rendition.bytes < lightest[ladder]:
            lightest[ladder] = rendition.bytes
            paths.add(rendition.path)
    return [rendition for rendition in delivered if rendition.path in paths]


def all_delivered(originals: Sequence[OriginalEntry], recipe: Recipe) -> dict[str, Delivered]:
    """Return the originals of a manifest that have a rendition of the whole picture, by path."""
    return {
        entry.path: Delivered.from_entry(entry, recipe)
        for entry in originals
        if any(not rendition.facet for rendition in entry.renditions)
    }

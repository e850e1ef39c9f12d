"""How pages are to be rewritten: as a whole, and place by place."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

from young_prism.core.html.rewrite.changes import Mode
from young_prism.core.plan.resolve import matches
from young_prism.core.project import LinksToOriginals, PlaceChoice

BY_CHOICE = "the project file excludes it"
"""Why a place is left alone for which there is such a choice."""


@dataclass(frozen=True, slots=True)
class RewriteOptions:
    """How pages are to be rewritten.

    Attributes:
        mode: How much is changed.
        new_sizes: Whether the recipe's `sizes` are used also where a page has its own.
        hero: Whether the first large picture of a page is loaded at once.
        structural: What becomes of an image that a selector hits by its parent or place, which a `picture` would change: it gets a
            `srcset` in its fallback format, or is left alone.
        links: What becomes of links to originals.
        styles: Whether what an image needs of style stands in its `style` attribute, or in a class of a stylesheet, as a
            strict policy asks (Content Security Policy 3, `style-src`).
        choices: Choices for some places; of several that match the last one decides.
    """

    mode: Mode = Mode.PICTURE
    new_sizes: bool = False
    hero: bool = True
    structural: Literal["srcset", "leave"] = "srcset"
    links: LinksToOriginals = "keep"
    styles: Literal["inline", "class"] = "inline"
    choices: tuple[PlaceChoice, ...] = ()

    def mode_of(self, page: str, original: str) -> Mode | None:
        """Return how much is changed where a page shows an original; None for nothing.

        Args:
            page: The path of the page or stylesheet below the site.
            original: The path of the original below its source.
        """
        for choice in reversed(self.choices):
            if matches(choice.page, page) and matches(choice.original, original):
                return None if choice.mode == "leave" else Mode(choice.mode)
        return self.mode

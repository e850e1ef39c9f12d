"""Files of an original that have no rungs: copies, squeezed files, drawings, animations."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

from young_prism.core.images.facts import Facts
from young_prism.core.naming.collisions import casefold_key
from young_prism.core.plan.keys import rendition_key, settings_digest
from young_prism.core.plan.model import EncoderSettings, PlannedRendition, WatermarkFile
from young_prism.core.plan.resolve import has_watermark
from young_prism.core.recipe.finishing import Finishing
from young_prism.core.recipe.formats import Squeeze
from young_prism.core.recipe.model import Recipe
from young_prism.core.types import ImageFormat, Size

PathOf = Callable[[str, ImageFormat, EncoderSettings | None], str]
"""Returns the path of a file by the name rule: what follows the stem, the format, and the settings."""


@dataclass(frozen=True, slots=True)
class UnsizedFiles:
    """Plans files of one original that have no rungs.

    Attributes:
        original: The original's path.
        facts: Its facts.
        recipe: The recipe for it.
        mark: The recipe's watermark; None for none.
        path_of: Names a file by the name rule.
    """

    original: str
    facts: Facts
    recipe: Recipe
    mark: WatermarkFile | None
    path_of: PathOf

    def path(self, fmt: ImageFormat, settings: EncoderSettings | None = None, suffix: str = "") -> str:
        """Return the path of a file; the suffix follows the stem."""
        return self.path_of(suffix, fmt, settings)

    def planned(
        self,
        path: str,
        fmt: ImageFormat,
        size: Size,
        settings: EncoderSettings | None,
        reason: str,
        *,
        facet: str = "",
    ) -> PlannedRendition:
        """Plan a file; of the finishing only metadata concern it, and only where it is squeezed.

        `facet` is that of an animation, whose frames may wear the watermark.
        """
        worn = self.worn_by(facet, size, fmt) if facet else None
        finishing = Finishing(watermark=self.recipe.finishing.watermark if worn else None)
        if isinstance(settings, Squeeze):
            finishing = Finishing(metadata=self.recipe.finishing.metadata)
        key = rendition_key(self.facts.sha256, size, settings_digest(fmt, settings, finishing, worn))
        return PlannedRendition(path, fmt, size, settings, key, reason)

    def copy(self, reason: str) -> list[PlannedRendition]:
        """Plan a copy as it is; none where it would lie on the original itself."""
        path = self.path(self.facts.format)
        if self.is_original(path):
            return []
        return [self.planned(path, self.facts.format, self.facts.size, None, f"{reason}: copied as it is")]

    def is_original(self, path: str) -> bool:
        """Whether a file would lie on the original itself."""
        return self.recipe.names.into_source and casefold_key(path) == casefold_key(self.original)

    @property
    def is_in_place(self) -> bool:
        """Whether renditions take the names of originals, which are backed up."""
        return self.recipe.names.layout == "in-place"

    def worn_by(self, facet: str, size: Size, fmt: ImageFormat) -> WatermarkFile | None:
        """Return the watermark of a rendition; None for none."""
        return self.mark if has_watermark(self.recipe.finishing, facet, size, fmt) else None

"""The plan as data: the dry run prints it, the page shows it, the engine executes it, tests compare it."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Any, NamedTuple

from young_prism.core.errors import YoungPrismError
from young_prism.core.naming.rule import WHOLE_FACET
from young_prism.core.originals.facts import Facts
from young_prism.core.plan.cuts import Cut
from young_prism.core.recipe.finishing import Finishing
from young_prism.core.recipe.formats import Avif, Jpeg, Png, Squeeze, VectorFormats, Webp
from young_prism.core.recipe.model import Recipe
from young_prism.core.values import ImageFormat, Size

type_settings = Avif | Webp | Jpeg | Png | Squeeze | VectorFormats


class PlannedRendition(NamedTuple):
    """One output file to be: where, what, and the key that tells whether it is made already.

    `settings` is None for a file that is copied as it is. `cut` is None for the whole picture. With `placeholder` what
    stands in until the picture is loaded is worked out beside it. A named tuple: a plan has a hundred thousand of them.
    """

    path: str
    format: ImageFormat
    size: Size
    settings: type_settings | None
    key: str
    reason: str
    facet: str = WHOLE_FACET
    cut: Cut | None = None
    placeholder: bool = False

    @property
    def work(self) -> float:
        """Rough effort in arbitrary units, for ordering and for progress: encoders dominate."""
        megapixels = self.size.pixels / 1e6
        return 0.002 + megapixels * _EFFORT.get(self.format, 0.0)


_EFFORT = {ImageFormat.AVIF: 1.0, ImageFormat.WEBP: 0.25, ImageFormat.PNG: 0.5, ImageFormat.JPEG: 0.15}
"""Seconds a megapixel, about, at the default efforts; only the ratios matter."""


@dataclass(frozen=True, slots=True)
class Mark:
    """A watermark's file: its bytes, and their hash, which is part of the keys of what wears it."""

    data: bytes
    sha256: str


NO_MARKS: Mapping[str, Mark] = {}


@dataclass(frozen=True, slots=True, kw_only=True)
class PlannedOriginal:
    """One original with all its renditions, how they are finished, and remarks about it (a collision solved, say)."""

    path: str
    facts: Facts
    renditions: tuple[PlannedRendition, ...]
    remarks: tuple[str, ...] = ()
    finishing: Finishing = field(default_factory=Finishing)
    mark: Mark | None = None
    renamed: bool = False
    """Another original would have given it the same names."""

    @property
    def work(self) -> float:
        """Rough effort for the whole original, its decoding included."""
        return sum(rendition.work for rendition in self.renditions) + self.facts.stored.pixels / 1e6 * 0.02


@dataclass(frozen=True, slots=True, kw_only=True)
class LeftOut:
    """Something in the source that gets no renditions: with what happened and what to do."""

    path: str
    error: str
    remedy: str
    failed: bool

    @staticmethod
    def because(path: str, error: YoungPrismError, *, failed: bool = True) -> LeftOut:
        """Make one from an error."""
        return LeftOut(path=path, error=error.what, remedy=error.remedy, failed=failed)

    def as_dict(self) -> dict[str, str]:
        """Return the form that `failures` has in JSON output."""
        return {"original": self.path, "error": self.error, "remedy": self.remedy}


@dataclass(frozen=True, slots=True, kw_only=True)
class Plan:
    """What a run would do, in the order of paths. Same originals, same recipe: the same plan."""

    recipe: Recipe
    originals: tuple[PlannedOriginal, ...]
    left_out: tuple[LeftOut, ...] = field(default=())

    @property
    def renditions(self) -> int:
        """Number of renditions in all."""
        return sum(len(original.renditions) for original in self.originals)

    @property
    def warnings(self) -> list[tuple[str, str]]:
        """Pairs of path and remark."""
        return [(original.path, remark) for original in self.originals for remark in original.remarks]


def settings_dict(settings: type_settings | None) -> dict[str, Any]:
    """Return encoder settings as plain data, for keys and manifests."""
    return settings.model_dump(mode="json", exclude_none=True) if settings else {"copy": True}

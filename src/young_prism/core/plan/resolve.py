"""What of a recipe holds for one original: which override, which formats, whether a rendition wears the watermark."""

from __future__ import annotations

from functools import lru_cache

from young_prism.core.images.crops import Crop
from young_prism.core.images.facts import Facts
from young_prism.core.naming.rule import WHOLE_FACET
from young_prism.core.plan.model import POSTER, VIDEO
from young_prism.core.recipe.codecs import Jxl
from young_prism.core.recipe.finishing import Finishing
from young_prism.core.recipe.formats import Formats, FormatSet
from young_prism.core.recipe.model import Override, Recipe
from young_prism.core.selection.patterns import PatternSet
from young_prism.core.types import ImageFormat, Kind, Size


def resolve_recipe(path: str, recipe: Recipe) -> Recipe | None:
    """Return the recipe with the override that concerns an original, None where that leaves it out."""
    override = next(
        (override for override in reversed(recipe.overrides) if matches(override.match, path)), None
    )
    if override is None:
        return recipe
    return None if override.leave_out else _overridden(recipe, override)


def effective_recipe(path: str, recipe: Recipe) -> Recipe:
    """Return the recipe with the override that concerns an original; the recipe itself where that leaves it out."""
    return resolve_recipe(path, recipe) or recipe


def matches(pattern: str, path: str) -> bool:
    """Whether a pattern of a recipe concerns an original."""
    return _parsed(pattern).matches(path)


@lru_cache(maxsize=256)
def _parsed(pattern: str) -> PatternSet:
    return PatternSet([pattern])


@lru_cache(maxsize=256)
def _overridden(recipe: Recipe, override: Override) -> Recipe:
    changes = {
        "ladder": override.ladder,
        "formats": override.formats,
        "finishing": override.finishing,
        "facets": override.facets,
    }
    return recipe.model_copy(update={name: part for name, part in changes.items() if part is not None})


def formats_for(facts: Facts, recipe: Recipe) -> FormatSet:
    """Return the formats of the recipe for this kind of picture, in the recipe's profile."""
    return recipe.formats.for_kind(format_key(facts, recipe.formats))


def format_key(facts: Facts, formats: Formats) -> str:
    """Return the key below `formats` that decides for a still picture: that of its type, or else that of its kind."""
    has_type = getattr(formats.by_type, facts.format.value, None) is not None
    return f"by_type.{facts.format.value}" if has_type else kind_key(facts)


def kind_key(facts: Facts) -> str:
    """Return the key below `formats` of the kind of a still picture."""
    kind = "graphic" if facts.kind is Kind.GRAPHIC else "photo"
    return f"{kind}_transparent" if facts.transparent else kind


def packs_jpeg(
    facts: Facts, finishing: Finishing, settings: object, *, size: Size, cut: Crop | None, facet: str
) -> bool:
    """Return whether a rendition is to be the JPEG original's own data, packed into JPEG XL without loss.

    Only for the whole picture at its own size, upright, in sRGB, and without a watermark: its pixels are the same then.

    Args:
        facts: The original's facts.
        finishing: The recipe's finishing.
        settings: The settings of the rendition's format.
        size: The size of the rendition, in pixels.
        cut: The crop; None for the whole picture.
        facet: The name of the crop.
    """
    wants = isinstance(settings, Jxl) and settings.from_jpeg and facts.format is ImageFormat.JPEG
    same_pixels = size == facts.size and cut is None and facts.orientation == 1
    return wants and same_pixels and facts.srgb and not has_watermark(finishing, facet, size, ImageFormat.JXL)


def has_watermark(finishing: Finishing, facet: str, size: Size, fmt: ImageFormat | None) -> bool:
    """Whether the recipe puts its watermark on a rendition of this facet, size and format; None for one that may wear it."""
    mark = finishing.watermark
    if mark is None or size.width < mark.min_width or not (fmt is None or mark.is_on(fmt)):
        return False
    return not mark.facets or (WHOLE_FACET if facet in (POSTER, VIDEO) else facet) in mark.facets

"""From an original to the pixels that are encoded: the same for a run and for a proof."""

from __future__ import annotations

from dataclasses import dataclass, field

from young_prism.core.errors import DamagedError
from young_prism.core.metadata.embed import (
    NO_EMBEDDED_METADATA,
    EmbeddedMetadata,
    metadata_of,
    with_metadata,
)
from young_prism.core.pixels.readback import array_of
from young_prism.core.pixels.shape import largest_rung, sharpened, smaller_rung, without_metadata
from young_prism.core.plan.model import EncoderSettings, PlannedOriginal
from young_prism.core.plan.resolve import has_watermark
from young_prism.core.recipe.codecs import RASTER_SETTINGS, Jpeg
from young_prism.core.render.watermark import in_space, with_watermark
from young_prism.core.score.padding import PaddedReference
from young_prism.core.types import ImageFormat, Size
from young_prism.core.vips import pyvips
from young_prism.core.vips_image import VipsImage
from young_prism.messages.output import JPEG_NEEDS_MATTE


def largest_of(data: bytes, original: PlannedOriginal, facet: str) -> VipsImage:
    """Decode an original once for a facet, at its largest rung, from which the others are reduced.

    Whether that rung is wanted itself or not: the same key, the same bytes. Raises `DamagedError`.
    """
    finishing = original.finishing
    renditions = [
        rendition
        for rendition in original.renditions
        if rendition.facet == facet and isinstance(rendition.settings, RASTER_SETTINGS)
    ]
    return largest_rung(
        data,
        original.facts,
        max(rendition.size for rendition in renditions),
        cut=renditions[0].cut,
        kernel=finishing.kernel,
        keep_gamut=finishing.colour != "srgb",
    )


def reduced(
    largest: VipsImage, original: PlannedOriginal, size: Size, *, sharpen: bool | None = None
) -> VipsImage:
    """Return the pixels of one rung, sharpened as the recipe says where nothing else is said."""
    finishing = original.finishing
    pixels = smaller_rung(largest, size, finishing.kernel)
    should_sharpen = finishing.sharpen == "mild" if sharpen is None else sharpen
    return sharpened(pixels) if should_sharpen and size != original.facts.size else pixels


@dataclass(slots=True)
class RungPixels:
    """One rung as every format gets it: its pixels, and their side of the score once one asks for it.

    `plain` are the pixels before any watermark, `grey` says that one band is enough for them.
    """

    plain: VipsImage
    pixels: VipsImage
    marked: bool
    grey: bool
    _ready: dict[tuple[bool, str | None], VipsImage] = field(default_factory=dict, init=False)
    _framed: dict[tuple[bool, str | None], PaddedReference] = field(default_factory=dict, init=False)

    def ready_for(self, settings: EncoderSettings | None) -> VipsImage:
        """Return the pixels as an encoder takes them: on the matte where its format has no transparency, in one band if grey.

        Raises `DamagedError` where a matte is needed and none is named.
        """
        key = self._key(settings)
        if key not in self._ready:
            grey, matte = key
            pixels = _on_matte(self.pixels, matte) if matte else self.pixels
            self._ready[key] = pixels.colourspace("b-w") if grey else pixels
        return self._ready[key]

    def framed(self, settings: EncoderSettings | None) -> PaddedReference:
        """Return the score's side of what that encoder takes."""
        key = self._key(settings)
        if key not in self._framed:
            self._framed[key] = PaddedReference(array_of(self.ready_for(settings)))
        return self._framed[key]

    def _key(self, settings: EncoderSettings | None) -> tuple[bool, str | None]:
        if not isinstance(settings, Jpeg):
            return (False, None)
        if not self.pixels.hasalpha():
            return (self.grey, None)
        if settings.matte is None:
            raise DamagedError.of(JPEG_NEEDS_MATTE)
        return (False, settings.matte)


def make_rung(
    largest: VipsImage,
    original: PlannedOriginal,
    facet: str,
    size: Size,
    *,
    fmt: ImageFormat | None = None,
    sharpen: bool | None = None,
    carried: EmbeddedMetadata = NO_EMBEDDED_METADATA,
) -> RungPixels:
    """Return one rung with its watermark, and with the metadata that go along.

    `fmt` is the format that it is for, where a watermark is on some formats only; None stands for those that wear it.
    """
    plain = reduced(largest, original, size, sharpen=sharpen)
    watermark, mark = original.finishing.watermark, original.mark
    pixels, wears = plain, False
    if mark is not None and watermark is not None and has_watermark(original.finishing, facet, size, fmt):
        pixels, wears = with_watermark(plain, mark.data, watermark), True
    pixels = with_metadata(pixels, carried._replace(profile=metadata_of(pixels).profile))
    is_coloured = wears or _has_coloured_box(original, facet)
    return RungPixels(plain, pixels, wears, original.facts.grey and not is_coloured)


def _has_coloured_box(original: PlannedOriginal, facet: str) -> bool:
    """Whether a facet is padded with a colour, which a grey picture would lose."""
    cut = next((rendition.cut for rendition in original.renditions if rendition.facet == facet), None)
    return cut is not None and cut.pad.startswith("#")


def _on_matte(pixels: VipsImage, matte: str) -> VipsImage:
    carried = metadata_of(pixels)
    colour = [int(matte[at : at + 2], 16) for at in (1, 3, 5)]
    pixel = pyvips.Image.black(1, 1, bands=3).copy(interpretation="srgb") + colour
    background = in_space(pixel.cast("uchar").copy(interpretation="srgb"), carried.profile).getpoint(0, 0)
    return with_metadata(without_metadata(pixels).flatten(background=background).copy_memory(), carried)

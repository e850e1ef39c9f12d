"""Encode the pixels of a rung by the recipe's settings."""

from __future__ import annotations

from young_prism.core.encode import avif, jpeg, jxl, png, webp
from young_prism.core.errors import DamagedError
from young_prism.core.plan.model import EncoderSettings, is_searched
from young_prism.core.recipe.codecs import Avif, Jpeg, Jxl, Lossy, Png, Webp, lossy_only
from young_prism.core.render.byte_limit import within_bytes
from young_prism.core.render.quality_search import (
    LadderSearch,
    format_of,
    scored,
)
from young_prism.core.render.rungs import RungPixels
from young_prism.core.types import Size
from young_prism.core.vips import pyvips
from young_prism.core.vips_image import VipsImage
from young_prism.messages.output import cannot_encode, no_encoder


def encode(
    rung: RungPixels, size: Size, settings: EncoderSettings | None, ladder: LadderSearch
) -> tuple[bytes, str]:
    """Encode a rung, and say what there is to say of it. Raises `DamagedError`."""
    data, explanation = _encode_unlimited(rung, size, settings, ladder)
    limit = byte_limit(settings)
    if limit is None or len(data) <= limit:
        return data, explanation
    return _limited(rung, settings, limit) or (data, explanation)


def byte_limit(settings: EncoderSettings | None) -> int | None:
    """Return the most bytes that settings allow a file; None for any number."""
    return settings.max_bytes if isinstance(settings, Lossy | Png) else None


def _limited(rung: RungPixels, settings: EncoderSettings | None, limit: int) -> tuple[bytes, str] | None:
    """Return the best file within a byte limit, and what there is to say of it; None where there is none."""
    if isinstance(settings, Png):
        few = png.encode_palette(rung.pixels, settings)
        text = f"a palette, score {scored(rung, settings, few):.1f}, for at most {limit:,} bytes"
        return (few, text) if len(few) <= limit else None
    assert isinstance(settings, Lossy)  # noqa: S101  (nothing else has a limit)
    fixed = settings.model_copy(update={"target": None, "band": None, **lossy_only(settings)})
    pixels = rung.ready_for(settings)
    best = within_bytes(
        lambda quality: encoded(pixels, fixed.model_copy(update={"quality": quality})),
        limit,
        lowest=settings.lowest or 1,
        highest=settings.highest or 100,
    )
    if best is None:
        return None
    score = scored(rung, settings, best.data)
    return best.data, f"quality {best.quality}, score {score:.1f}, for at most {limit:,} bytes"


def _encode_unlimited(
    rung: RungPixels, size: Size, settings: EncoderSettings | None, ladder: LadderSearch
) -> tuple[bytes, str]:
    if is_searched(settings):
        assert isinstance(settings, Lossy)  # noqa: S101  (nothing else is)
        result = ladder.search(settings, size)
        return result.data, result.explanation
    if isinstance(settings, Png) and settings.palette is not None:
        return _with_palette(rung, settings, settings.palette)
    return encoded(rung.ready_for(settings), settings), ""


def _with_palette(rung: RungPixels, settings: Png, least: float) -> tuple[bytes, str]:
    """Return a PNG of at most 256 colours where that looks enough like the rung and is smaller."""
    exact = encoded(rung.pixels, settings)
    few = png.encode_palette(rung.pixels, settings)
    score = scored(rung, settings, few)
    if len(few) >= len(exact):
        return exact, ""
    if score < least:
        return exact, f"all its colours: a palette scores {score:.1f}, under {least:g}"
    return few, f"a palette, score {score:.1f}"


def encoded(pixels: VipsImage, settings: EncoderSettings | None, *, is_proxy: bool = False) -> bytes:
    """Return the file of pixels made ready, by settings, their target and palette aside.

    Args:
        pixels: The pixels, as `RungPixels.ready_for` returns them.
        settings: The settings.
        is_proxy: Encode AVIF at its encoder's highest speed, for a search.

    Raises:
        DamagedError: If the encoder fails.
    """
    try:
        match settings:
            case Avif():
                return avif.encode(pixels, settings, is_proxy=is_proxy)
            case Jxl():
                return jxl.encode(pixels, settings)
            case Webp():
                return webp.encode(pixels, settings)
            case Jpeg():
                return jpeg.encode(pixels, settings)
            case Png():
                return png.encode(pixels, settings)
    except (pyvips.Error, OSError, RuntimeError) as error:
        raise DamagedError.of(
            cannot_encode(label=format_of(settings).label, reason=str(error).splitlines()[-1].strip())
        ) from error
    raise DamagedError.of(no_encoder(settings))

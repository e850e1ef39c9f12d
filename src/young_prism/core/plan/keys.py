"""The key of a rendition: it changes with everything that its pixels depend on, and with nothing else.

Content, size, format and settings, the encoder's version, the cut, and the finishing where that is not the usual one.
The name is no part of it, nor is the original's place.
"""

from __future__ import annotations

import hashlib
import json
from functools import lru_cache
from importlib.metadata import version

from young_prism.core.encode.contract import AvifEncoder, avif_preset, encoder_version
from young_prism.core.images.crops import Crop
from young_prism.core.plan.model import EncoderSettings, WatermarkFile, is_searched, settings_dict
from young_prism.core.recipe.codecs import Avif, Lossy
from young_prism.core.recipe.finishing import Finishing
from young_prism.core.recipe.formats import VectorFormats
from young_prism.core.svg import MINIFIER, SANITISER_VERSION
from young_prism.core.types import ImageFormat, Size

PIXELS_VERSION = 1
"""Part of every key: raise it when decoding, resizing or colour changes what comes out."""

_PLAIN = Finishing()
_SANITISER = f"sanitiser {SANITISER_VERSION}"
_SEARCH = "search 4"
"""Raised with every change of a search or of the score: it may end at another quality."""


def rendition_key(sha256: str, size: Size, rest: str) -> str:
    """Return the key of one rendition: content, size, and what `rest_of_key` or `cut_in_key` gave for all that is left.

    Put together rather than hashed once more: a large source has a hundred thousand keys, and a person who asks why
    something is made again sees which part differs.
    """
    return f"{sha256[:32]}-{size.width}x{size.height}-{rest}"


def add_crop(rest: str, cut: Crop) -> str:
    """Return the rest of a key of what is cut out of an original."""
    text = f"{rest}, {list(cut.size)}, {list(cut.focal) if cut.focal else 'found'}"
    return _digest(text if cut.is_simple else f"{text}, {cut.geometry.whole}, {cut.area}, {cut.pad}")


@lru_cache(maxsize=1024)
def add_sanitiser(rest: str) -> str:
    """Return the rest of a key of pixels that are drawn from a vector, which is sanitised first."""
    return _digest(f"{rest}, {_SANITISER}")


@lru_cache(maxsize=4096)
def add_parent_rung(rest: str, largest: Size) -> str:
    """Return the rest of a key of a rung that is reduced from the largest rung of its ladder, and so depends on it."""
    return _digest(f"{rest}, via {largest.width}x{largest.height}")


@lru_cache(maxsize=4096)
def add_search_chain(rest: str, smaller: tuple[Size, ...], marked: int) -> str:
    """Return the rest of a key of a rung whose quality is searched: the search begins where those for smaller rungs ended.

    `marked` is how many of these wear the watermark.
    """
    return _digest(f"{rest}, after {[list(size) for size in smaller]}, {marked}") if smaller else rest


def _digest(text: str) -> str:
    return hashlib.sha256(text.encode()).hexdigest()[:16]


@lru_cache(maxsize=1024)
def settings_digest(
    fmt: ImageFormat,
    settings: EncoderSettings | None,
    finishing: Finishing = _PLAIN,
    mark: WatermarkFile | None = None,
    *,
    placeholder: bool = False,
    encoder: AvifEncoder | None = None,
) -> str:
    """Return the part of a key that all originals share: format, settings, encoder, finishing.

    `mark` is the watermark of those that wear it. `encoder` is that of AVIF where it is another one than the settings alone
    lead to.
    """
    made_by = "copy"
    if isinstance(settings, Avif):
        made_by = encoder_version(fmt, encoder or avif_preset(settings).encoder)
    elif settings:
        made_by = encoder_version(fmt)
    if is_searched(settings):
        made_by += f", {_SEARCH}"
    if isinstance(settings, VectorFormats):
        made_by = f"{_SANITISER}, {MINIFIER} {version(MINIFIER)}" if settings.minify else _SANITISER
    described = json.dumps(settings_dict(settings), sort_keys=True)
    text = f'"{fmt.value}", {described}, "{made_by}", {PIXELS_VERSION}]'
    if settings is None:
        return _digest(text)
    for_pixels = {"placeholder", "placeholder_bytes", "watermark", "verify", "min_score"}
    for_pixels -= {"placeholder", "placeholder_bytes"} if placeholder else set()
    # What was delivered under a lower floor is not verified under a higher one: it is made again, though its bytes are the same.
    for_pixels -= {"min_score"} if isinstance(settings, Lossy) else set()
    plain = _PLAIN.model_dump()
    different = {
        name: value
        for name, value in finishing.model_dump(mode="json", exclude=for_pixels).items()
        if value != plain[name]
    }
    if mark and finishing.watermark:
        worn = finishing.watermark.model_dump(
            mode="json", exclude={"file", "text", "colour", "min_width", "facets", "formats"}
        )
        different["watermark"] = {**worn, "sha256": mark.sha256}
    return _digest(f"{text}, {json.dumps(different, sort_keys=True)}" if different else text)

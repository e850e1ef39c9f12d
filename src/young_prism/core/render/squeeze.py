"""Same format, fewer bytes: with the same pixels, proven by decoding both, or with a score that is reached.

Where neither is possible the original stays as it is.
"""

from __future__ import annotations

import hashlib
from contextlib import suppress
from typing import NamedTuple

import numpy as np

from young_prism.core.encode import jpeg, jxl, png
from young_prism.core.errors import DamagedError
from young_prism.core.images.facts import Facts
from young_prism.core.images.headers.contract import BytesView
from young_prism.core.inspection.inspect import read_header
from young_prism.core.metadata.embed import (
    EmbeddedMetadata,
    embed_in_jpeg,
    embed_in_png,
    with_metadata,
)
from young_prism.core.metadata.policy import (
    Policy,
    filter_metadata,
    orientation_exif,
)
from young_prism.core.pixels.decode import open_image
from young_prism.core.pixels.packed_jpeg import unpack_jpeg
from young_prism.core.pixels.readback import array_of, read_back
from young_prism.core.pixels.shape import without_metadata
from young_prism.core.recipe.codecs import Chroma, Jpeg, Png, Webp
from young_prism.core.recipe.formats import Squeeze
from young_prism.core.render.encoding import encoded
from young_prism.core.render.quality_search import search_quality
from young_prism.core.render.squeeze_gif import squeeze_gif
from young_prism.core.score.padding import PaddedReference
from young_prism.core.types import ImageFormat, Kind
from young_prism.core.vips import pyvips
from young_prism.core.vips_image import VipsImage
from young_prism.messages.output import CANNOT_PACK_JPEG, RESTORED_JPEG_DIFFERS


def squeeze(data: bytes, facts: Facts, settings: Squeeze, policy: Policy) -> tuple[bytes, str]:
    """Return the smaller file, or the original's own bytes, and what was done.

    The look of the picture depends on its profile and orientation too: they stay, whatever the rule for
    metadata.
    """
    if facts.format is ImageFormat.GIF:
        return squeeze_gif(data, settings.target)
    try:
        carried = _carried(data, facts, policy)
        smaller, reason = _lossless(data, facts, settings, carried)
    except Exception:  # noqa: BLE001  (the optimisers raise bare errors on odd files; then the original serves)
        return data, "cannot be squeezed; unchanged"
    if settings.target is None:
        return smaller, reason
    with suppress(DamagedError, pyvips.Error):  # then the lossless file serves
        lossy = _to_score(data, facts, settings.target, settings.level, carried)
        if lossy is not None and len(lossy.data) < len(smaller):
            smaller, reason = lossy.data, lossy.reason
    return smaller, "; ".join(filter(None, (reason, _hint(facts))))


def _hint(facts: Facts) -> str:
    """Return what would help a picture more than a squeeze; empty for nothing."""
    is_photo = facts.format is ImageFormat.PNG and facts.kind is Kind.PHOTO
    return "a photo in PNG; WebP or JPEG would be far smaller" if is_photo else ""


def _lossless(data: bytes, facts: Facts, settings: Squeeze, carried: EmbeddedMetadata) -> tuple[bytes, str]:
    """Return the smaller file with the same pixels, or the original's own bytes, and what was done."""
    if facts.format not in (ImageFormat.JPEG, ImageFormat.PNG):
        return data, "cannot be made smaller without loss"
    smaller = _smaller(data, facts.format, settings, carried)
    if len(smaller) >= len(data):
        return data, "already as small as possible"
    if not same_pixels(data, smaller, facts):
        return data, "squeezing would change its pixels; unchanged"
    return smaller, f"pixel for pixel the same, {len(data) - len(smaller):,} bytes fewer"


class _Squeezed(NamedTuple):
    """A smaller file that looks the same, and what was done."""

    data: bytes
    reason: str


def _to_score(
    data: bytes, facts: Facts, target: float, level: int, carried: EmbeddedMetadata
) -> _Squeezed | None:
    """Return the file of the fewest bytes that reaches a score against the original; None where there is none.

    The pixels are scored as they are stored; orientation and profile are kept as metadata.
    """
    if facts.cmyk or facts.frames > 1 or facts.bit_depth > 8:
        return None
    image = open_image(data, facts.format, max_pixels=max(1, facts.stored.pixels))
    pixels = without_metadata(image.colourspace("srgb").cast("uchar")).copy_memory()
    reference = PaddedReference(array_of(pixels))

    def score(file: bytes) -> float:
        return float(reference.score(read_back(file, facts.format)))

    if facts.format is ImageFormat.PNG:
        few = embed_in_png(png.encode_palette(pixels, Png(level=level)), carried)
        reached = score(few)
        return _Squeezed(few, f"a palette, score {reached:.1f}") if reached >= target else None
    if facts.format is ImageFormat.JPEG:
        chroma: Chroma = "4:4:4" if facts.subsampling == "4:4:4" else "4:2:0"
        settings: Jpeg | Webp = Jpeg(target=target, chroma=chroma)
    else:
        settings = Webp(target=target)
    marked = with_metadata(pixels, carried)
    result = search_quality(
        settings,
        lambda chosen, *, is_proxy=False: encoded(marked, chosen, is_proxy=is_proxy),
        score,
        original_bytes=len(data),
        transparent=pixels.hasalpha(),
    )
    return _Squeezed(result.data, result.explanation) if result.reached else None


def _carried(data: bytes, facts: Facts, policy: Policy) -> EmbeddedMetadata:
    """Return the metadata that a squeezed file keeps."""
    header = read_header(BytesView(data), facts.format)
    carried = filter_metadata(header, policy)._replace(profile=header.profile)
    if policy in ("all", "all-but-place") and facts.orientation != 1 and carried.exif:
        return carried._replace(exif=_turned(carried.exif, facts.orientation))
    if facts.orientation != 1:
        return carried._replace(exif=orientation_exif(facts.orientation))
    return carried


class PackedJpeg(NamedTuple):
    """A JPEG packed into JPEG XL without loss.

    Attributes:
        data: The JPEG XL file.
        proof: What was restored and compared, as a phrase.
    """

    data: bytes
    proof: str


def pack(data: bytes, facts: Facts, policy: Policy) -> PackedJpeg:
    """Pack a JPEG into JPEG XL, restore it, and compare it byte by byte.

    With the policy "all" that is the very file; otherwise its metadata are filtered first, and the proof is of that JPEG.

    Args:
        data: The JPEG.
        facts: Its facts.
        policy: The recipe's policy for metadata.

    Raises:
        DamagedError: If libjxl cannot pack it, or the restored JPEG differs.
    """
    source, name = data, "the original"
    try:
        if policy != "all":
            named = "no metadata" if policy == "none" else "the metadata that the recipe keeps"
            source = embed_in_jpeg(jpeg.squeeze(data), _carried(data, facts, policy))
            name = f"the JPEG with {named}"
        packed = jxl.pack_jpeg(source)
        restored = unpack_jpeg(packed)
    except (RuntimeError, ValueError, DamagedError) as error:  # bare errors of two libraries
        raise DamagedError.of(CANNOT_PACK_JPEG) from error
    if restored != source:
        raise DamagedError.of(RESTORED_JPEG_DIFFERS)
    digest = hashlib.sha256(source).hexdigest()
    proof = f"restored and compared with {name}: {len(source):,} bytes, sha256 {digest[:16]}…"
    return PackedJpeg(packed, proof)


def same_pixels(before: bytes, other_data: bytes, facts: Facts) -> bool:
    """Whether two files of one format decode to the same pixels, alpha and hidden colours included."""
    first, second = (
        open_image(data, facts.format, max_pixels=max(1, facts.stored.pixels))
        for data in (before, other_data)
    )
    if facts.format is ImageFormat.PNG:
        # A grey or a palette picture may be stored in other ways: what counts is what they are drawn as.
        first, second = _as_rgba(first), _as_rgba(second)
    return first.bands == second.bands and bool(np.array_equal(first.numpy(), second.numpy()))


def _as_rgba(image: VipsImage) -> VipsImage:
    deep = image.format == "ushort"
    image = image.colourspace("rgb16" if deep else "srgb")
    return image if image.hasalpha() else image.bandjoin(65535 if deep else 255)


def _smaller(data: bytes, fmt: ImageFormat, settings: Squeeze, carried: EmbeddedMetadata) -> bytes:
    if fmt is ImageFormat.JPEG:
        return embed_in_jpeg(jpeg.squeeze(data), carried)
    return embed_in_png(png.squeeze(data, settings.level, keep_look=True), carried)


def _turned(block: bytes, orientation: int) -> bytes:
    from PIL.Image import Exif

    exif = Exif()
    exif.load(block)
    exif.get_ifd(0x8769)
    exif.get_ifd(0x8825)
    exif[0x0112] = orientation
    return bytes(exif.tobytes()).removeprefix(b"Exif\0\0")

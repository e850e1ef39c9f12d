"""Two looks at an original: at its header, which costs next to nothing, and at its pixels, where a fact needs them.

The first says size, orientation, frames, colour, quality and metadata from the file's own structure, and is quick
enough for ten thousand files while somebody waits. The second reads all bytes and decodes them at the least cost that
tells the kind, the transparency really used, copies, and damage.
"""

from __future__ import annotations

import hashlib
import math
from collections.abc import Callable
from dataclasses import replace

import numpy as np
from numpy.typing import NDArray

from young_prism.core.errors import EmptyFileError, NotAnImageError
from young_prism.core.images.duplicates import fingerprint, upright
from young_prism.core.images.facts import Facts
from young_prism.core.images.headers import (
    gif,
    jpeg,
    png,
    svg,
    webp,
)
from young_prism.core.images.headers.colour import ProfileFacts, profile_facts
from young_prism.core.images.headers.contract import (
    BytesView,
    ByteView,
    Header,
    check_frames,
    check_pixels,
)
from young_prism.core.images.headers.metadata import read_metadata
from young_prism.core.images.sniff import (
    HEAD_BYTES,
    identify_non_image,
    sniff,
)
from young_prism.core.inspection import via_library as library
from young_prism.core.inspection.classification import classify
from young_prism.core.types import (
    MAX_ANALYSIS_PIXELS,
    MAX_ANIMATION_PIXELS,
    MAX_PIXELS,
    ImageFormat,
    Kind,
    Size,
)
from young_prism.core.vips_image import VipsImage
from young_prism.messages.originals import EMPTY_FILE, not_an_image, unknown_content

_INSPECTED_SIDE = 1000
"""A JPEG is judged at the smallest decoder shrink that leaves its longer side at least this long."""

_READERS: dict[ImageFormat, Callable[[ByteView], Header]] = {
    ImageFormat.JPEG: jpeg.read,
    ImageFormat.PNG: png.read,
    ImageFormat.GIF: gif.read,
    ImageFormat.WEBP: webp.read,
    ImageFormat.SVG: svg.read,
}

LIBRARY_FORMATS = frozenset({ImageFormat.AVIF, ImageFormat.JXL, ImageFormat.HEIC, ImageFormat.TIFF})
"""Formats whose headers foreign code reads."""


def inspect_bytes(data: bytes, *, max_pixels: int = MAX_PIXELS) -> Facts:
    """Return all facts of an original from its bytes: both looks in one.

    Raises `EmptyFileError`, `NotAnImageError`, `DamagedError` or `TooLargeError`, each with a remedy and
    without a file name, since bytes have none: the caller that read the file adds it.
    """
    return inspect_full(data, inspect_header(BytesView(data), max_pixels=max_pixels))


def inspect_header(view: ByteView, *, max_pixels: int = MAX_PIXELS) -> Facts:
    """Return the facts that a header tells, with `seen` false. Raises what `look` raises."""
    if not view.size:
        raise EmptyFileError.of(EMPTY_FILE)
    head = view.read(0, HEAD_BYTES)
    fmt = sniff(head)
    if fmt is None:
        raise _no_image(head)
    header = read_header(view, fmt)
    check_pixels(header.stored, max_pixels)
    check_frames(header.frames, header.stored, MAX_ANIMATION_PIXELS)
    return _facts(fmt, header, view.size)


def read_header(view: ByteView, fmt: ImageFormat) -> Header:
    """Return what the header of a file of this format says. Raises `DamagedError`."""
    reader = _READERS.get(fmt)
    header = reader(view) if reader else library.read(view, fmt)
    return header.with_bounded_metadata()


def _facts(fmt: ImageFormat, header: Header, size: int) -> Facts:
    metadata = read_metadata(exif=header.exif, xmp=header.xmp, iptc=header.iptc)
    orientation = header.orientation or metadata.orientation
    stored = header.stored
    # Values 5 to 8 swap the sides: CIPA DC-008, 4.6.4.
    turned = Size(stored.height, stored.width) if orientation >= 5 else stored
    profile = profile_facts(header.profile) if header.profile else ProfileFacts("", wide=False, srgb=True)
    kind, reason = Kind.UNKNOWN, "only its header has been read so far"
    if fmt is ImageFormat.SVG:
        kind, reason = Kind.VECTOR, "a drawing in SVG"
    elif header.frames > 1:
        kind = Kind.ANIMATION
    facts = Facts(
        format=fmt,
        size=turned,
        stored=stored,
        orientation=orientation,
        bytes=size,
        sha256="",
        frames=header.frames,
        kind=kind,
        reason=reason,
        transparent=header.alpha,
        grey=header.grey,
        profile=bool(header.profile),
        cmyk=header.cmyk,
        mean_colour="",
        alpha=header.alpha and fmt is not ImageFormat.SVG,
        duration_ms=header.duration_ms,
        bit_depth=header.bit_depth,
        profile_name=profile.name,
        srgb=profile.srgb and not header.cmyk,
        wide_gamut=profile.wide,
        subsampling=header.subsampling,
        jpeg_quality=header.quality,
        metadata=tuple(group.value for group in metadata.groups),
        place=metadata.position,
        layered=header.layered,
        loops=header.loops,
        colours=header.colours,
        taken=metadata.taken,
        seen=False,
    )
    return replace(facts, reason=facts.frames_label) if kind is Kind.ANIMATION else facts


def inspect_full(data: bytes, facts: Facts) -> Facts:
    """Return the facts with what only all bytes and the pixels tell. Raises `DamagedError` where they are not all there."""
    digest = hashlib.sha256(data).hexdigest()
    if facts.kind is Kind.VECTOR:
        return replace(facts, sha256=digest, mean_colour="#808080", seen=True)
    pixels, used, stored = _pixels(data, facts)
    if facts.kind is Kind.UNKNOWN:
        judged = classify(pixels)
        facts = replace(facts, kind=judged.kind, reason=judged.reason)
    if stored != facts.stored:
        # A GIF whose first frame is larger than its screen, say: what is decoded is what counts.
        facts = replace(facts, stored=stored, size=stored if facts.orientation < 5 else Size(*stored[::-1]))
    return replace(
        facts,
        sha256=digest,
        transparent=used,
        alpha=facts.alpha or used,
        mean_colour=_mean_colour(pixels),
        fingerprint=fingerprint(upright(pixels, facts.orientation)),
        seen=True,
    )


def _pixels(data: bytes, facts: Facts) -> tuple[NDArray[np.uint8], bool, Size]:
    """Decode for judging: an sRGB array of shape (height, width, 3), whether alpha is really used, and the stored size.

    The whole file is read, so that damage shows here, before anything is planned for it.
    """
    # libvips is loaded only where pixels are looked at: a first look at headers starts quicker without.
    from young_prism.core.pixels.decode import damaged, open_image
    from young_prism.core.pixels.shape import to_srgb
    from young_prism.core.vips import pyvips

    shrink = 1
    if facts.format is ImageFormat.JPEG:
        longest = max(facts.stored)
        shrink = next((s for s in (8, 4, 2) if longest >= _INSPECTED_SIDE * s), 1)
    limit = max(1, facts.stored.pixels) * 4  # the header was checked already; a decoder may round up
    try:
        image: VipsImage = open_image(data, facts.format, shrink=shrink, max_pixels=limit)
        stored = facts.stored if shrink > 1 else Size(image.width, image.height)
        step = math.isqrt(image.width * image.height // MAX_ANALYSIS_PIXELS) + 1
        if step > 1:
            # Once from top to bottom for damage and for alpha, a line at a time; and once for every so manieth pixel.
            lowest = float(image[image.bands - 1].min())
            image = open_image(data, facts.format, shrink=shrink, max_pixels=limit)
            image = image.subsample(step, step).copy_memory()
        else:
            image = image.copy_memory()
            lowest = float(image[image.bands - 1].min()) if image.hasalpha() else 0.0
        used = bool(image.hasalpha()) and lowest < _opaque(image)
        if image.hasalpha():
            # Judged as it would be seen on white paper: the hidden colour under clear pixels is no part of it.
            image = image.flatten(background=_opaque(image)) if used else image[: image.bands - 1]
        colour = to_srgb(image, cmyk=facts.cmyk)
        if colour.bands < 3:
            colour = colour.bandjoin([colour[0]] * (3 - colour.bands))
        array: NDArray[np.uint8] = colour.numpy()
    except pyvips.Error as error:
        raise damaged(error) from error
    return array[..., :3], used, stored


def _opaque(image: VipsImage) -> float:
    return 65535.0 if image.format == "ushort" else 255.0


def _mean_colour(pixels: NDArray[np.uint8]) -> str:
    step = max(1, max(pixels.shape[:2]) // 256)
    red, green, blue = pixels[::step, ::step].reshape(-1, 3).mean(axis=0)
    return f"#{round(red):02x}{round(green):02x}{round(blue):02x}"


def _no_image(head: bytes) -> NotAnImageError:
    kind = identify_non_image(head)
    if kind:
        return NotAnImageError.of(not_an_image(description=kind.description, remedy=kind.remedy))
    return NotAnImageError.of(unknown_content(_starts_with(head)))


def _starts_with(data: bytes) -> str:
    text = data[:24]
    if all(32 <= byte < 127 or byte in (9, 10, 13) for byte in text):
        return f"the text “{text.decode('ascii').split(chr(10))[0].strip()}”"
    return "bytes " + text[:8].hex(" ")

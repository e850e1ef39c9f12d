"""One look at an original: header facts, then the kind from its pixels at the least cost."""

from __future__ import annotations

import hashlib
from typing import Any, NamedTuple

import numpy as np
from numpy.typing import NDArray

from young_prism.core.errors import DamagedError, EmptyFileError, NotAnImageError
from young_prism.core.originals.alike import fingerprint, upright
from young_prism.core.originals.colour import ProfileFacts, profile_facts
from young_prism.core.originals.facts import Facts
from young_prism.core.originals.jpeg import jpeg_facts
from young_prism.core.originals.kind import KindOfPixels, judge_kind
from young_prism.core.originals.metadata import Metadata, read_metadata
from young_prism.core.originals.sniff import HEAD_BYTES, is_animated_png, is_avif_sequence, sniff
from young_prism.core.originals.vector import vector_size
from young_prism.core.pixels.decode import MAX_PIXELS, check_pixels, damaged, declared_png_size, open_image
from young_prism.core.pixels.shape import to_srgb
from young_prism.core.pixels.vips import pyvips
from young_prism.core.values import ImageFormat, Kind, Size

_LOOK_SIDE = 1000
"""A JPEG is judged at the smallest decoder shrink that leaves its longer side at least this long."""


class _Header(NamedTuple):
    stored: Size
    orientation: int
    frames: int
    profile: bytes
    cmyk: bool
    grey: bool
    alpha: bool = False
    duration_ms: int = 0
    bit_depth: int = 8
    metadata: Metadata = Metadata((), None)

    @property
    def upright(self) -> Size:
        """Size after orientation: values 5 to 8 swap the sides (CIPA DC-008, 4.6.4)."""
        return Size(self.stored.height, self.stored.width) if self.orientation >= 5 else self.stored


def look(data: bytes, *, max_pixels: int = MAX_PIXELS) -> Facts:
    """Return the facts of an original from its bytes.

    Raises `EmptyFileError`, `NotAnImageError`, `DamagedError` or `TooLargeError`, each with a remedy and
    without a file name, since bytes have none: the caller that read the file adds it.
    """
    if not data:
        raise EmptyFileError(
            "The file is empty.", remedy="Copy it again from where it came from, or delete it."
        )
    fmt = sniff(data[:HEAD_BYTES])
    if fmt is None:
        raise NotAnImageError(
            f"The content is no image that we know; it starts with {_starts_with(data)}.",
            remedy="Save it as JPEG, PNG, GIF, WebP, AVIF, HEIC, TIFF or SVG, or take it out.",
        )
    if fmt is ImageFormat.SVG:
        return _vector(data)
    header = _read_header(data, fmt, max_pixels)
    digest = hashlib.sha256(data).hexdigest()
    pixels, transparent = _pixels(data, fmt, header, max_pixels)
    animated = header.frames > 1
    judged = KindOfPixels(Kind.ANIMATION, f"{header.frames} frames") if animated else judge_kind(pixels)
    profile = profile_facts(header.profile) if header.profile else ProfileFacts("", wide=False, srgb=True)
    markers = jpeg_facts(data) if fmt is ImageFormat.JPEG else None
    return Facts(
        format=fmt,
        size=header.upright,
        stored=header.stored,
        orientation=header.orientation,
        bytes=len(data),
        sha256=digest,
        frames=header.frames,
        kind=judged.kind,
        reason=judged.reason,
        transparent=transparent,
        grey=header.grey,
        profile=bool(header.profile),
        cmyk=header.cmyk,
        mean_colour=_mean_colour(pixels),
        alpha=header.alpha,
        duration_ms=header.duration_ms if animated else 0,
        bit_depth=markers.bit_depth if markers else header.bit_depth,
        profile_name=profile.name,
        srgb=profile.srgb and not header.cmyk,
        wide_gamut=profile.wide,
        subsampling=markers.subsampling if markers else "",
        jpeg_quality=markers.quality if markers else 0,
        metadata=tuple(group.value for group in header.metadata.groups),
        place=header.metadata.place,
        fingerprint=fingerprint(upright(pixels, header.orientation)),
    )


def _vector(data: bytes) -> Facts:
    size = vector_size(data)
    return Facts(
        format=ImageFormat.SVG,
        size=size,
        stored=size,
        orientation=1,
        bytes=len(data),
        sha256=hashlib.sha256(data).hexdigest(),
        frames=1,
        kind=Kind.VECTOR,
        reason="a drawing in SVG",
        transparent=True,
        grey=False,
        profile=False,
        cmyk=False,
        mean_colour="#808080",
    )


def _read_header(data: bytes, fmt: ImageFormat, max_pixels: int) -> _Header:
    if fmt is ImageFormat.PNG and 0 in declared_png_size(data):
        width, height = declared_png_size(data)
        raise DamagedError(
            f"The header declares a picture without pixels ({width} × {height}).",
            remedy="Export it again from where it came from, or take it out.",
        )
    if fmt is ImageFormat.HEIC:
        return _read_heic_header(data, max_pixels)
    image = open_image(data, fmt, max_pixels=max_pixels)
    orientation = int(image.get("orientation")) if image.get_typeof("orientation") else 1
    frames = int(image.get("n-pages")) if image.get_typeof("n-pages") else 1
    if fmt is ImageFormat.TIFF:
        frames = 1  # pages of a TIFF are no animation: the first one is the picture
    elif fmt is ImageFormat.PNG and is_animated_png(data):
        frames = max(2, frames)
    elif fmt is ImageFormat.AVIF:
        frames = max(2, frames) if is_avif_sequence(data[:HEAD_BYTES]) else 1
    return _Header(
        stored=Size(image.width, image.height),
        orientation=orientation if orientation in range(1, 9) else 1,
        frames=frames,
        profile=_blob(image, "icc-profile-data"),
        cmyk=image.interpretation == "cmyk",
        grey=image.interpretation in ("b-w", "grey16"),
        alpha=bool(image.hasalpha()),
        duration_ms=sum(image.get("delay")) if image.get_typeof("delay") else 0,
        bit_depth=int(image.get("bits-per-sample")) if image.get_typeof("bits-per-sample") else _depth(image),
        metadata=read_metadata(
            exif=_blob(image, "exif-data"), xmp=_blob(image, "xmp-data"), iptc=_blob(image, "iptc-data")
        ),
    )


def _read_heic_header(data: bytes, max_pixels: int) -> _Header:
    import pillow_heif

    try:
        heif = pillow_heif.open_heif(data)
    except (ValueError, OSError, EOFError, RuntimeError, SyntaxError) as error:
        raise damaged(error) from error
    size = Size(*heif.size)
    check_pixels(size, max_pixels)
    return _Header(
        stored=size,
        orientation=1,
        frames=1,
        profile=heif.info.get("icc_profile") or b"",
        cmyk=False,
        grey=heif.mode in ("L", "LA"),
        alpha=heif.mode in ("LA", "RGBA"),
        bit_depth=int(heif.info.get("bit_depth") or 8),
        metadata=read_metadata(exif=heif.info.get("exif") or b"", xmp=heif.info.get("xmp") or b""),
    )


def _blob(image: Any, field: str) -> bytes:
    return bytes(image.get(field)) if image.get_typeof(field) else b""


def _depth(image: Any) -> int:
    return {"uchar": 8, "ushort": 16}.get(image.format, 32)


def _pixels(
    data: bytes, fmt: ImageFormat, header: _Header, max_pixels: int
) -> tuple[NDArray[np.uint8], bool]:
    """Decode for judging: an sRGB array of shape (height, width, 3), and whether alpha is really used.

    The whole file is read, so that damage shows here, before anything is planned for it.
    """
    shrink = 1
    if fmt is ImageFormat.JPEG:
        longest = max(header.stored)
        shrink = next((s for s in (8, 4, 2) if longest >= _LOOK_SIDE * s), 1)
    try:
        image: Any = open_image(data, fmt, shrink=shrink, max_pixels=max_pixels).copy_memory()
        used = bool(image.hasalpha()) and float(image[image.bands - 1].min()) < _opaque(image)
        if image.hasalpha():
            # Judged as it would be seen on white paper: the hidden colour under clear pixels is no part of it.
            image = image.flatten(background=_opaque(image)) if used else image[: image.bands - 1]
        colour = to_srgb(image, cmyk=header.cmyk)
        if colour.bands < 3:
            colour = colour.bandjoin([colour[0]] * (3 - colour.bands))
        array: NDArray[np.uint8] = colour.numpy()
    except pyvips.Error as error:
        raise damaged(error) from error
    return array[..., :3], used


def _opaque(image: Any) -> float:
    return 65535.0 if image.format == "ushort" else 255.0


def _mean_colour(pixels: NDArray[np.uint8]) -> str:
    step = max(1, max(pixels.shape[:2]) // 256)
    red, green, blue = pixels[::step, ::step].reshape(-1, 3).mean(axis=0)
    return f"#{round(red):02x}{round(green):02x}{round(blue):02x}"


def _starts_with(data: bytes) -> str:
    text = data[:24]
    if all(32 <= byte < 127 or byte in (9, 10, 13) for byte in text):
        return f"the text “{text.decode('ascii').split(chr(10))[0].strip()}”"
    return "bytes " + text[:8].hex(" ")

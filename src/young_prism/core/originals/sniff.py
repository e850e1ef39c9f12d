"""Type from content. The ending of a name never decides.

Signatures: PNG (W3C, third edition, 5.2), JPEG (ITU-T T.81, B.1.1.3: SOI followed by a marker), GIF89a
(section 17), WebP (RFC 9649, 2.4), TIFF 6.0 (section 2), AVIF 1.1 (section 5) and HEIF (ISO/IEC 23008-12,
annex B) by the brands of the `ftyp` box, SVG by its root element.
"""

from __future__ import annotations

import re

from young_prism.core.values import ImageFormat

HEAD_BYTES = 4096
"""How much of a file `sniff` wants to see; an SVG may open with a long comment or DOCTYPE."""

_HEIC_BRANDS = frozenset({b"heic", b"heix", b"heim", b"heis", b"hevc", b"hevx", b"mif1", b"msf1"})
_AVIF_BRANDS = frozenset({b"avif", b"avis"})
_SVG_ROOT = re.compile(
    rb"\A(?:\xef\xbb\xbf)?\s*(?:<\?xml[^>]*\?>\s*)?(?:<!--.*?-->\s*|<!DOCTYPE\s[^>\[]*(?:\[.*?\])?\s*>\s*)*<(?:\w+:)?svg[\s>/]",
    re.DOTALL,
)

IMAGE_ENDINGS = frozenset(
    {
        *("jpg", "jpeg", "jpe", "jfif", "png", "apng", "gif", "webp", "avif", "heic", "heif", "hif"),
        *("tif", "tiff", "svg", "bmp"),
    }
)
"""Endings by which a person means an image: such a file is answered for even when it is none."""


def sniff(head: bytes) -> ImageFormat | None:  # noqa: PLR0911  (one line a signature)
    """Return the format of a file from its first bytes (`HEAD_BYTES` suffice), or None if it is no image."""
    if head.startswith(b"\xff\xd8\xff"):
        return ImageFormat.JPEG
    if head.startswith(b"\x89PNG\r\n\x1a\n"):
        return ImageFormat.PNG
    if head.startswith((b"GIF87a", b"GIF89a")):
        return ImageFormat.GIF
    if head[:4] == b"RIFF" and head[8:12] == b"WEBP":
        return ImageFormat.WEBP
    if head.startswith((b"II*\0", b"MM\0*", b"II+\0", b"MM\0+")):
        return ImageFormat.TIFF
    if head[4:8] == b"ftyp":
        return _by_brand(head)
    if _SVG_ROOT.match(head):
        return ImageFormat.SVG
    return None


def _by_brand(head: bytes) -> ImageFormat | None:
    """Decide between AVIF and HEIC: the major brand first, then the compatible ones in their order.

    An AVIF file may carry the general major brand `mif1`, so a general brand decides only at the end.
    """
    length = min(int.from_bytes(head[:4], "big"), len(head))
    brands = [head[8:12]] + [head[at : at + 4] for at in range(16, length - 3, 4)]
    if any(brand in _AVIF_BRANDS for brand in brands):
        return ImageFormat.AVIF
    if any(brand in _HEIC_BRANDS for brand in brands):
        return ImageFormat.HEIC
    return None


def is_animated_png(data: bytes) -> bool:
    """Whether a PNG has an `acTL` chunk before its first `IDAT` (PNG third edition, 11.3.6.1)."""
    at = 8
    while at + 8 <= len(data):
        length = int.from_bytes(data[at : at + 4], "big")
        name = data[at + 4 : at + 8]
        if name == b"acTL":
            return True
        if name == b"IDAT":
            return False
        at += 12 + length
    return False


def is_avif_sequence(head: bytes) -> bool:
    """Whether an AVIF file declares itself an image sequence: major brand `avis` (AVIF 1.1, 6.3)."""
    return head[8:12] == b"avis"

"""Type from content. The ending of a name never decides.

Signatures: PNG (W3C, third edition, 5.2), JPEG (ITU-T T.81, B.1.1.3: SOI followed by a marker), GIF89a
(section 17), JPEG XL (ISO/IEC 18181-2, the signature box, and 18181-1, the first bytes of a codestream), WebP (RFC 9649, 2.4), TIFF 6.0 (section 2), AVIF 1.1 (section 5) and HEIF (ISO/IEC 23008-12,
annex B) by the brands of the `ftyp` box, SVG by its root element, BMP by its mark and the length of its second
header (12 to 124 bytes; from memory).
"""

from __future__ import annotations

import re
from typing import Literal, NamedTuple

from young_prism.core.types import ImageFormat

HEAD_BYTES = 4096
"""How much of a file `sniff` wants to see; an SVG may open with a long comment or DOCTYPE."""

_HEIC_BRANDS = frozenset({b"heic", b"heix", b"heim", b"heis", b"hevc", b"hevx", b"mif1", b"msf1"})
_BMP_HEADERS = frozenset({12, 40, 52, 56, 64, 108, 124})
_AVIF_BRANDS = frozenset({b"avif", b"avis"})
_JXL_CODESTREAM = b"\xff\x0a"
_JXL_SIGNATURE_BOX = b"\x00\x00\x00\x0cJXL \r\n\x87\n"
# Possessive throughout: what has matched is never tried in another way, which would take exponential time for many comments.
_SVG_ROOT = re.compile(
    rb"""\A(?:\xef\xbb\xbf)?\s*+
    (?:<\?xml(?:(?!\?>).)*+\?>\s*+)?+
    (?:
        <!--(?:(?!-->).)*+-->\s*+
        | <!DOCTYPE\s[^>\[]*+(?:\[(?:(?!\]\s*>).)*+\])?+\s*+>\s*+
    )*+
    <(?:\w++:)?+svg[\s>/]""",
    re.DOTALL | re.VERBOSE,
)

IMAGE_ENDINGS = frozenset(
    {
        *("jpg", "jpeg", "jpe", "jfif", "png", "apng", "gif", "webp", "avif", "jxl", "heic", "heif", "hif"),
        *("tif", "tiff", "svg", "svgz", "bmp"),
        # What we cannot read, and say so: people mean pictures by these too.
        *("jp2", "j2k", "psd", "eps", "dng", "cr2", "cr3", "nef", "arw", "orf", "rw2", "raf"),
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
    if head.startswith((_JXL_CODESTREAM, _JXL_SIGNATURE_BOX)):
        return ImageFormat.JXL
    if head[:4] == b"RIFF" and head[8:12] == b"WEBP":
        return ImageFormat.WEBP
    if head.startswith((b"II*\0", b"MM\0*", b"II+\0", b"MM\0+")):
        return None if _is_raw(head) else ImageFormat.TIFF
    if head.startswith(b"BM") and int.from_bytes(head[14:18], "little") in _BMP_HEADERS:
        return ImageFormat.BMP
    if head[4:8] == b"ftyp":
        return _by_brand(head)
    if _SVG_ROOT.match(head):
        return ImageFormat.SVG
    return None


def sniff_video(head: bytes) -> ImageFormat | None:
    """Return which of our videos a file is: MP4 by its brand (ISO/IEC 14496-14, 4), WebM by the signature of EBML (RFC 8794, 8.1)."""
    if head[4:8] == b"ftyp" and head[8:12] in (b"isom", b"iso5", b"mp42", b"avc1"):
        return ImageFormat.MP4
    return ImageFormat.WEBM if head.startswith(b"\x1aE\xdf\xa3") else None


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


def _is_raw(head: bytes) -> bool:
    """Whether a TIFF is a camera raw file, whose first picture is only its thumbnail.

    Told by the mark behind the header in one make's files, or by the tag DNGVersion (50706) in the first directory.
    """
    if head[8:10] == b"CR":
        return True
    order: Literal["little", "big"] = "little" if head[:2] == b"II" else "big"
    at = int.from_bytes(head[4:8], order)
    count = int.from_bytes(head[at : at + 2], order)
    tags = (int.from_bytes(head[at + 2 + 12 * n : at + 4 + 12 * n], order) for n in range(min(count, 200)))
    return 50706 in tags


class KnownNonImage(NamedTuple):
    """A file that is no picture for us, and how to get one out of it."""

    description: str
    remedy: str


_SAVE_AS = "Save it as JPEG, PNG or WebP in the program that made it."
_RAW = KnownNonImage("a camera raw file", "Export it as JPEG or TIFF from a raw developer first.")
_NON_IMAGE_SIGNATURES: tuple[tuple[bytes, int, KnownNonImage], ...] = (
    (b"%PDF", 0, KnownNonImage("a PDF document", "Export the page that you need as PNG or SVG.")),
    (b"8BPS", 0, KnownNonImage("a layered PSD document", _SAVE_AS)),
    (b"%!PS", 0, KnownNonImage("an EPS drawing", "Export it as SVG, or as PNG.")),
    (b"jP  ", 4, KnownNonImage("a JPEG 2000 image, which few browsers show", _SAVE_AS)),
    (b"\xff\x4f\xff\x51", 0, KnownNonImage("a JPEG 2000 image, which few browsers show", _SAVE_AS)),
    (
        b"\0\0\1\0",
        0,
        KnownNonImage("an icon file (ICO)", "Leave it where it is; browsers request it by its own name."),
    ),
    (b"ftypcrx ", 4, _RAW),
    (b"FUJIFILM", 0, _RAW),
    (b"II*\0", 0, _RAW),
    (b"MM\0*", 0, _RAW),
    (
        b"ftyp",
        4,
        KnownNonImage("a video", "Embed it in the page as a video; a still of it can be added here."),
    ),
    (
        b"\x1aE\xdf\xa3",
        0,
        KnownNonImage("a video", "Embed it in the page as a video; a still of it can be added here."),
    ),
    (
        b"PK\3\4",
        0,
        KnownNonImage(
            "a zip, or a document that is packed as one", "Unpack it first, or drop it on Sources."
        ),
    ),
    (
        b"\x1f\x8b",
        0,
        KnownNonImage(
            "compressed with gzip",
            "Unpack it first; a drawing in SVG goes over the network compressed anyway.",
        ),
    ),
)


def identify_non_image(head: bytes) -> KnownNonImage | None:
    """Say what a file is that `sniff` does not take for a picture, if its first bytes tell."""
    for mark, at, kind in _NON_IMAGE_SIGNATURES:
        if head[at : at + len(mark)] == mark:
            return kind
    if re.match(rb"(?:\xef\xbb\xbf)?\s*<(?:!doctype html|html)[\s>]", head, re.IGNORECASE):
        return KnownNonImage(
            "a web page, which a server sends instead of a picture it has not got",
            "Fetch the picture again.",
        )
    return None


def is_avif_sequence(head: bytes) -> bool:
    """Whether an AVIF file declares itself an image sequence: major brand `avis` (AVIF 1.1, 6.3)."""
    return head[8:12] == b"avis"

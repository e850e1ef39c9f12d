"""Small value types that everything shares. Sizes are always width first."""

from __future__ import annotations

from enum import StrEnum
from typing import NamedTuple

MAX_PIXELS = 200_000_000
"""Default limit, checked from the header before anything is decoded: 200 megapixels."""

MAX_DECODED_ANIMATION_PIXELS = 200_000_000
"""Pixels of all frames of an animation together that are decoded at once, four bytes each."""

MAX_ANIMATION_PIXELS = 10_000_000_000
"""Pixels of all frames of an animation together that are accepted at all: 80 minutes of 640 × 360 px at nine frames a second."""

MAX_ANALYSIS_PIXELS = 25_000_000
"""Pixels that are judged all together; of a larger picture every second or third does, in a fraction of the memory."""


class Size(NamedTuple):
    """A size in pixels: width first, as HTML and CSS say it."""

    width: int
    height: int

    @property
    def pixels(self) -> int:
        """Number of pixels."""
        return self.width * self.height

    def at_width(self, width: int) -> Size:
        """Return the size of the same shape at `width`: height rounded half up, never below 1."""
        return Size(width, max(1, (2 * self.height * width + self.width) // (2 * self.width)))

    def at_height(self, height: int) -> Size:
        """Return the size of the same shape at `height`: width rounded half up, never below 1."""
        return Size(*reversed(Size(self.height, self.width).at_width(height)))

    def inside(self, box: Size) -> Size:
        """Return the largest size of the same shape that fits in `box`, which may be larger than this one."""
        by_width = self.width * box.height >= self.height * box.width
        return self.at_width(box.width) if by_width else self.at_height(box.height)


class ImageFormat(StrEnum):
    """What a file is by its content."""

    JPEG = "jpeg"
    PNG = "png"
    GIF = "gif"
    WEBP = "webp"
    AVIF = "avif"
    JXL = "jxl"
    HEIC = "heic"
    TIFF = "tiff"
    BMP = "bmp"
    SVG = "svg"
    MP4 = "mp4"
    WEBM = "webm"

    @property
    def is_video(self) -> bool:
        """Whether it is made of animations alone, and never an original."""
        return self in (ImageFormat.MP4, ImageFormat.WEBM)

    @property
    def mime(self) -> str:
        """Media type as registered with IANA."""
        if self.is_video:
            return f"video/{self.value}"
        return "image/svg+xml" if self is ImageFormat.SVG else f"image/{self.value}"

    @property
    def has_alpha(self) -> bool:
        """Whether the format has transparency."""
        return self is not ImageFormat.JPEG and not self.is_video

    @property
    def ext(self) -> str:
        """The ending that we give, without the dot."""
        return "jpg" if self is ImageFormat.JPEG else self.value

    @property
    def label(self) -> str:
        """The name as people write it."""
        return _LABELS.get(self, self.value.upper())


_LABELS = {ImageFormat.WEBP: "WebP", ImageFormat.JXL: "JPEG XL", ImageFormat.WEBM: "WebM"}
MODERN_FORMATS = (ImageFormat.JXL, ImageFormat.AVIF, ImageFormat.WEBP)
"""The modern formats, from the one that the fewest browsers show: who shows one also shows those after it (from memory)."""
VIDEO_FORMATS = (ImageFormat.WEBM, ImageFormat.MP4)
"""The formats of videos, the one that fewer browsers show first."""
RENDITION_FORMATS = (
    *MODERN_FORMATS,
    ImageFormat.JPEG,
    ImageFormat.PNG,
    ImageFormat.GIF,
    ImageFormat.SVG,
    *VIDEO_FORMATS,
)
"""The formats of renditions, in the order in which pages list them."""


class Kind(StrEnum):
    """What the pixels are, whatever the ending says."""

    PHOTO = "photo"
    GRAPHIC = "graphic"
    ANIMATION = "animation"
    VECTOR = "vector"
    UNKNOWN = "not judged yet"
    """Only the header is known; photo or graphic shows in the pixels."""


class Outcome(StrEnum):
    """How one item of a run ended."""

    MADE = "made"
    REUSED = "reused"
    KEPT = "kept"
    SKIPPED = "skipped"
    FAILED = "failed"

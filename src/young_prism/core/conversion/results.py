"""What a conversion returns. It loads no codecs, so that it can be received from a worker."""

from __future__ import annotations

from typing import NamedTuple

from young_prism.core.types import ImageFormat, Size


class Converted(NamedTuple):
    """One file that a picture was turned into.

    Attributes:
        data: The bytes of the file.
        format: Its format.
        size: Width and height in pixels.
        quality: Its quality, 1 to 100; None for a lossless file.
        score: Its score against the same pixels uncompressed, 0 to 100 (SSIMULACRA 2); None for a lossless file.
        note: What else there is to know, in a few words; often empty.
        asked_quality: The quality that was asked for; None for none.
        is_poster: Whether it is the first frame of an animation.
    """

    data: bytes
    format: ImageFormat
    size: Size
    quality: int | None
    score: float | None
    note: str
    asked_quality: int | None
    is_poster: bool = False

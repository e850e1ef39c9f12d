"""Profiles: how much time a recipe spends on fewer bytes.

A profile fills in the efforts and the tolerance that a recipe leaves out. docs/performance.md has the measurements behind
the values.
"""

from __future__ import annotations

from collections.abc import Mapping
from typing import Literal, NamedTuple

ProfileName = Literal["fast", "balanced", "smallest"]


class Profile(NamedTuple):
    """Efforts by format, and the tolerance of a search.

    Attributes:
        jxl_effort: The effort of JPEG XL, from 1 to 9.
        jxl_effort_lossless: The effort of JPEG XL where it may be lossless, which gains from more of it.
        avif_effort: The effort of AVIF, from 0 to 9.
        avif_effort_libaom: The effort of AVIF where only libaom is used: with 4:4:4 chroma or transparency.
        webp_effort: The effort of WebP, from 0 to 6.
        jpeg_effort: The effort of JPEG, 0 or 1.
        png_level: The level of PNG optimisation, from 0 to 6.
        tolerance: The largest score over its target, in points, at which a search ends.
    """

    jxl_effort: int
    jxl_effort_lossless: int
    avif_effort: int
    avif_effort_libaom: int
    webp_effort: int
    jpeg_effort: int
    png_level: int
    tolerance: float


DEFAULT_PROFILE: ProfileName = "balanced"
PROFILES: Mapping[ProfileName, Profile] = {
    "fast": Profile(
        jxl_effort=3,
        jxl_effort_lossless=4,
        avif_effort=0,
        avif_effort_libaom=1,
        webp_effort=2,
        jpeg_effort=0,
        png_level=1,
        tolerance=2.0,
    ),
    "balanced": Profile(
        jxl_effort=5,
        jxl_effort_lossless=7,
        avif_effort=2,
        avif_effort_libaom=3,
        webp_effort=4,
        jpeg_effort=1,
        png_level=2,
        tolerance=1.2,
    ),
    "smallest": Profile(
        jxl_effort=5,
        jxl_effort_lossless=7,
        avif_effort=4,
        avif_effort_libaom=4,
        webp_effort=6,
        jpeg_effort=1,
        png_level=4,
        tolerance=0.5,
    ),
}

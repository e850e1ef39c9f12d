"""What an embedded colour profile says of itself, by LittleCMS."""

from __future__ import annotations

import io
from functools import lru_cache
from typing import NamedTuple

from PIL import ImageCms

_SRGB_AREA = 0.1121
"""Area of sRGB's triangle on the CIE 1931 chromaticity diagram (IEC 61966-2-1 primaries)."""


class ProfileFacts(NamedTuple):
    """`wide` when the profile's colours clearly reach beyond sRGB."""

    name: str
    wide: bool
    srgb: bool


@lru_cache(maxsize=256)
def profile_facts(data: bytes) -> ProfileFacts:
    """Read an ICC profile, of which a site has few different ones; one that cannot be read is called so and is not wide."""
    try:
        profile = ImageCms.ImageCmsProfile(io.BytesIO(data))
        name = " ".join(ImageCms.getProfileDescription(profile).split())
    except (ImageCms.PyCMSError, OSError, ValueError, TypeError):
        return ProfileFacts("unreadable", wide=False, srgb=False)
    inner = profile.profile
    primaries = [inner.red_primary, inner.green_primary, inner.blue_primary]
    corners = [(primary[1][0], primary[1][1]) for primary in primaries if primary]
    area = _area(corners) if len(corners) == 3 else 0.0
    srgb = "srgb" in name.lower() or (0.97 < area / _SRGB_AREA < 1.03)
    return ProfileFacts(name or "without a name", wide=area > 1.1 * _SRGB_AREA, srgb=srgb)


def _area(corners: list[tuple[float, float]]) -> float:
    (x1, y1), (x2, y2), (x3, y3) = corners
    return abs((x2 - x1) * (y3 - y1) - (x3 - x1) * (y2 - y1)) / 2

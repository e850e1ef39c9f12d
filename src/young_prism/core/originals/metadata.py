"""Metadata found, by group: what a file would tell about its maker, without repeating all of it.

Exif (CIPA DC-008), XMP (ISO 16684-1), IPTC-IIM (record 2). A group counts as found when any of its properties is there
with a value; the groups are those that people worry about, and agree with what exiftool finds (tests/reference).
"""

from __future__ import annotations

import re
from enum import StrEnum
from typing import Any, NamedTuple

from PIL import ExifTags, Image


class Group(StrEnum):
    """What a piece of metadata is about."""

    CAMERA = "camera"
    TIME = "time"
    PLACE = "place"
    RIGHTS = "author and rights"
    THUMBNAIL = "thumbnail"
    HISTORY = "edit history"


class Place(NamedTuple):
    """Degrees, north and east positive."""

    latitude: float
    longitude: float


class Metadata(NamedTuple):
    """The groups found, and the place if one is given as a position."""

    groups: tuple[Group, ...]
    place: Place | None


_GPS_IFD, _EXIF_IFD = 0x8825, 0x8769
_EXIF_GROUPS = {
    Group.CAMERA: {
        0x010F,
        0x0110,
        0x927C,
        0xA431,
        0xA432,
        0xA433,
        0xA434,
        0xA435,
        0x829A,
        0x829D,
        0x8827,
        0x920A,
    },
    Group.TIME: {0x0132, 0x9003, 0x9004},
    Group.RIGHTS: {0x013B, 0x8298},
    Group.HISTORY: {0x0131},
}
# Prefixes are only habits in XML; where several vocabularies have a property, any prefix will do.
_XMP_GROUPS = {
    Group.CAMERA: rb"tiff:(?:Make|Model)|aux:(?:Lens|SerialNumber)|exifEX:(?:LensModel|BodySerialNumber)",
    Group.TIME: rb"xmp:CreateDate|exif:DateTimeOriginal|\w+:DateCreated",
    Group.PLACE: rb"exif:GPSL(?:atitude|ongitude)|\w+:(?:City|Country|State)|Iptc4xmpExt:Location\w+|Iptc4xmpCore:Location",
    Group.RIGHTS: rb"dc:(?:creator|rights)|xmpRights:\w+|\w+:Credit|cc:license",
    Group.HISTORY: rb"xmpMM:(?:History|DerivedFrom)|xmp:CreatorTool",
}
_IPTC_GROUPS = {
    Group.TIME: {55, 60},
    Group.PLACE: {26, 27, 90, 92, 95, 100, 101},
    Group.RIGHTS: {80, 110, 115, 116},
    Group.HISTORY: {65},
}


def read_metadata(*, exif: bytes = b"", xmp: bytes = b"", iptc: bytes = b"") -> Metadata:
    """Return what the three blocks tell; a block that cannot be parsed tells nothing."""
    found: set[Group] = set()
    place = None
    if exif:
        groups, place = _from_exif(exif)
        found |= groups
    found |= {
        group for group, pattern in _XMP_GROUPS.items() if re.search(rb"[<\s](?:" + pattern + rb")\b", xmp)
    }
    tags = _iptc_tags(iptc)
    found |= {group for group, wanted in _IPTC_GROUPS.items() if tags & wanted}
    return Metadata(tuple(group for group in Group if group in found), place)


def _from_exif(data: bytes) -> tuple[set[Group], Place | None]:
    exif = Image.Exif()
    try:
        exif.load(data)
        inner, gps, second = exif.get_ifd(_EXIF_IFD), exif.get_ifd(_GPS_IFD), exif.get_ifd(ExifTags.IFD.IFD1)
        values = {**dict(exif), **inner}
    except Exception:  # noqa: BLE001  (Pillow raises whatever a crooked block leads it to)
        return set(), None
    present = {tag for tag, value in values.items() if value not in (None, "", b"", (), 0)}
    found = {group for group, tags in _EXIF_GROUPS.items() if present & tags}
    if any(tag in gps for tag in (2, 4)):
        found.add(Group.PLACE)
    if second.get(0x0201):
        found.add(Group.THUMBNAIL)
    return found, _position(gps)


def _position(gps: dict[int, Any]) -> Place | None:
    try:
        latitude = _degrees(gps[2]) * (-1 if str(gps.get(1, "N")).startswith("S") else 1)
        longitude = _degrees(gps[4]) * (-1 if str(gps.get(3, "E")).startswith("W") else 1)
    except (KeyError, TypeError, ValueError, ZeroDivisionError):
        return None
    inside = abs(latitude) <= 90 and abs(longitude) <= 180
    return Place(round(latitude, 5), round(longitude, 5)) if inside else None


def _degrees(value: Any) -> float:
    degrees, minutes, seconds = (float(part) for part in value)
    total = degrees + minutes / 60 + seconds / 3600
    if total != total:  # noqa: PLR0124  (not a number)
        raise ValueError("not a position")
    return total


def _iptc_tags(data: bytes) -> set[int]:
    """Return the numbers of record 2's datasets that have a value (IIM 4.2, chapter 3)."""
    tags = set()
    at = data.find(b"\x1c\x02")
    while at >= 0 and at + 5 <= len(data) and data[at] == 0x1C:
        length = int.from_bytes(data[at + 3 : at + 5], "big")
        if data[at + 1] == 2 and length:
            tags.add(data[at + 2])
        at += 5 + (length & 0x7FFF)
    return tags

"""Metadata found, by group: what a file would tell about its maker, without repeating all of it.

Exif (CIPA DC-008), XMP (ISO 16684-1), IPTC-IIM (record 2). A group counts as found when any of its properties is there
with a value; the groups are those that people worry about, and agree with what exiftool finds (tests/reference).
"""

from __future__ import annotations

import re
from enum import StrEnum
from typing import NamedTuple

from young_prism.core.images.headers.exif import ExifTag, read_exif


class MetadataGroup(StrEnum):
    """What a piece of metadata is about."""

    CAMERA = "camera"
    TIME = "time"
    PLACE = "place"
    RIGHTS = "author and rights"
    THUMBNAIL = "thumbnail"
    HISTORY = "edit history"


class GeoPosition(NamedTuple):
    """Degrees, north and east positive."""

    latitude: float
    longitude: float


class Metadata(NamedTuple):
    """The groups found, the place if one is given as a position, and the orientation (tag 0x0112, 1 to 8)."""

    groups: tuple[MetadataGroup, ...]
    position: GeoPosition | None
    orientation: int = 1
    taken: str = ""
    """The day it was taken, as 2026-05-01, where it says so."""


_CAMERA_TAGS = "010F 0110 927C A431 A432 A433 A434 A435 829A 829D 8827 920A"
_EXIF_GROUPS = {
    MetadataGroup.CAMERA: {int(tag, 16) for tag in _CAMERA_TAGS.split()},
    MetadataGroup.TIME: {0x0132, 0x9003, 0x9004},
    MetadataGroup.RIGHTS: {0x013B, 0x8298},
    MetadataGroup.HISTORY: {0x0131},
}
# Prefixes are only habits in XML; where several vocabularies have a property, any prefix will do.
_XMP_GROUPS = {
    MetadataGroup.CAMERA: rb"tiff:(?:Make|Model)|aux:(?:Lens|SerialNumber)|exifEX:(?:LensModel|BodySerialNumber)",
    MetadataGroup.TIME: rb"xmp:CreateDate|exif:DateTimeOriginal|\w+:DateCreated",
    MetadataGroup.PLACE: rb"exif:GPSL(?:atitude|ongitude)|\w+:(?:City|Country|State)|Iptc4xmpExt:Location\w+|Iptc4xmpCore:Location",
    MetadataGroup.RIGHTS: rb"dc:(?:creator|rights)|xmpRights:\w+|\w+:Credit|cc:license",
    MetadataGroup.HISTORY: rb"xmpMM:(?:History|DerivedFrom)|xmp:CreatorTool",
}
_IPTC_GROUPS = {
    MetadataGroup.TIME: {55, 60},
    MetadataGroup.PLACE: {26, 27, 90, 92, 95, 100, 101},
    MetadataGroup.RIGHTS: {80, 110, 115, 116},
    MetadataGroup.HISTORY: {65},
}
_XMP_PATTERNS = {
    group: re.compile(rb"[<\s](?:" + pattern + rb")\b") for group, pattern in _XMP_GROUPS.items()
}

_XMP_TAKEN = re.compile(rb"exif:DateTimeOriginal\s*(?:=\s*[\"']|>)\s*([\d:-]+)")

NO_HEADER_METADATA = Metadata((), None)


def read_metadata(*, exif: bytes = b"", xmp: bytes = b"", iptc: bytes = b"") -> Metadata:
    """Return what the three blocks tell; a block that cannot be parsed tells nothing."""
    if not (exif or xmp or iptc):
        return NO_HEADER_METADATA
    present_groups: set[MetadataGroup] = set()
    position, orientation, captured = None, 1, ""
    if exif:
        groups, position, orientation, captured = _from_exif(exif)
        present_groups |= groups
    if xmp:
        match = _XMP_TAKEN.search(xmp)
        captured = captured or (_day(match[1]) if match else "")
        present_groups |= {group for group, pattern in _XMP_PATTERNS.items() if pattern.search(xmp)}
    tags = _iptc_tags(iptc)
    present_groups |= {group for group, datasets in _IPTC_GROUPS.items() if tags & datasets}
    return Metadata(
        tuple(group for group in MetadataGroup if group in present_groups), position, orientation, captured
    )


def _from_exif(data: bytes) -> tuple[set[MetadataGroup], GeoPosition | None, int, str]:
    exif = read_exif(data)
    present = {number for number, tag in exif.image.items() if tag.filled}
    metadata_groups = {group for group, tags in _EXIF_GROUPS.items() if present & tags}
    if 2 in exif.gps or 4 in exif.gps:
        metadata_groups.add(MetadataGroup.PLACE)
    if 0x0201 in exif.thumbnail and exif.thumbnail[0x0201].filled:
        metadata_groups.add(MetadataGroup.THUMBNAIL)
    orientation = exif.image[0x0112].integer() if 0x0112 in exif.image else 1
    captured = _day(exif.image[0x9003].value) if 0x9003 in exif.image else ""
    return metadata_groups, _position(exif.gps), orientation if orientation in range(1, 9) else 1, captured


def _day(written: bytes) -> str:
    """Return a date as Exif (CIPA DC-008, 4.6.5: 2026:05:01 10:00:00) or XMP write it, in ISO form; empty for none."""
    match = re.match(rb"(\d{4})[:-](\d{2})[:-](\d{2})", written)
    if not match or not (1 <= int(match[2]) <= 12 and 1 <= int(match[3]) <= 31):
        return ""
    return "-".join(part.decode() for part in match.groups())


def _position(gps: dict[int, ExifTag]) -> GeoPosition | None:
    """Read latitude and longitude: degrees, minutes, seconds, with N, S, E, W next to them (CIPA DC-008, 4.6.6)."""
    try:
        latitude, longitude = _degrees(gps[2]), _degrees(gps[4])
    except (KeyError, ValueError, ZeroDivisionError):
        return None
    if 1 in gps and gps[1].value.startswith(b"S"):
        latitude = -latitude
    if 3 in gps and gps[3].value.startswith(b"W"):
        longitude = -longitude
    inside = abs(latitude) <= 90 and abs(longitude) <= 180
    return GeoPosition(round(latitude, 5), round(longitude, 5)) if inside else None


def _degrees(tag: ExifTag) -> float:
    degrees, minutes, seconds = tag.rationals()
    return degrees + minutes / 60 + seconds / 3600


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

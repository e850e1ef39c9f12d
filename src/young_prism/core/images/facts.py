"""The immutable record of one original, on which all later steps work."""

from __future__ import annotations

from dataclasses import dataclass, fields, replace
from typing import Any

from young_prism.core.types import (
    ImageFormat,
    Kind,
    Size,
)

FACTS_VERSION = 4
"""Raise it when a look finds more or judges differently: what was stored before is then looked at again."""


@dataclass(frozen=True, slots=True, kw_only=True)
class Facts:
    """What one look at an original found.

    `size` is upright: orientation is applied already. `stored` is what the header says before that;
    `orientation` the Exif value 1 to 8 (CIPA DC-008, tag 0x0112). A size of 0 x 0 belongs to a vector
    that declares none. `transparent` means that alpha is really used, `alpha` that it is there at all.
    `srgb` is true without a profile as well: that is what browsers take it for. `jpeg_quality` is 0 for what is no
    JPEG. `metadata` names the groups found (`metadata.Group`), `place` is latitude and longitude in degrees, and
    `fingerprint` is what near duplicates are told by (`alike.fingerprint`). `layered` is a progressive or interlaced
    file, `loops` how often an animation plays (0 for ever), `colours` the length of a palette, `taken` the day that
    the metadata say the picture was taken, as 2026-05-01.

    After a look at the header alone `seen` is false: then `sha256`, `mean_colour` and `fingerprint` are empty, `kind` is
    `UNSEEN` for stills, and `transparent` says only whether there could be transparency.
    """

    format: ImageFormat
    size: Size
    stored: Size
    orientation: int
    bytes: int
    sha256: str
    frames: int
    kind: Kind
    reason: str
    transparent: bool
    grey: bool
    profile: bool
    cmyk: bool
    mean_colour: str
    alpha: bool = False
    duration_ms: int = 0
    bit_depth: int = 8
    profile_name: str = ""
    srgb: bool = True
    wide_gamut: bool = False
    subsampling: str = ""
    jpeg_quality: int = 0
    metadata: tuple[str, ...] = ()
    place: tuple[float, float] | None = None
    fingerprint: str = ""
    layered: bool = False
    loops: int = 0
    colours: int = 0
    taken: str = ""
    seen: bool = True

    def as_dict(self) -> dict[str, Any]:
        """Return a JSON-ready form; `from_dict` reads it back."""
        values = {name: getattr(self, name) for name in _NAMES}
        return {"facts_version": FACTS_VERSION, **values}

    @classmethod
    def from_dict(cls, data: dict[str, Any]) -> Facts:
        """Read what `as_dict` wrote; raises `TypeError`, `KeyError` or `ValueError` on anything else."""
        if data.get("facts_version") != FACTS_VERSION:
            raise ValueError("facts of another version: look again")
        known = {name: data[name] for name in _NAMES}
        known["format"] = ImageFormat(known["format"])
        known["kind"] = Kind(known["kind"])
        known["size"] = Size(*known["size"])
        known["stored"] = Size(*known["stored"])
        known["metadata"] = tuple(known["metadata"])
        known["place"] = tuple(known["place"]) if known["place"] else None
        return cls(**known)

    def treated_as(self, kind: str) -> Facts:
        """Return the facts with a kind that a person set for a still picture; unchanged where that is empty.

        Args:
            kind: `photo`, `graphic`, or empty.
        """
        if not kind or self.passes_through or self.kind == kind:
            return self
        return replace(self, kind=Kind(kind), reason="set by hand")

    @property
    def kind_label(self) -> str:
        """The kind in words, with its transparency."""
        return f"{self.kind.value} with transparency" if self.transparent else self.kind.value

    @property
    def frames_label(self) -> str:
        """The number of frames in words; those of a JPEG XL are not counted."""
        if self.format is ImageFormat.JXL and self.frames > 1:
            return "several frames"
        return f"{self.frames:,} frames"

    @property
    def passes_through(self) -> bool:
        """Whether this slice copies the original as it is, rather than making renditions of it."""
        return self.kind in (Kind.ANIMATION, Kind.VECTOR)

    @property
    def can_keep_gamut(self) -> bool:
        """Whether it has a wider gamut than sRGB that a rendition could keep: RGB with its profile."""
        return self.wide_gamut and self.profile and not self.cmyk and not self.grey

    @property
    def bytes_per_pixel(self) -> float:
        """How many bytes a pixel costs; 0 for what has no pixels of its own."""
        return self.bytes / self.size.pixels if self.size.pixels else 0.0


_NAMES = tuple(field.name for field in fields(Facts))

"""The immutable record of one original, on which all later steps work."""

from __future__ import annotations

from dataclasses import asdict, dataclass
from typing import Any

from young_prism.core.values import ImageFormat, Kind, Size


@dataclass(frozen=True, slots=True, kw_only=True)
class Facts:
    """What one look at an original found.

    `size` is upright: orientation is applied already. `stored` is what the header says before that;
    `orientation` the Exif value 1 to 8 (CIPA DC-008, tag 0x0112). A size of 0 x 0 belongs to a vector
    that declares none. `transparent` means that alpha is really used, not only present.
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

    def as_dict(self) -> dict[str, Any]:
        """Return a JSON-ready form; `from_dict` reads it back."""
        return asdict(self)

    @staticmethod
    def from_dict(data: dict[str, Any]) -> Facts:
        """Read what `as_dict` wrote; raises `TypeError` or `ValueError` on anything else."""
        return Facts(
            **{
                **data,
                "format": ImageFormat(data["format"]),
                "kind": Kind(data["kind"]),
                "size": Size(*data["size"]),
                "stored": Size(*data["stored"]),
            }
        )

    @property
    def kind_label(self) -> str:
        """The kind in words, with its transparency."""
        return f"{self.kind.value} with transparency" if self.transparent else self.kind.value

    @property
    def passes_through(self) -> bool:
        """Whether this slice copies the original as it is, rather than making renditions of it."""
        return self.kind in (Kind.ANIMATION, Kind.VECTOR)

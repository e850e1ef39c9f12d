"""How each format is encoded, with defaults that have a reason.

Qualities: WebP about 80 is where a photo is hard to tell from its original (common practice, no source). AVIF 57
has the same mean SSIMULACRA 2 (docs/performance.md), so the two modern formats look alike and their bytes may be
compared. The fallback is a step better, as is the habit. Efforts and tolerances that a recipe leaves out come from its
profile (`core/recipe/profiles.py`). Chroma is pinned everywhere: encoders change it by themselves.
"""

from __future__ import annotations

from typing import Annotated, Any, Literal, Self

from pydantic import Field, field_validator, model_validator

from young_prism.core.recipe.base import (
    ByteCount,
    Colour,
    ListAsTuple,
    RecipeModel,
)
from young_prism.core.recipe.profiles import DEFAULT_PROFILE, PROFILES, Profile

Chroma = Literal["4:2:0", "4:4:4"]
Quality = Annotated[int, Field(ge=1, le=100)]
Target = Annotated[float, Field(ge=10, le=98)]
"""A score (SSIMULACRA 2) to be reached: 70 is good, about 90 hard to tell apart."""


Band = Annotated[tuple[Target, Target], ListAsTuple]
"""The lowest and the highest score at which a picture keeps the fixed quality."""


JXL_QUALITY = 71
"""The quality of JPEG XL that has the mean score of AVIF at 57 (docs/performance.md)."""
JXL_QUALITY_GRAPHIC = 83
"""The same for AVIF at 70, the usual quality of drawings."""
_USUAL = PROFILES[DEFAULT_PROFILE]
NOT_BOTH = "either a target or a band, not both"


def goes_up(value: Band | None) -> Band | None:
    """Return a band whose second score is the higher one. Raises `ValueError` for any other."""
    if value and value[0] >= value[1]:
        raise ValueError(f"a band goes from its lower score to its higher one: {value[1]:g}, {value[0]:g}")
    return value


class Lossy(RecipeModel):
    """What formats share whose quality can be chosen: how it is found, and within which bounds.

    With a `target` the smallest quality is searched whose score reaches it; with a `band` the quality is tried as it is, and a
    picture that scores outside is brought to the nearest edge of the band. `lowest` and `highest` bound a search, and with
    `never_larger` no file that it finds has more bytes than the original. A search ends at most `tolerance` points over its
    target; left out, the profile decides. A file over `max_bytes` gets the highest quality that stays within; one that has none
    is not delivered.
    """

    quality: Annotated[Quality, Field(description="Quality of the encoder, from 1 to 100.")]
    target: Annotated[
        Target | None,
        Field(
            description="Score (SSIMULACRA 2) to reach with the lowest quality: 70 is good, about 90 is hard to tell apart."
        ),
    ] = None
    tolerance: Annotated[
        Annotated[float, Field(ge=0.1, le=10)] | None,
        Field(description="Points by which a search may end above its target. Default: from the profile."),
    ] = None
    band: Annotated[
        Band | None,
        Field(description="Lowest and highest score; outside them the quality moves to the nearest edge."),
    ] = None
    lowest: Annotated[Quality | None, Field(description="Lowest quality that a search may choose.")] = None
    highest: Annotated[Quality | None, Field(description="Highest quality that a search may choose.")] = None
    never_larger: Annotated[
        bool, Field(description="Never choose a quality whose file is larger than the original.")
    ] = False
    max_bytes: Annotated[
        ByteCount | None,
        Field(
            description='Byte limit of each file, such as "100 kB". Without a quality that meets it, the file is not delivered.'
        ),
    ] = None

    _goes_up = field_validator("band")(goes_up)

    @model_validator(mode="after")
    def _one_way(self) -> Self:
        if self.target is not None and self.band is not None:
            raise ValueError(NOT_BOTH)
        if (self.lowest or 1) > (self.highest or 100):
            raise ValueError(f"lowest ({self.lowest}) is above highest ({self.highest})")
        return self

    @property
    def searched(self) -> bool:
        """Whether its quality depends on the picture."""
        return self.target is not None or self.band is not None

    @property
    def is_lossless(self) -> bool:
        """Whether the settings ask for exact pixels, whatever they weigh."""
        return False

    @property
    def search_tolerance(self) -> float:
        """The tolerance in points; that of the default profile where none is set."""
        return _USUAL.tolerance if self.tolerance is None else self.tolerance

    def _tolerance_in(self, profile: Profile) -> dict[str, float]:
        """Return the field to fill in: a search needs a tolerance, a fixed quality none."""
        return {"tolerance": profile.tolerance} if self.searched and self.tolerance is None else {}


class LossyOrLossless(Lossy):
    """What formats share that have a lossless mode too; `when-smaller` takes it where it needs no more bytes."""

    lossless: Annotated[
        Literal["never", "when-smaller", "always"],
        Field(description="Lossless mode: never, always, or where it needs no more bytes."),
    ] = "never"

    @property
    def is_lossless(self) -> bool:
        """Whether the settings ask for exact pixels, whatever they weigh."""
        return self.lossless == "always"


class Jxl(LossyOrLossless):
    """JPEG XL: fast to encode, and smallest where quality is high or detail is fine.

    With `from_jpeg`, the rendition of a JPEG original at its own size is the original's data packed without loss, from which
    that JPEG can be restored bit by bit.
    """

    quality: Annotated[
        Quality,
        Field(description="Quality of the encoder, from 1 to 100; 71 has the mean score of AVIF at 57."),
    ] = JXL_QUALITY
    effort: Annotated[
        Annotated[int, Field(ge=1, le=9)] | None,
        Field(description="Effort of libjxl, from 1 to 9. Default: from the profile."),
    ] = None
    from_jpeg: Annotated[
        bool, Field(description="Pack the data of a JPEG original losslessly for the rung of its own size.")
    ] = False

    @property
    def chosen_effort(self) -> int:
        """The effort; that of the default profile where none is set."""
        return self._effort_in(_USUAL)

    def in_profile(self, profile: Profile) -> Self:
        """Return the settings with what they leave out filled in."""
        return self.model_copy(update={"effort": self._effort_in(profile), **self._tolerance_in(profile)})

    def _effort_in(self, profile: Profile) -> int:
        if self.effort is not None:
            return self.effort
        return profile.jxl_effort if self.lossless == "never" else profile.jxl_effort_lossless


def lossy_only(settings: Lossy) -> dict[str, Any]:
    """Return the changes that leave only the lossy mode of a format."""
    changes: dict[str, Any] = {"lossless": "never"} if isinstance(settings, LossyOrLossless) else {}
    return {**changes, "near_lossless": None} if isinstance(settings, Webp) else changes


class Avif(Lossy):
    """AV1 still images: the smallest files for photos.

    An `effort` is a place on one curve of bytes against time, whichever encoder is best there (docs/performance.md); left
    out, the profile decides.
    """

    quality: Annotated[Quality, Field(description="Quality of the encoder, from 1 to 100.")] = 57
    effort: Annotated[
        Annotated[int, Field(ge=0, le=9)] | None,
        Field(
            description="Place on the curve of bytes against time, from 0 (fast) to 9. Default: from the profile."
        ),
    ] = None
    chroma: Annotated[Chroma, Field(description="Chroma subsampling.")] = "4:2:0"

    @property
    def chosen_effort(self) -> int:
        """The effort; that of the default profile where none is set."""
        return self._effort_in(_USUAL)

    def in_profile(self, profile: Profile, *, transparent: bool = False) -> Self:
        """Return the settings with what they leave out filled in."""
        effort = self._effort_in(profile, transparent=transparent)
        return self.model_copy(update={"effort": effort, **self._tolerance_in(profile)})

    def _effort_in(self, profile: Profile, *, transparent: bool = False) -> int:
        if self.effort is not None:
            return self.effort
        needs_libaom = transparent or self.chroma == "4:4:4"
        return profile.avif_effort_libaom if needs_libaom else profile.avif_effort


class Webp(LossyOrLossless):
    """WebP: fast, shown by every current browser, with a lossless mode for graphics."""

    quality: Annotated[Quality, Field(description="Quality of the encoder, from 1 to 100.")] = 80
    effort: Annotated[
        Annotated[int, Field(ge=0, le=6)] | None,
        Field(description="Method of libwebp, from 0 to 6. Default: from the profile."),
    ] = None
    near_lossless: Annotated[
        Annotated[int, Field(ge=0, le=99)] | None,
        Field(
            description="Freedom to change pixels slightly in lossless mode: 99 hardly, 60 a little, 0 most."
        ),
    ] = None

    @model_validator(mode="after")
    def _near_what(self) -> Self:
        if self.near_lossless is not None and self.lossless == "never":
            raise ValueError("near_lossless needs lossless to be when-smaller or always")
        return self

    @property
    def chosen_effort(self) -> int:
        """The effort; that of the default profile where none is set."""
        return _USUAL.webp_effort if self.effort is None else self.effort

    def in_profile(self, profile: Profile) -> Self:
        """Return the settings with what they leave out filled in."""
        effort = profile.webp_effort if self.effort is None else self.effort
        return self.model_copy(update={"effort": effort, **self._tolerance_in(profile)})


class Jpeg(Lossy):
    """The fallback for opaque photos: progressive, with trellis quantisation.

    With an `effort` of 1, the best order of the scans is searched too: 2 % fewer bytes for half as much time again.
    """

    quality: Annotated[Quality, Field(description="Quality of the encoder, from 1 to 100.")] = 80
    effort: Annotated[
        Annotated[int, Field(ge=0, le=1)] | None,
        Field(
            description="1 also searches the best order of scans: 2 % fewer bytes. Default: from the profile."
        ),
    ] = None
    chroma: Annotated[Chroma, Field(description="Chroma subsampling.")] = "4:2:0"
    matte: Annotated[
        Colour | None,
        Field(description="Colour behind transparent pixels; allowed only for transparent kinds."),
    ] = None

    @property
    def chosen_effort(self) -> int:
        """The effort; that of the default profile where none is set."""
        return _USUAL.jpeg_effort if self.effort is None else self.effort

    def in_profile(self, profile: Profile) -> Self:
        """Return the settings with what they leave out filled in."""
        effort = profile.jpeg_effort if self.effort is None else self.effort
        return self.model_copy(update={"effort": effort, **self._tolerance_in(profile)})


class Png(RecipeModel):
    """The fallback for graphics and transparency: lossless, squeezed by oxipng at `level`.

    With `palette` it has at most 256 colours where its score with these is at least that. A file over `max_bytes` gets a
    palette too, and is not delivered where that has still more.
    """

    level: Annotated[
        Annotated[int, Field(ge=0, le=6)] | None,
        Field(description="Level of oxipng, from 0 to 6. Default: from the profile."),
    ] = None
    palette: Annotated[
        Target | None, Field(description="Use at most 256 colours if the score with them is at least this.")
    ] = None
    max_bytes: Annotated[
        ByteCount | None, Field(description="Byte limit of each file; a larger one gets a palette.")
    ] = None

    @property
    def chosen_level(self) -> int:
        """The level; that of the default profile where none is set."""
        return _USUAL.png_level if self.level is None else self.level

    def in_profile(self, profile: Profile) -> Self:
        """Return the settings with what they leave out filled in."""
        return self.model_copy(update={"level": profile.png_level if self.level is None else self.level})


class Gif(RecipeModel):
    """A rewritten GIF with fewer colours, whose frames store only what changed."""

    colours: Annotated[int, Field(ge=2, le=256, description="Most colours of a frame.")] = 256
    tolerance: Annotated[
        int,
        Field(
            ge=0,
            le=32,
            description="Levels (of 255) by which a pixel may differ from the previous frame and still be kept.",
        ),
    ] = 0


class Video(RecipeModel):
    """Muted videos of heavy animations, in WebM and MP4."""

    quality: Annotated[Quality, Field(description="Quality, from 1 to 100.")] = 75
    from_bytes: Annotated[ByteCount, Field(description="Smallest animation that becomes a video.")] = 500_000


LossySettings = Jxl | Avif | Webp | Jpeg
"""The settings of formats that have a quality."""
RasterSettings = LossySettings | Png
"""The settings of formats that are made at every rung."""
RASTER_SETTINGS = (Lossy, Png)
"""The same for `isinstance`."""

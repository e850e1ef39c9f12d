"""The formats of each kind of picture, or of each type of file, and the treatment of animations and drawings."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from operator import attrgetter
from typing import Annotated, Any, Literal, NamedTuple, Self

from pydantic import Field, field_validator, model_validator

from young_prism.core.recipe.base import (
    ByteCount,
    ListAsTuple,
    RecipeModel,
)
from young_prism.core.recipe.codecs import (
    JXL_QUALITY_GRAPHIC,
    NOT_BOTH,
    Avif,
    Band,
    Gif,
    Jpeg,
    Jxl,
    Png,
    RasterSettings,
    Target,
    Video,
    Webp,
    goes_up,
)
from young_prism.core.recipe.profiles import DEFAULT_PROFILE, PROFILES, Profile, ProfileName
from young_prism.core.types import MODERN_FORMATS, ImageFormat

_BROWSERS_WITHOUT: dict[str, str] = {
    ImageFormat.WEBP: "Safari before 14, Firefox before 65 and Internet Explorer",
    ImageFormat.AVIF: "Safari before 16.4, Firefox before 93, Chrome before 85 and Edge before 121",
    ImageFormat.JXL: "all browsers but Safari from 17 on",
}
"""Browsers that do not show a format nor those that fewer browsers show (from memory)."""


def browsers_without(fmt: str) -> str:
    """Return the browsers that do not show a format, as a list in words; empty for one that all show."""
    return _BROWSERS_WITHOUT.get(fmt, "")


class FormatSet(RecipeModel):
    """Formats of one kind. An omitted format is not made; the last of the others is the fallback.

    Any set will do, one format alone too. Without `jpeg` and `png`, old browsers show nothing (`browsers_without`).

    `target` is a score that every lossy format is brought to, picture by picture, `band` the scores that all are brought
    into: all of them look the same then. `never_larger` and `max_bytes` hold for all of them. What a format says itself counts
    before it.
    """

    target: Annotated[Target | None, Field(description="Score that every lossy format must reach.")] = None
    band: Annotated[Band | None, Field(description="Band of scores for every lossy format.")] = None
    never_larger: Annotated[bool, Field(description="No searched file may be larger than the original.")] = (
        False
    )
    max_bytes: Annotated[
        ByteCount | None, Field(description='Byte limit of each file, such as "100 kB".')
    ] = None
    jxl: Annotated[
        Jxl | None, Field(description="Settings of JPEG XL; without the table it is not made.")
    ] = None
    avif: Annotated[Avif | None, Field(description="Settings of AVIF; without the table it is not made.")] = (
        None
    )
    webp: Annotated[Webp | None, Field(description="Settings of WebP; without the table it is not made.")] = (
        None
    )
    jpeg: Annotated[Jpeg | None, Field(description="Settings of JPEG; without the table it is not made.")] = (
        None
    )
    png: Annotated[Png | None, Field(description="Settings of PNG; without the table it is not made.")] = None

    _goes_up = field_validator("band")(goes_up)

    @model_validator(mode="after")
    def _one_format(self) -> Self:
        if self.target is not None and self.band is not None:
            raise ValueError(NOT_BOTH)
        if not self.settings():
            raise ValueError("no format is named; name one or more of jxl, avif, webp, jpeg and png")
        return self

    @property
    def fallback(self) -> ImageFormat:
        """The format that the most browsers show."""
        return list(self.settings())[-1]

    @property
    def browsers_without(self) -> str:
        """The browsers that show none of the formats, as a list in words; empty where there is a JPEG or a PNG."""
        return browsers_without(self.fallback)

    def settings(self) -> dict[ImageFormat, RasterSettings]:
        """Return the formats to make: from the one that the fewest browsers show to the fallback."""
        chosen = {
            ImageFormat.JXL: self.jxl,
            ImageFormat.AVIF: self.avif,
            ImageFormat.WEBP: self.webp,
            ImageFormat.JPEG: self.jpeg,
            ImageFormat.PNG: self.png,
        }
        return {fmt: self._aimed(part) for fmt, part in chosen.items() if part is not None}

    def in_profile(self, profile: ProfileName, *, transparent: bool = False) -> Self:
        """Return the formats with the efforts and tolerances that they leave out filled in."""
        filled = {
            fmt.value: part.in_profile(PROFILES[profile], transparent=transparent)
            if isinstance(part, Avif)
            else part.in_profile(PROFILES[profile])
            for fmt, part in self.settings().items()
        }
        return self.model_copy(update=filled)

    def _aimed(self, part: RasterSettings) -> RasterSettings:
        limit = {"max_bytes": part.max_bytes or self.max_bytes}
        if isinstance(part, Png):
            return part.model_copy(update=limit) if limit["max_bytes"] else part
        shared: dict[str, Any] = {"never_larger": part.never_larger or self.never_larger, **limit}
        if not part.searched:
            shared |= {"target": self.target, "band": self.band}
        return part.model_copy(update=shared)


class TransparentFormatSet(FormatSet):
    """Formats of transparent images. JPEG needs a matte colour."""

    @model_validator(mode="after")
    def _keeps_transparency(self) -> Self:
        if self.jpeg is not None and self.jpeg.matte is None:
            raise ValueError(
                'jpeg has no transparency; use png in its place, or give jpeg a matte such as "#ffffff"'
            )
        return self


class AnimationFormats(RecipeModel):
    """Formats of animations. The GIF itself stays as the fallback.

    With `gif` the fallback is written again, with fewer bytes; where it wears a watermark it always is. With `video`, heavy ones
    are made into muted videos as well, with a poster, for the snippet `video`.
    With `poster` its first frame is made as a still picture too, in the formats of photos. Markup shows it to people who asked
    their system for less motion.
    """

    avif: Annotated[
        Avif | None, Field(description="Settings of animated AVIF; without the table it is not made.")
    ] = Avif(quality=55)
    webp: Annotated[
        Webp | None, Field(description="Settings of animated WebP; without the table it is not made.")
    ] = Webp(quality=75, lossless="when-smaller")
    gif: Annotated[Gif | None, Field(description="Write the fallback GIF again with fewer bytes.")] = None
    video: Annotated[
        Video | None, Field(description="Also make muted WebM and MP4 videos of heavy animations.")
    ] = None
    poster: Annotated[bool, Field(description="Also make the first frame as a still image.")] = False

    @model_validator(mode="after")
    def _has_no_target(self) -> Self:
        for name in ("avif", "webp"):
            part = getattr(self, name)
            if part and part.searched:
                raise ValueError(
                    f"an animation has no score, so {name} can have no target and no band here; give it a quality"
                )
        return self

    def in_profile(self, profile: Profile) -> Self:
        """Return the settings with what they leave out filled in."""
        avif = self.avif and self.avif.in_profile(
            profile, transparent=True
        )  # by libaom, which alone has frames
        return self.model_copy(update={"avif": avif, "webp": self.webp and self.webp.in_profile(profile)})


class VectorFormats(RecipeModel):
    """Treatment of SVG drawings: a copy, by default without scripts and foreign addresses.

    With `minify` it is written with fewer bytes as well, unless it would look different.

    With `png` there are raster fallbacks as well, on the ladder up to `raster_limit` times the drawing's own size.
    """

    sanitise: Annotated[
        bool, Field(description="Keep only elements, attributes and CSS that are known to be harmless.")
    ] = True
    minify: Annotated[bool, Field(description="Minify drawings that look the same afterwards.")] = False
    png: Annotated[
        Png | None, Field(description="Settings of raster fallbacks; without the table there are none.")
    ] = None
    raster_limit: Annotated[
        float,
        Field(ge=1, le=100, description="Largest raster fallback, as a multiple of the size of the drawing."),
    ] = 3.0


class Squeeze(RecipeModel):
    """Same format, same pixels, fewer bytes: one file for each original, under its own name.

    With `jpeg_to_jxl`, a JPEG becomes a JPEG XL, about a fifth smaller, from which it can be restored bit by bit. With a `target`
    pixels may change: JPEG and WebP are encoded again at the lowest quality that reaches the score, and a PNG gets a palette
    where that does, and a GIF fewer colours; what is no smaller than the lossless file is left. Drawings are minified in any case.
    """

    level: Annotated[int, Field(ge=0, le=6, description="Level of oxipng, from 0 to 6.")] = 4
    jpeg_to_jxl: Annotated[bool, Field(description="Pack JPEGs into JPEG XL without loss.")] = False
    target: Annotated[
        Target | None, Field(description="Score down to which pixels may change; without it none does.")
    ] = None

    @model_validator(mode="after")
    def _one_aim(self) -> Self:
        if self.jpeg_to_jxl and self.target is not None:
            raise ValueError("jpeg_to_jxl keeps every pixel, and a target changes them; keep one")
        return self


class _UsualFormats(NamedTuple):
    """The formats of each kind where a recipe names none, by the kind's key below `formats`."""

    photo: FormatSet
    photo_transparent: TransparentFormatSet
    graphic: FormatSet
    graphic_transparent: TransparentFormatSet


def _usual_formats(profile: ProfileName) -> _UsualFormats:
    """Return the formats of each kind where a recipe names none.

    `fast` has no AVIF, which takes most of the time. `balanced` has no JPEG XL of photographs: at the usual quality AVIF is
    smaller for nine of ten (docs/decisions/010-jpeg-xl.md).
    """
    has_avif = profile != "fast"
    photo: dict[str, Any] = {
        "jxl": Jxl() if profile != "balanced" else None,
        "avif": Avif() if has_avif else None,
        "webp": Webp(),
    }
    graphic: dict[str, Any] = {
        "jxl": Jxl(quality=JXL_QUALITY_GRAPHIC, lossless="when-smaller"),
        "avif": Avif(quality=70, chroma="4:4:4") if has_avif else None,
        "webp": Webp(quality=85, lossless="when-smaller"),
    }
    return _UsualFormats(
        photo=FormatSet(**photo, jpeg=Jpeg()),
        photo_transparent=TransparentFormatSet(**photo, png=Png()),
        graphic=FormatSet(**graphic, png=Png()),
        graphic_transparent=TransparentFormatSet(**graphic, png=Png()),
    )


KINDS_OF_STILLS = _UsualFormats._fields
"""The keys below `formats` of the kinds that are made in several formats."""
_USUAL_FORMATS = {name: _usual_formats(name) for name in PROFILES}
_DEFAULTS = _USUAL_FORMATS[DEFAULT_PROFILE]

ModernFormat = Literal["jxl", "avif", "webp"]


def _each_once(value: tuple[ModernFormat, ...]) -> tuple[ModernFormat, ...]:
    if len(value) != len(set(value)):
        raise ValueError("a format is named twice")
    return value


class FormatsByType(RecipeModel):
    """Formats of still images by the file type of the original. They take precedence over its kind."""

    jpeg: Annotated[FormatSet | None, Field(description="Formats of JPEG originals.")] = None
    png: Annotated[TransparentFormatSet | None, Field(description="Formats of PNG originals.")] = None
    gif: Annotated[TransparentFormatSet | None, Field(description="Formats of still GIF originals.")] = None
    webp: Annotated[TransparentFormatSet | None, Field(description="Formats of WebP originals.")] = None
    avif: Annotated[TransparentFormatSet | None, Field(description="Formats of AVIF originals.")] = None
    jxl: Annotated[TransparentFormatSet | None, Field(description="Formats of JPEG XL originals.")] = None
    heic: Annotated[TransparentFormatSet | None, Field(description="Formats of HEIC originals.")] = None
    tiff: Annotated[TransparentFormatSet | None, Field(description="Formats of TIFF originals.")] = None
    bmp: Annotated[TransparentFormatSet | None, Field(description="Formats of BMP originals.")] = None


class Formats(RecipeModel):
    """Formats by the kind of image, or by the type of the file. With `squeeze`, stills get no other renditions.

    `profile` fills in the efforts and tolerances that formats leave out, and the formats of the kinds that are left out.
    `order` is the order in which markup offers the modern formats; empty, the bytes decide for each picture.
    """

    profile: Annotated[
        ProfileName,
        Field(
            description="How much time fewer bytes are worth; fills in efforts, tolerances and omitted kinds."
        ),
    ] = DEFAULT_PROFILE
    order: Annotated[
        tuple[ModernFormat, ...],
        ListAsTuple,
        Field(description="Order of modern formats in markup. Default: by bytes for each image."),
    ] = ()
    photo: Annotated[FormatSet, Field(description="Formats of opaque photos.")] = _DEFAULTS.photo
    photo_transparent: Annotated[
        TransparentFormatSet, Field(description="Formats of transparent photos.")
    ] = _DEFAULTS.photo_transparent
    graphic: Annotated[FormatSet, Field(description="Formats of opaque graphics.")] = _DEFAULTS.graphic
    graphic_transparent: Annotated[
        TransparentFormatSet, Field(description="Formats of transparent graphics.")
    ] = _DEFAULTS.graphic_transparent
    by_type: Annotated[
        FormatsByType,
        Field(description="Formats by the file type of the original, which take precedence over its kind."),
    ] = FormatsByType()
    animation: Annotated[AnimationFormats, Field(description="Formats of animations.")] = AnimationFormats()
    vector: Annotated[VectorFormats, Field(description="Treatment of SVG drawings.")] = VectorFormats()
    squeeze: Annotated[
        Squeeze | None, Field(description="Squeeze stills in their own format instead of all other formats.")
    ] = None

    _order_names_each_once = field_validator("order")(_each_once)

    @model_validator(mode="after")
    def _fill_in_kinds(self) -> Self:
        for kind, formats in _USUAL_FORMATS[self.profile]._asdict().items():
            if kind not in self.model_fields_set:
                self.__dict__[kind] = formats  # the model is frozen, and this is still its construction
        return self

    @classmethod
    def default_of(cls, key: str, table: Mapping[str, Any]) -> Any:
        """Return the default of a key, which the profile decides for kinds of pictures."""
        usual = _USUAL_FORMATS.get(table.get("profile", DEFAULT_PROFILE), _DEFAULTS)
        return getattr(usual, key, None) or super().default_of(key, table)

    def with_profile(self, profile: ProfileName) -> Self:
        """Return the same recipe's formats in another profile; what the recipe names itself stays."""
        named = {name: getattr(self, name) for name in self.model_fields_set}
        return type(self)(**{**named, "profile": profile})

    def for_kind(self, key: str) -> FormatSet:
        """Return the formats of one kind, in this profile.

        Args:
            key: The kind's key below `formats`, such as `photo_transparent` or `by_type.png`.
        """
        formats: FormatSet = attrgetter(key)(self)
        return formats.in_profile(self.profile, transparent=isinstance(formats, TransparentFormatSet))

    def for_animations(self) -> AnimationFormats:
        """Return the formats of animations, in this profile."""
        return self.animation.in_profile(PROFILES[self.profile])


def ordered_formats(formats: Iterable[ImageFormat], order: Sequence[str]) -> list[ImageFormat]:
    """Return formats in a recipe's order: the modern ones that it names, the other modern ones, and the fallback.

    Args:
        formats: The formats, from the one that the fewest browsers show to the fallback.
        order: The recipe's `formats.order`.
    """

    def rank(fmt: ImageFormat) -> int:
        return order.index(fmt) if fmt in order else len(order) + (fmt not in MODERN_FORMATS)

    return sorted(formats, key=rank)

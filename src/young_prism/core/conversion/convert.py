"""Turn one picture into files: decoded, encoded and verified as in a build, but without the rules of a recipe.

A recipe leaves out formats that are not worth delivering; here every format that is asked for is made.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field, replace
from typing import Any, NamedTuple

from young_prism.core.conversion.options import ConvertOptions
from young_prism.core.conversion.results import Converted
from young_prism.core.encode import png
from young_prism.core.encode.animation import encode_avif, encode_webp
from young_prism.core.errors import DamagedError, OriginalError
from young_prism.core.images.facts import Facts
from young_prism.core.inspection.inspect import inspect_bytes
from young_prism.core.pixels.frames import Animation, read_animation
from young_prism.core.plan.make import make_plan
from young_prism.core.plan.model import PlannedOriginal
from young_prism.core.recipe.codecs import (
    Avif,
    Jpeg,
    Jxl,
    Lossy,
    LossyOrLossless,
    LossySettings,
    Png,
    RasterSettings,
    Webp,
)
from young_prism.core.recipe.formats import AnimationFormats, Squeeze
from young_prism.core.recipe.ladder import MAX_WIDTH, Ladder
from young_prism.core.recipe.model import Recipe
from young_prism.core.recipe.profiles import PROFILES
from young_prism.core.render.byte_limit import within_bytes
from young_prism.core.render.encoding import encoded
from young_prism.core.render.quality_search import LadderSearch, scored
from young_prism.core.render.rungs import RungPixels, largest_of, make_rung
from young_prism.core.render.squeeze import pack, squeeze
from young_prism.core.render.verify import find_fault
from young_prism.core.report.formatting import format_bytes
from young_prism.core.types import ImageFormat, Kind, Size
from young_prism.core.vips_image import VipsImage
from young_prism.messages.conversions import (
    DRAWING_NOT_CONVERTED,
    failed_verification,
    no_lossless_mode,
    over_byte_limit,
    size_over_byte_limit,
)

_MOVING = (ImageFormat.AVIF, ImageFormat.WEBP)
"""The formats that animations are turned into."""
_SQUEEZED = (ImageFormat.JPEG, ImageFormat.PNG)
"""The formats whose files are squeezed without a change of any pixel."""
_EXACT = (ImageFormat.JXL, ImageFormat.WEBP, ImageFormat.PNG)
"""The formats that have a lossless mode."""
_SURELY_CLEAR = 250
"""Alpha below which no rounding of an encoder can make a pixel opaque."""
_SETTINGS: dict[ImageFormat, type[Lossy | Png]] = {
    ImageFormat.JXL: Jxl,
    ImageFormat.AVIF: Avif,
    ImageFormat.WEBP: Webp,
    ImageFormat.JPEG: Jpeg,
    ImageFormat.PNG: Png,
}


def _convert_animation(data: bytes, facts: Facts, options: ConvertOptions) -> list[Converted]:
    """Turn an animation into moving files, and into its poster where that is asked for.

    Without a format the smallest of AVIF and WebP is made. AVIF plays for ever: of an animation that does not it is made
    only on request. An animation has no score, so with a target it has the usual quality. JPEG, PNG and JPEG XL have no frames: asked for, they are stills of the first one.

    Args:
        data: The bytes of the animation.
        facts: What an inspection of it found.
        options: Sizes, formats and qualities to make.

    Raises:
        OriginalError: It cannot be decoded.
        DamagedError: A format cannot be without loss, or no quality brings a file below the most bytes.
    """
    animation = read_animation(data, facts.format)
    has_avif = not (animation.loops or options.lossless)
    usual = (ImageFormat.AVIF, ImageFormat.WEBP) if has_avif else (ImageFormat.WEBP,)
    made: list[Converted] = []
    for size in options.sizes_of(facts.size):
        resized = animation.at_size(size)
        formats = [fmt for fmt in options.formats or usual if fmt in _MOVING]
        if options.formats:
            made += [
                _moving_file(resized, fmt, quality, options)
                for fmt in formats
                for quality in options.qualities_of(fmt)
            ]
            continue
        made += [
            min((_moving_file(resized, fmt, quality, options) for fmt in formats), key=_bytes_of)
            for quality in options.qualities_of(formats[0])
        ]
    stills = [fmt for fmt in options.formats if fmt not in _MOVING]
    if options.poster and not stills:
        stills = [ImageFormat.PNG if facts.transparent else ImageFormat.JPEG]
    still_facts = replace(facts, kind=Kind.PHOTO, frames=1)
    still_options = replace(options, formats=tuple(stills))
    made += [
        still._replace(is_poster=True, note=", ".join(filter(None, ("first frame", still.note))))
        for still in (convert(data, still_options, facts=still_facts) if stills else ())
    ]
    return made


def _bytes_of(converted: Converted) -> int:
    return len(converted.data)


def _moving_file(
    animation: Animation, fmt: ImageFormat, quality: int | None, options: ConvertOptions
) -> Converted:
    """Return all frames in one format. Raises `DamagedError`."""
    encode, usual_quality = _moving_encoder(animation, fmt)
    trial = _Trial(encode(quality or usual_quality), quality or usual_quality, "")
    if fmt is ImageFormat.WEBP and quality is None:
        exact = _Trial(encode(None), None, "lossless")
        trial = exact if options.lossless or len(exact.data) <= len(trial.data) else trial
    elif options.lossless:
        raise _no_lossless_mode(fmt)
    most = options.max_bytes
    if most is not None and len(trial.data) > most:
        best = within_bytes(encode, most)
        if best is None:
            raise DamagedError.of(over_byte_limit(label=fmt.label, limit=format_bytes(most)))
        trial = _Trial(best.data, best.quality, f"for at most {format_bytes(most)}")
    ever = "plays for ever" if fmt is ImageFormat.AVIF and animation.loops else ""
    usual = "no score, so the usual quality" if options.target is not None and trial.quality else ""
    note = ", ".join(filter(None, (f"{len(animation.frames)} frames", ever, usual, trial.note)))
    size = Size(*animation.frames[0].size)
    return Converted(trial.data, fmt, size, trial.quality, None, note, quality)


def _moving_encoder(animation: Animation, fmt: ImageFormat) -> tuple[Callable[[int | None], bytes], int]:
    """Return what encodes an animation by a quality, in WebP without loss for None, and the usual quality."""
    usual = AnimationFormats().in_profile(PROFILES[Recipe().formats.profile])
    assert usual.avif and usual.webp  # noqa: S101, PT018  (the defaults)
    avif, webp = usual.avif, usual.webp
    if fmt is ImageFormat.AVIF:
        return lambda quality: encode_avif(
            animation, avif.model_copy(update={"quality": quality})
        ), avif.quality

    def encode(quality: int | None) -> bytes:
        changes = {"lossless": "always"} if quality is None else {"lossless": "never", "quality": quality}
        return encode_webp(animation, webp.model_copy(update=changes))

    return encode, webp.quality


def _no_lossless_mode(fmt: ImageFormat) -> DamagedError:
    return DamagedError.of(no_lossless_mode(fmt.label))


def convert(data: bytes, options: ConvertOptions, *, facts: Facts | None = None) -> list[Converted]:
    """Turn a picture into every size, format and quality that is asked for, in that order.

    Args:
        data: The bytes of the picture.
        options: Sizes, formats and qualities to make.
        facts: What an inspection of the picture found; None to inspect it.

    Raises:
        OriginalError: The picture cannot be read, or is a drawing.
        DamagedError: A file cannot be made, or no quality brings it below the most bytes.
    """
    facts = facts or inspect_bytes(data)
    if facts.kind is Kind.VECTOR:
        raise OriginalError.of(DRAWING_NOT_CONVERTED)
    if facts.kind is Kind.ANIMATION:
        return _convert_animation(data, facts, options)
    picture = _Picture.decoded(data, facts, options)
    return [
        _lossless_file(data, facts, picture, size, fmt)
        if options.lossless
        else picture.converted(size, fmt, quality)
        for size in options.sizes_of(facts.size)
        for fmt in options.formats_of(facts.format, transparent=facts.transparent)
        for quality in options.qualities_of(fmt)
    ]


def _lossless_file(data: bytes, facts: Facts, picture: _Picture, size: Size, fmt: ImageFormat) -> Converted:
    """Return a file with the very pixels: squeezed in its own format, a JPEG packed into JPEG XL, or encoded without loss.

    Args:
        data: The bytes of the picture.
        facts: What an inspection of it found.
        picture: The picture, decoded.
        size: Width and height in pixels.
        fmt: The format.

    Raises:
        DamagedError: The format has no lossless mode, or the file is not as it should be.
    """
    if size == facts.size and fmt is facts.format and fmt in _SQUEEZED:
        squeezed, reason = squeeze(data, facts, Squeeze(), "none")
        return Converted(squeezed, fmt, size, None, None, reason, None)
    if size == facts.size and facts.format is ImageFormat.JPEG and fmt is ImageFormat.JXL and not facts.cmyk:
        packed = pack(data, facts, "none")
        return Converted(packed.data, fmt, size, None, None, packed.proof, None)
    if fmt not in _EXACT:
        raise _no_lossless_mode(fmt)
    return picture.exact(size, fmt)


def unencoded(data: bytes, facts: Facts, size: Size) -> bytes:
    """Return the pixels that files of one size are encoded from, as a lossless WebP for a comparison by eye.

    Args:
        data: The bytes of the picture.
        facts: What an inspection of the picture found.
        size: Width and height in pixels, no larger than the picture.

    Raises:
        DamagedError: The picture cannot be decoded.
    """
    facts = replace(facts, kind=Kind.PHOTO) if facts.kind is Kind.ANIMATION else facts  # its first frame
    options = ConvertOptions(box=size, formats=(ImageFormat.WEBP,))
    picture = _Picture.decoded(data, facts, options)
    settings = Webp(lossless="always", effort=0)
    return encoded(picture.rung(options.sizes_of(facts.size)[-1]).ready_for(settings), settings)


class _Trial(NamedTuple):
    """A file and the quality that it has; None for a lossless one."""

    data: bytes
    quality: int | None
    note: str


@dataclass(slots=True)
class _Picture:
    """A picture, decoded once at its largest size."""

    planned: PlannedOriginal
    largest: VipsImage
    options: ConvertOptions
    _rungs: dict[Size, RungPixels] = field(default_factory=dict)

    @classmethod
    def decoded(cls, data: bytes, facts: Facts, options: ConvertOptions) -> _Picture:
        largest = options.sizes_of(facts.size)[-1]
        ladder = Ladder(widths=(MAX_WIDTH,), box=(largest.width, largest.height))
        [planned] = make_plan({"picture": facts}, Recipe(ladder=ladder)).originals
        return cls(planned, largest_of(data, planned, planned.renditions[0].facet), options)

    def rung(self, size: Size) -> RungPixels:
        if size not in self._rungs:
            facet = self.planned.renditions[0].facet
            self._rungs[size] = make_rung(self.largest, self.planned, facet, size)
        return self._rungs[size]

    def converted(self, size: Size, fmt: ImageFormat, quality: int | None) -> Converted:
        """Return one file. Raises `DamagedError`."""
        settings = self._settings(fmt, quality)
        trial = self._file(size, settings)
        most = self.options.max_bytes
        if most is not None and len(trial.data) > most:
            trial = self._within(most, size, settings)
        self._verify(trial.data, size, settings)
        note = trial.note
        if isinstance(settings, Jpeg) and self.rung(size).pixels.hasalpha():
            note = ", ".join(filter(None, (note, f"on a matte of {settings.matte}")))
        is_exact = trial.quality is None and trial.note in ("", "lossless")
        score = None if is_exact else scored(self.rung(size), settings, trial.data)
        return Converted(trial.data, fmt, size, trial.quality, score, note, quality)

    def exact(self, size: Size, fmt: ImageFormat) -> Converted:
        """Return one file without loss. Raises `DamagedError`."""
        settings = self._settings(fmt, None)
        if isinstance(settings, LossyOrLossless):
            settings = settings.model_copy(update={"lossless": "always"})
        data = encoded(self.rung(size).ready_for(settings), settings)
        self._verify(data, size, settings)
        return Converted(data, fmt, size, None, None, "lossless", None)

    def _settings(self, fmt: ImageFormat, quality: int | None) -> RasterSettings:
        values: dict[str, Any] = {} if quality is None else {"quality": quality}
        if fmt is ImageFormat.JPEG:
            values["matte"] = self.options.matte
        if fmt is not ImageFormat.PNG and self.options.target is not None:
            values["target"] = self.options.target
        settings: Any = _SETTINGS[fmt](**values)
        profile = PROFILES[Recipe().formats.profile]
        filled: RasterSettings = settings.in_profile(profile)
        return filled

    def _file(self, size: Size, settings: RasterSettings) -> _Trial:
        """Encode by a fixed quality, or search the one that reaches the target; a lossless file that is smaller wins."""
        if isinstance(settings, Png):
            return _Trial(encoded(self.rung(size).ready_for(settings), settings), None, "lossless")
        trial = self._lossy_file(size, settings)
        if isinstance(settings, LossyOrLossless) and not self.options.qualities and self._is_graphic:
            exact = settings.model_copy(update={"lossless": "always", "target": None})
            data = encoded(self.rung(size).ready_for(exact), exact)
            if len(data) <= len(trial.data):
                return _Trial(data, None, "lossless")
        return trial

    @property
    def _is_graphic(self) -> bool:
        return self.planned.facts.kind is Kind.GRAPHIC

    def _lossy_file(self, size: Size, settings: LossySettings) -> _Trial:
        if settings.target is None:
            data = encoded(self.rung(size).ready_for(settings), settings)
            return _Trial(data, settings.quality, "")
        ladder = LadderSearch(
            self.rung, encoded, sizes=lambda _: [size], original_bytes=self.planned.facts.bytes
        )
        result = ladder.search(settings, size)
        note = "" if result.reached else f"no quality reaches {settings.target:g}"
        return _Trial(result.data, result.quality, note)

    def _within(self, most: int, size: Size, settings: RasterSettings) -> _Trial:
        """Return the file of the highest quality that has no more bytes. Raises `DamagedError` where none has."""
        limit = format_bytes(most)
        pixels = self.rung(size).ready_for(settings)
        if isinstance(settings, Png):
            few = png.encode_palette(pixels, settings)
            if len(few) <= most:
                return _Trial(few, None, f"a palette, for at most {limit}")
        else:
            fixed = settings.model_copy(update={"target": None})
            best = within_bytes(
                lambda quality: encoded(pixels, fixed.model_copy(update={"quality": quality})), most
            )
            if best:
                return _Trial(best.data, best.quality, f"for at most {limit}")
        raise DamagedError.of(size_over_byte_limit(width=size.width, height=size.height, limit=limit))

    def _verify(self, data: bytes, size: Size, settings: RasterSettings) -> None:
        """Read a file back, as a build does. Raises `DamagedError`."""
        fmt = ImageFormat(type(settings).__name__.lower())
        pixels = self.rung(size).pixels
        is_clear = fmt.has_alpha and pixels.hasalpha() and pixels[pixels.bands - 1].min() < _SURELY_CLEAR
        rendition = self.planned.renditions[0]._replace(format=fmt, size=size, settings=settings)
        fault = find_fault(data, rendition, metadata=self.planned.finishing.metadata, clear=is_clear)
        if fault:
            raise DamagedError.of(failed_verification(label=fmt.label, fault=fault))

"""The plan of one original: its crops, rungs, formats and names; or a copy where it is not resized."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass, replace
from functools import lru_cache
from typing import NamedTuple

from young_prism.core.encode.contract import AvifEncoder, avif_preset
from young_prism.core.images.crops import Crop, largest_crop, smallest_box
from young_prism.core.images.facts import Facts
from young_prism.core.ladder.rungs import rungs_for, visit_shares
from young_prism.core.naming.clean import troublesome_part
from young_prism.core.naming.context import NameContext
from young_prism.core.naming.rule import (
    WHOLE_FACET,
    NameParts,
    compile_name_template,
    folder_of,
    random_name,
    split_name,
    without_size,
)
from young_prism.core.plan.animation import fits_in_memory, plan_animation
from young_prism.core.plan.keys import (
    add_crop,
    add_parent_rung,
    add_sanitiser,
    add_search_chain,
    rendition_key,
    settings_digest,
)
from young_prism.core.plan.model import (
    EncoderSettings,
    PlannedOriginal,
    PlannedRendition,
    WatermarkFile,
    is_searched,
)
from young_prism.core.plan.rendition_names import (
    ONE_NAME,
    distinguish_names,
    quality_part,
    rules_of,
    score_part,
)
from young_prism.core.plan.resolve import format_key, has_watermark, matches, packs_jpeg
from young_prism.core.plan.unsized import UnsizedFiles
from young_prism.core.recipe.codecs import Avif, RasterSettings
from young_prism.core.recipe.finishing import Finishing
from young_prism.core.recipe.formats import (
    Formats,
    TransparentFormatSet,
    VectorFormats,
    ordered_formats,
)
from young_prism.core.recipe.ladder import Ladder
from young_prism.core.recipe.model import Facet, Recipe
from young_prism.core.selection.image_metadata import ImageMetadata
from young_prism.core.types import (
    ImageFormat,
    Kind,
    Size,
)

_LONGEST_SIDE = {ImageFormat.WEBP: 16_383, ImageFormat.AVIF: 16_384}
"""Pixels. WebP: 14 bits a side (RFC 9649, 2.6). AVIF: what decoders in browsers can be relied on for (from memory)."""


class _FormatRows(NamedTuple):
    """The fallback of a kind of picture, and its formats with their settings and the rest of their keys."""

    fallback: ImageFormat
    browsers_without: str
    rows: list[tuple[ImageFormat, RasterSettings, str]]


_SQUEEZABLE = (ImageFormat.JPEG, ImageFormat.PNG, ImageFormat.GIF)


class PlanCache:
    """What all originals of a plan share: settings by format, with the rest of their keys; by identity, for speed."""

    def __init__(self) -> None:
        # The formats and the finishing are kept with what belongs to them: an identity lasts as long as its object.
        self._known: dict[tuple[int, str, int], tuple[Formats, Finishing, _FormatRows]] = {}
        self._rungs: dict[tuple[Size, int], tuple[Ladder, tuple[Size, ...]]] = {}

    def rungs(self, size: Size, ladder: Ladder) -> tuple[Size, ...]:
        """Return the rungs for a size."""
        key = (size, id(ladder))
        if key not in self._rungs:
            self._rungs[key] = (ladder, rungs_for(size, ladder))
        return self._rungs[key][1]

    def formats_for(self, recipe: Recipe, kind: str) -> _FormatRows:
        """Return the fallback of a kind, and each format with its settings and the rest of its key."""
        key = (id(recipe.formats), kind, id(recipe.finishing))
        if key not in self._known:
            formats = recipe.formats.for_kind(kind)
            settings = formats.settings()
            rows = [
                (fmt, settings[fmt], settings_digest(fmt, settings[fmt], recipe.finishing))
                for fmt in ordered_formats(settings, recipe.formats.order)
            ]
            self._known[key] = (
                recipe.formats,
                recipe.finishing,
                _FormatRows(formats.fallback, formats.browsers_without, rows),
            )
        return self._known[key][2]


@dataclass(slots=True)
class OriginalPlanner:
    """Plans one original."""

    path: str
    facts: Facts
    recipe: Recipe
    index: int
    detail: ImageMetadata
    marks: Mapping[str, WatermarkFile]
    clean: Callable[[str], str]
    shared: PlanCache
    context: NameContext
    needs_stem: bool = False
    """Whether a rule without a stem gets one, since this original must be told apart from another."""

    def plan(self, stem: str, title: str | None) -> PlannedOriginal:
        """Plan it under a stem; a typed `title` is one that stays as it is."""
        facts, recipe = self.facts, self.recipe
        own_name = self.path.rpartition("/")[2]
        plain = title or split_name(own_name)[0]
        remarks = []
        renamed = stem != plain
        if renamed:
            remarks.append(f"Another original has the name {plain}; these renditions start with {stem}.")
        stem = stem if title else self.clean(stem) or facts.sha256[:8]
        self.needs_stem = renamed  # or no stem in the world would tell them apart
        folder = self._folder(stem)
        if recipe.formats.squeeze:
            ending = split_name(own_name)[1]
            renditions = [self._squeezed(folder, f"{stem}.{ending}" if ending else stem)]
        elif facts.passes_through:
            renditions, remarks = self._passed_through(folder, stem, remarks)
        else:
            renditions, left = self.cuts(folder, stem)
            remarks += left
        if self._in_place:
            renditions, remarks = self._under_its_name(renditions, remarks)
        troubled = ONE_NAME in remarks
        trouble = troublesome_part(max((rendition.path for rendition in renditions), key=len, default=""))
        if trouble:
            troubled = True
            remarks.append(f"{trouble[0].upper()}{trouble[1:]}.")
        return PlannedOriginal(
            path=self.path,
            facts=facts,
            renditions=tuple(renditions),
            remarks=tuple(remarks),
            finishing=recipe.finishing,
            mark=self._mark,
            renamed=renamed,
            number=self.index,
            first_built=self._first_built,
            troubled=troubled,
        )

    @property
    def _first_built(self) -> str:
        return self.context.first_built.get(self.path, self.context.build_day)

    @property
    def _in_place(self) -> bool:
        return self.recipe.names.layout == "in-place"

    def _under_its_name(
        self, renditions: list[PlannedRendition], remarks: list[str]
    ) -> tuple[list[PlannedRendition], list[str]]:
        """Give the largest rendition in the original's own format its name."""
        of_format = [
            r for r in renditions if r.facet == WHOLE_FACET and r.format is self.facts.format and r.settings
        ]
        if not of_format:
            text = f"It has no rendition in its own format ({self.facts.format.label}): the file stays."
            return renditions, [*remarks, text]
        largest = max(of_format, key=lambda rendition: rendition.size.pixels)
        return [r._replace(path=self.path) if r is largest else r for r in renditions], remarks

    @property
    def _mark(self) -> WatermarkFile | None:
        watermark = self.recipe.finishing.watermark
        return self.marks.get(watermark.name) if watermark else None

    def _folder(self, stem: str) -> str:
        """Return the folder below the output folder that the renditions lie in."""
        layout = self.recipe.names.layout
        if layout == "flat":
            return ""
        if self.recipe.names.into_source:
            return folder_of(self.path)
        parts = [self.clean(part) or "folder" for part in folder_of(self.path).split("/") if part]
        return "/".join([*parts, stem] if layout == "folder-per-original" else parts)

    # Stills

    def cuts(self, folder: str, stem: str) -> tuple[list[PlannedRendition], list[str]]:
        """Plan the whole picture and its facets; return remarks on what cannot be as planned."""
        recipe, geometry = self.recipe, self.detail.geometry
        parts = self._name_parts(stem)
        whole = Crop(self._size, None, geometry.whole) if geometry.changes_whole else None
        renditions, remarks = self._rungs(folder, parts, self._size, recipe.ladder, whole)
        for facet in recipe.facets:
            if facet.match and not matches(facet.match, self.path):
                continue
            more, left = self._facet(folder, parts._replace(facet=facet.name), facet)
            renditions += more
            remarks += [remark for remark in left if remark not in remarks]
        return distinguish_names(renditions, remarks)

    def _name_parts(self, stem: str) -> NameParts:
        facts, names = self.facts, self.recipe.names
        return NameParts(
            stem=stem, format="", ext="", folder=folder_of(self.path).rpartition("/")[2],
            hash=facts.sha256, counter=self.index, date=facts.taken,
            random=random_name(names.secret, facts.sha256) if names.secret else "",
            first_built=self._first_built, modified=self.context.modified.get(self.path, ""),
        )  # fmt: skip

    def _unsized_path(
        self, folder: str, stem: str, fmt: ImageFormat, settings: EncoderSettings | None = None
    ) -> str:
        """Return the path of a file that has no rungs: the name rule without what tells rungs apart."""
        size = self.facts.size
        rule = without_size(
            rules_of(self.recipe.names, WHOLE_FACET, (size,), needs_stem=self.needs_stem)[0][0]
        )
        parts = self._name_parts(stem)._replace(
            format=fmt.value, ext=fmt.ext, quality=quality_part(settings), score=score_part(settings)
        )
        return str(compile_name_template(rule, folder, parts)())

    def _facet(self, folder: str, parts: NameParts, facet: Facet) -> tuple[list[PlannedRendition], list[str]]:
        shaped = self._cut_of(facet)
        # No cut where the original has this shape already.
        cut = None if shaped.size == self._size and shaped.is_simple else shaped
        size = shaped.size
        return self._rungs(folder, parts, size, facet.ladder or self.recipe.ladder, cut)

    @property
    def _size(self) -> Size:
        """The size of the whole picture as a person turned, straightened and cropped it."""
        return self.detail.geometry.size_of(self.facts.size)

    def _cut_of(self, facet: Facet) -> Crop:
        geometry, area = self.detail.geometry, self.detail.geometry.area_of(facet.name)
        if facet.fit == "pad" and facet.ratio:
            return Crop(
                smallest_box(self._size, facet.ratio), None, geometry.whole, area=None, pad=facet.background
            )
        size = area.size(self._size) if area else self._size
        if facet.ratio:
            size = largest_crop(size, facet.ratio)
        focal = self.detail.focal if size != self._size and area is None else None
        return Crop(size, focal, geometry.whole, area)

    def _rungs(
        self, folder: str, parts: NameParts, of: Size, ladder: Ladder, cut: Crop | None
    ) -> tuple[list[PlannedRendition], list[str]]:
        """Plan every format at every rung of one cut."""
        facts, recipe, finishing, facet = self.facts, self.recipe, self.recipe.finishing, parts.facet
        renditions: list[PlannedRendition] = []
        rungs = self.shared.rungs(of, ladder)
        shares = visit_shares(rungs, ladder)
        narrowest = rungs[0].width
        longest = max(rungs[-1])
        mark, held = self._mark, finishing.placeholder != "none"
        rules, remarks = rules_of(recipe.names, facet, rungs, needs_stem=self.needs_stem)
        sha256 = facts.sha256
        formats = self.shared.formats_for(recipe, format_key(facts, recipe.formats))
        if formats.browsers_without:
            remarks.append(f"Without a JPEG or PNG, these show nothing: {formats.browsers_without}.")
        for fmt, settings, common in formats.rows:
            if longest > _LONGEST_SIDE.get(fmt, longest):
                # The whole format: a browser that had chosen it would never see the widest rungs.
                remarks.append(f"{fmt.label} cannot be {longest} px long; the other formats are made.")
                continue
            why = _why(fmt, facts, facet)
            of_format = parts._replace(
                format=fmt.value, ext=fmt.ext, quality=quality_part(settings), score=score_part(settings)
            )
            templates = {rule: compile_name_template(rule, folder, of_format) for rule in set(rules)}
            drawn = facts.kind is Kind.VECTOR
            common = add_sanitiser(common) if drawn else common  # noqa: PLW2901
            plain = add_crop(common, cut) if cut else common
            below = add_parent_rung(plain, rungs[-1])
            searched = is_searched(settings)
            for size, share, rule in zip(rungs, shares, rules, strict=True):
                placeholder = held and size is rungs[0] and fmt is formats.fallback
                top = size is rungs[-1]
                rest = plain if top else below
                by, encoder = _encoder(settings, size, transparent=facts.transparent)
                if packs_jpeg(facts, finishing, settings, size=size, cut=cut, facet=facet):
                    by = ", the JPEG's own data packed without loss"
                if placeholder or mark or encoder:
                    worn = mark if has_watermark(finishing, facet, size, fmt) else None
                    rest = settings_digest(
                        fmt, settings, finishing, worn, placeholder=placeholder, encoder=encoder
                    )
                    rest = add_sanitiser(rest) if drawn else rest
                    if cut:
                        rest = add_crop(rest, cut)
                    if not top:
                        rest = add_parent_rung(rest, rungs[-1])
                if searched:
                    smaller = tuple(rungs[: rungs.index(size)])
                    marked = (
                        sum(has_watermark(finishing, facet, below, fmt) for below in smaller) if mark else 0
                    )
                    rest = add_search_chain(rest, smaller, marked)
                renditions.append(
                    PlannedRendition(
                        templates[rule](width=size.width, height=size.height, density=size.width / narrowest),
                        fmt,
                        size,
                        settings,
                        rendition_key(sha256, size, rest),
                        f"{why}{by}, at the original's own width"
                        if size == facts.size and cut is None
                        else f"{why}{by}",
                        facet,
                        cut,
                        placeholder,
                        facts.transparent,
                        share,
                    )
                )
        return renditions, remarks

    # What is not resized

    def _files(self, folder: str, stem: str) -> UnsizedFiles:
        def path_of(suffix: str, fmt: ImageFormat, settings: EncoderSettings | None) -> str:
            return self._unsized_path(folder, f"{stem}{suffix}", fmt, settings)

        return UnsizedFiles(self.path, self.facts, self.recipe, self._mark, path_of)

    def _squeezed(self, folder: str, name: str) -> PlannedRendition:
        """Plan the same picture with fewer bytes, under its own name."""
        files, path = self._files(folder, name), _join(folder, name)
        squeeze = self.recipe.formats.squeeze
        if self.facts.kind is Kind.VECTOR:
            minified = VectorFormats(sanitise=self.recipe.formats.vector.sanitise, minify=True)
            return files.planned(path, ImageFormat.SVG, self.facts.size, minified, "a drawing in fewer bytes")
        has_target = squeeze is not None and squeeze.target is not None
        is_squeezable = self.facts.format in _SQUEEZABLE or (
            has_target and self.facts.format is ImageFormat.WEBP
        )
        is_too_long = not fits_in_memory(self.facts.frames, self.facts.size)
        moves_elsewhere = self.facts.kind is Kind.ANIMATION and self.facts.format is not ImageFormat.GIF
        if not is_squeezable or is_too_long or moves_elsewhere:
            squeeze = None
        packs = squeeze and squeeze.jpeg_to_jxl and self.facts.format is ImageFormat.JPEG
        if packs and not self.facts.cmyk:
            packed_path = f"{_join(folder, split_name(name)[0])}.{ImageFormat.JXL.ext}"
            text = "the JPEG packed without loss: it can be restored bit by bit"
            return files.planned(packed_path, ImageFormat.JXL, self.facts.size, squeeze, text)
        text = "the same image in fewer bytes" if has_target else "the same pixels in fewer bytes"
        text = text if squeeze else "copied: this format cannot be squeezed"
        if packs:
            squeeze = squeeze and squeeze.model_copy(update={"jpeg_to_jxl": False})
            text += "; JPEG XL cannot pack CMYK"
        return files.planned(path, self.facts.format, self.facts.size, squeeze, text)

    def _passed_through(
        self, folder: str, stem: str, remarks: list[str]
    ) -> tuple[list[PlannedRendition], list[str]]:
        if self.facts.kind is Kind.VECTOR:
            return self._vector(folder, stem, remarks)
        kind = "photo_transparent" if self.facts.transparent else "photo"
        rows = self.shared.formats_for(self.recipe, kind).rows
        poster_formats = [(fmt, settings) for fmt, settings, _ in rows]
        animation = plan_animation(self._files(folder, stem), poster_formats)
        return animation.renditions, [*remarks, *animation.remarks]

    def _vector(self, folder: str, stem: str, remarks: list[str]) -> tuple[list[PlannedRendition], list[str]]:
        """Plan the copy of a drawing, and its raster fallbacks where the recipe asks for them."""
        facts, vector = self.facts, self.recipe.formats.vector
        files = self._files(folder, stem)
        if not (vector.sanitise or vector.minify):
            copy = files.copy("a vector")
        else:
            why = "a vector, without scripts and foreign addresses" if vector.sanitise else "a vector"
            path = files.path(ImageFormat.SVG)
            if files.is_original(path) and not self._in_place:
                path = files.path(ImageFormat.SVG, suffix="-clean")
            settings = VectorFormats(sanitise=vector.sanitise, minify=vector.minify)
            copy = [files.planned(path, ImageFormat.SVG, facts.size, settings, why)]
        if vector.png is None:
            return copy, remarks
        if not facts.size.pixels:
            return copy, [*remarks, "The drawing declares no size, so it has no raster fallback."]
        limit = facts.size.at_width(min(16_383, round(facts.size.width * vector.raster_limit)))
        smaller = replace(self, facts=replace(facts, size=limit), recipe=_raster_recipe(self.recipe))
        fallbacks, left = smaller.cuts(folder, stem)
        return [*copy, *(rendition._replace(reason="fallback for a vector") for rendition in fallbacks)], [
            *remarks,
            *left,
        ]


@lru_cache(maxsize=64)
def _raster_recipe(recipe: Recipe) -> Recipe:
    """Return the recipe by which a drawing's raster fallbacks are made."""
    only = TransparentFormatSet(png=recipe.formats.vector.png)
    formats = recipe.formats.model_copy(update={"photo": only, "photo_transparent": only})
    return recipe.model_copy(update={"formats": formats})


def _join(folder: str, name: str) -> str:
    return f"{folder}/{name}" if folder else name


@lru_cache(maxsize=4096)
def _encoder(settings: EncoderSettings, size: Size, *, transparent: bool) -> tuple[str, AvifEncoder | None]:
    """Return what to say of the encoder of a rendition, and the encoder where the settings alone lead to another one."""
    if not isinstance(settings, Avif):
        return "", None
    encoder = avif_preset(settings, size, transparent=transparent).encoder
    usual = avif_preset(settings).encoder
    if encoder is usual:
        return f", encoded by {encoder.value}", None
    why = "needs more bytes with transparency" if transparent else "does not take this size"
    return f", encoded by {encoder.value}, since {usual.value} {why}", encoder


def _why(fmt: ImageFormat, facts: Facts, facet: str) -> str:
    role = "fallback" if fmt in (ImageFormat.JPEG, ImageFormat.PNG) else "modern format"
    cut = "" if facet == WHOLE_FACET else f", cut “{facet}”"
    return f"{role} for a {facts.kind_label}{cut}"

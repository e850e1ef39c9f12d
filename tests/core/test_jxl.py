"""JPEG XL: read, encoded, packed without loss, and damaged in a thousand ways."""

from __future__ import annotations

import base64
import hashlib
import random
import struct

import numpy as np
import pytest
from bench.fuzz import Outcomes, mutated

from tests.support import jxl, pictures
from young_prism.core.encode.jxl import distance_of
from young_prism.core.errors import DamagedError, TooLargeError
from young_prism.core.inspection.inspect import inspect_bytes
from young_prism.core.pixels.decode import open_image
from young_prism.core.pixels.jxl_profile import encode_with_profile
from young_prism.core.pixels.packed_jpeg import unpack_jpeg
from young_prism.core.pixels.readback import read_back
from young_prism.core.pixels.shape import to_srgb
from young_prism.core.plan.make import make_plan
from young_prism.core.plan.model import PlannedOriginal
from young_prism.core.recipe.codecs import Avif, Jpeg, Jxl, Png, Webp
from young_prism.core.recipe.finishing import Finishing
from young_prism.core.recipe.formats import Formats, FormatSet, Squeeze, TransparentFormatSet
from young_prism.core.recipe.ladder import Ladder
from young_prism.core.recipe.model import Recipe
from young_prism.core.render.render import encode_paths, render
from young_prism.core.render.results import EncodedFile, Rendered
from young_prism.core.types import ImageFormat, Kind, Outcome, Size
from young_prism.core.vips import pyvips

JXL = ImageFormat.JXL


def plan(data: bytes, recipe: Recipe) -> PlannedOriginal:
    return make_plan({"a.jpg": inspect_bytes(data)}, recipe).originals[0]


def rendered(data: bytes, recipe: Recipe) -> list[Rendered]:
    return render(data, plan(data, recipe))


def encoded(data: bytes, recipe: Recipe) -> list[EncodedFile]:
    """The JPEG XL files of a recipe, whether they are worth delivering or not."""
    original = plan(data, recipe)
    paths = [r.path for r in original.renditions if r.format is JXL]
    files = encode_paths(data, original, paths)
    return [files[path] for path in paths]


def only(**formats: object) -> Recipe:
    """A recipe of one rung."""
    still = FormatSet(jpeg=Jpeg(), **formats)
    clear = TransparentFormatSet(png=Png(level=0), **formats)
    return Recipe(
        ladder=Ladder(widths=(2000,)),
        formats=Formats(photo=still, graphic=still, photo_transparent=clear, graphic_transparent=clear),
    )


def test_every_kind_of_file_is_read() -> None:
    facts = {name: inspect_bytes(data) for name, data in jxl.samples().items()}
    assert {f.format for f in facts.values()} == {JXL}
    assert facts["lossy"].size == (90, 60) and facts["turned"].size == (60, 90)
    assert facts["one pixel"].size == (1, 1)
    assert {name for name, f in facts.items() if f.alpha} == {"alpha", "grey with alpha"}
    assert {name for name, f in facts.items() if f.grey} == {"grey", "grey with alpha"}
    assert {name for name, f in facts.items() if f.kind is Kind.ANIMATION} == {"animation"}
    assert facts["16 bit"].bit_depth == 16 and facts["lossy"].bit_depth == 8
    assert facts["metadata"].place == facts["compressed metadata"].place != None  # noqa: E711
    assert "camera" in facts["compressed metadata"].metadata


def test_pixels_of_all_depths_are_those_that_were_encoded() -> None:
    photo = jxl.photo_pixels()
    for name in ("lossless", "16 bit"):
        image = open_image(jxl.samples()[name], JXL)
        assert np.array_equal(to_srgb(image, cmyk=False).numpy(), photo), name


def test_profiles_are_read() -> None:
    """That of a lossless file and of a packed JPEG as it is, that of a lossy one as libjxl describes it."""
    p3 = bytes(pyvips.Operation.call("profile_load", "p3"))
    pixels = jxl.photo_pixels()
    for data in (
        jxl.packed(profile=p3),
        encode_with_profile(pixels, p3, effort=3, distance=0),
        encode_with_profile(pixels, p3, effort=3, distance=1),
    ):
        facts = inspect_bytes(data)
        assert facts.wide_gamut and not facts.srgb
        assert open_image(data, JXL).get_typeof("icc-profile-data")


def test_a_thousand_damaged_files_are_read_or_refused_with_a_sentence() -> None:
    chance, seeds = random.Random(5), list(jxl.samples().values())  # noqa: S311
    outcomes = Outcomes()
    for number in range(1000):
        seed = chance.choice(seeds)
        data = seed[: chance.randrange(len(seed))] if number % 4 == 0 else mutated(seed, chance)
        outcomes.call(lambda data=data: inspect_bytes(data, max_pixels=1_000_000), f"{number}")
    assert not outcomes.faults, outcomes.faults
    assert outcomes.counts["accepted"] > 20 and outcomes.counts["refused"] > 500


def test_gigantic_dimensions_are_refused_before_anything_is_decoded() -> None:
    """18181-1: a size header with 30 bits for each side."""
    bits = 0 | 3 << 1 | (2**30 - 1) << 3 | 0 << 33 | 3 << 36 | (2**30 - 1) << 38
    data = b"\xff\x0a" + (bits | 1 << 68).to_bytes(12, "little")
    with pytest.raises(TooLargeError, match="1,073,741,824 × 1,073,741,824"):
        inspect_bytes(data)


def test_boxes_in_another_order_are_read_and_those_without_pixels_are_not() -> None:
    def box(name: bytes, body: bytes) -> bytes:
        return struct.pack(">I", len(body) + 8) + name + body

    head, codestream = jxl.with_metadata()[:32], jxl.encoded(jxl.photo_pixels())
    data = head + box(b"jxlc", codestream) + box(b"xml ", b"<x/>") + box(b"free", b"\0" * 9)
    assert inspect_bytes(data).size == (90, 60)
    with pytest.raises(DamagedError):
        inspect_bytes(head + box(b"xml ", b"<x/>"))
    with pytest.raises(DamagedError):
        inspect_bytes(head + struct.pack(">I", 3) + b"jxlc" + codestream)


def test_qualities_are_distances_as_libjxl_maps_them() -> None:
    """Libjxl 0.11, lib/jxl/encode.cc, `JxlEncoderDistanceFromQuality`; its command says that 90 is distance 1."""
    assert distance_of(90) == pytest.approx(1.0) and distance_of(68) == pytest.approx(2.98)
    assert distance_of(29.999) == pytest.approx(distance_of(30), abs=0.01)
    distances = [distance_of(quality) for quality in range(1, 101)]
    assert distances == sorted(distances, reverse=True) and distances[-1] > 0 and distances[0] <= 25


def test_lossless_is_lossless_and_transparency_is_kept() -> None:
    for image in (pictures.photo(90, 60), pictures.graphic(90, 60, clear=True)):
        [exact] = encoded(pictures.png(image), only(jxl=Jxl(lossless="always")))
        decoded = open_image(exact.data, JXL).numpy()
        visible = np.asarray(image)
        if visible.shape[2] == 4:  # what is hidden need not be kept
            assert np.array_equal(decoded[..., 3], visible[..., 3])
            decoded, visible = (pixels * (pixels[..., 3:] > 0) for pixels in (decoded, visible))
        assert np.array_equal(decoded, visible)


@pytest.mark.parametrize("target", [60, 75])
def test_a_target_is_reached(target: int) -> None:
    [rendition] = [
        r
        for r in rendered(pictures.png(pictures.photo(320, 240)), only(jxl=Jxl(target=target, effort=3)))
        if r.planned.format is JXL
    ]
    score = float(rendition.reason.partition("score ")[2].split(" ")[0])
    assert target <= score <= target + 2.0, rendition.reason


def test_a_jpeg_of_the_rungs_own_size_is_packed_and_restored() -> None:
    data = pictures.jpeg(pictures.photo(300, 200), quality=95)
    recipe = only(jxl=Jxl(from_jpeg=True))
    recipe = recipe.model_copy(
        update={"ladder": Ladder(widths=(150, 300)), "finishing": Finishing(metadata="all")}
    )
    [small, whole] = encoded(data, recipe)
    assert "packed without loss" in whole.reason and "packed" not in small.reason
    assert unpack_jpeg(whole.data) == data and whole.is_kept
    assert (
        hashlib.sha256(data).hexdigest()[:16] in whole.reason and "compared with the original" in whole.reason
    )
    with pytest.raises(DamagedError, match="not packed from a JPEG"):
        unpack_jpeg(small.data)
    with pytest.raises(DamagedError, match="cannot be restored"):
        unpack_jpeg(whole.data[:-200])


def test_without_metadata_the_cleaned_jpeg_is_what_is_proven() -> None:
    exif = jxl.camera_exif(has_place=True).tobytes()
    data = pictures.jpeg(pictures.photo(300, 200), exif=exif)
    recipe = Recipe(formats=Formats(squeeze=Squeeze(jpeg_to_jxl=True)))
    [packed] = rendered(data, recipe)
    assert packed.planned.path == "a.jxl" and "compared with the JPEG with no metadata" in packed.reason
    restored = unpack_jpeg(packed.data)
    assert restored != data and b"Exif" not in restored and not inspect_bytes(packed.data).metadata
    assert len(packed.data) < len(data)


def test_a_jpeg_that_cannot_be_packed_fails_alone(monkeypatch: pytest.MonkeyPatch) -> None:
    """Its other formats are made; squeezed, it is the one file that fails."""
    monkeypatch.setattr("young_prism.core.encode.jxl.pack_jpeg", lambda _data: b"not what was packed")
    data = pictures.jpeg(pictures.photo(300, 200))
    [lossy] = encoded(data, only(jxl=Jxl(from_jpeg=True)))
    assert inspect_bytes(lossy.data).size == (300, 200) and not lossy.fault
    [failed] = rendered(data, Recipe(formats=Formats(squeeze=Squeeze(jpeg_to_jxl=True))))
    assert failed.outcome is Outcome.FAILED and "cannot pack" in failed.reason


ARITHMETIC = base64.b64decode(
    "/9j/4AAQSkZJRgABAQAAAQABAAD/2wBDAA0JCgsKCA0LCgsODg0PEyAVExISEyccHhcgLikxMC4pLSwzOko+MzZGNywtQFdBRkxO"
    "UlNSMj5aYVpQYEpRUk//2wBDAQ4ODhMREyYVFSZPNS01T09PT09PT09PT09PT09PT09PT09PT09PT09PT09PT09PT09PT09PT09P"
    "T09PT09PT0//yQARCAAQABgDASIAAhEBAxEB/8wACgAQEAUBEBEF/9oADAMBAAIRAxEAPwD9pmqBde9PtJ6tT3DUm60KYAJZRySl"
    "rHj7L6XjCZeo1n6tZKRjbUrNfkS7yvH9fyIOUX/0/9k="
)
"""A JPEG with arithmetic coding, by `jpegtran -arithmetic`."""


def test_a_jpeg_with_arithmetic_coding_is_not_packed() -> None:
    [failed] = rendered(ARITHMETIC, Recipe(formats=Formats(squeeze=Squeeze(jpeg_to_jxl=True))))
    assert failed.outcome is Outcome.FAILED and "cannot pack" in failed.reason
    [lossy] = encoded(ARITHMETIC, only(jxl=Jxl(from_jpeg=True)))
    assert inspect_bytes(lossy.data).size == (24, 16) and not lossy.fault


def test_cmyk_is_squeezed_as_a_jpeg() -> None:
    cmyk = pictures.jpeg(pictures.photo(300, 200).convert("CMYK"))
    [squeezed] = plan(cmyk, Recipe(formats=Formats(squeeze=Squeeze(jpeg_to_jxl=True)))).renditions
    assert squeezed.path == "a.jpg" and "cannot pack CMYK" in squeezed.reason


@pytest.mark.parametrize("settings", [Jxl(), Jxl(lossless="always"), Jxl(target=75)])
def test_colours_beyond_srgb_are_kept(settings: Jxl) -> None:
    """A pure green of Display P3, which sRGB cannot show, is still one."""
    p3 = bytes(pyvips.Operation.call("profile_load", "p3"))
    image = pictures.photo(300, 200)
    image.paste((0, 255, 0), (20, 20, 120, 120))
    wide = pictures.jpeg(image, icc_profile=p3, quality=100, subsampling=0)
    recipe = only(jxl=settings).model_copy(update={"finishing": Finishing(colour="keep-wide-gamut")})
    [file] = encoded(wide, recipe)
    assert not file.fault and inspect_bytes(file.data).wide_gamut
    assert abs(read_back(file.data, JXL)[70, 70].astype(int) - (0, 255, 0)).max() <= 20


def test_the_order_is_by_support_or_the_recipes_own() -> None:
    data = pictures.jpeg(pictures.photo(300, 200))
    recipe = only(jxl=Jxl(), avif=Avif(), webp=Webp())
    formats = recipe.formats.model_copy(update={"order": ("webp", "jxl")})

    def order(recipe: Recipe) -> list[str]:
        return [r.format.value for r in plan(data, recipe).renditions]

    assert order(recipe) == ["jxl", "avif", "webp", "jpeg"]
    assert order(recipe.model_copy(update={"formats": formats})) == ["webp", "jxl", "avif", "jpeg"]


@pytest.mark.parametrize("size", [Size(1, 1), Size(1, 64), Size(64, 1), Size(2, 3), Size(63, 64)])
def test_small_sides_are_encoded(size: Size) -> None:
    data = pictures.png(pictures.photo(*size))
    [exact] = encoded(data, only(jxl=Jxl(lossless="always")))
    assert not exact.fault and np.array_equal(read_back(exact.data, JXL), jxl.photo_pixels(*size))

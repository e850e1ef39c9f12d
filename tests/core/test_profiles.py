"""Efforts: which encoder they lead to, what a profile fills in, and what of it is in the plan and its keys."""

from __future__ import annotations

import pytest

from tests.core.test_plan import facts
from young_prism.core.encode.contract import AvifEncoder, avif_preset, proxy_preset
from young_prism.core.plan.estimate import ProfileEstimate, estimate_profiles
from young_prism.core.plan.make import make_plan
from young_prism.core.plan.model import PlannedRendition
from young_prism.core.recipe.codecs import Avif, Jpeg, Jxl, Png, Webp
from young_prism.core.recipe.edit import value_at, with_value
from young_prism.core.recipe.formats import Formats, FormatSet, TransparentFormatSet
from young_prism.core.recipe.model import Recipe
from young_prism.core.recipe.toml import parsed, read_recipe, write_recipe
from young_prism.core.types import ImageFormat, Size

LIBAOM, SVT_AV1 = AvifEncoder.LIBAOM, AvifEncoder.SVT_AV1


def avif_of(size: tuple[int, int], avif: Avif) -> PlannedRendition:
    formats = FormatSet(avif=avif, jpeg=Jpeg())
    plan = make_plan({"a.jpg": facts(*size)}, Recipe(formats=Formats(photo=formats)))
    return next(r for r in plan.originals[0].renditions if r.format is ImageFormat.AVIF)


@pytest.mark.parametrize(
    ("settings", "size", "encoder", "has_proxy"),
    [
        (Avif(effort=0), Size(1200, 800), SVT_AV1, False),
        (Avif(effort=1), Size(1200, 800), SVT_AV1, False),
        (Avif(effort=2), Size(1200, 800), SVT_AV1, True),
        (Avif(effort=3), Size(1200, 800), LIBAOM, True),
        (Avif(effort=9), Size(1200, 800), LIBAOM, True),
        (Avif(effort=2, chroma="4:4:4"), Size(1200, 800), LIBAOM, True),
        (Avif(effort=1, chroma="4:4:4"), Size(1200, 800), LIBAOM, False),
        (Avif(effort=2), Size(4, 8704), SVT_AV1, True),
        (Avif(effort=2), Size(3, 8704), LIBAOM, True),
        (Avif(effort=2), Size(8705, 4), LIBAOM, True),
    ],
)
def test_the_fast_efforts_lead_to_svt_av1_where_that_can_encode(
    settings: Avif, size: Size, encoder: AvifEncoder, has_proxy: bool
) -> None:
    assert avif_preset(settings, size).encoder is encoder
    proxy = proxy_preset(settings, size)
    assert (proxy is not None) is has_proxy
    assert proxy is None or proxy.encoder is encoder


def test_a_plan_names_the_encoder_and_its_keys_depend_on_it() -> None:
    fast, slow = avif_of((900, 600), Avif(effort=2)), avif_of((900, 600), Avif(effort=3))
    assert (fast.encoder, slow.encoder) == (SVT_AV1, LIBAOM)
    assert "encoded by SVT-AV1" in fast.reason and "encoded by libaom" in slow.reason
    narrow = avif_of((3, 2), Avif(effort=2))
    assert narrow.encoder is LIBAOM and "since SVT-AV1 does not take this size" in narrow.reason
    digests = {rendition.key.rpartition("-")[2] for rendition in (fast, slow, narrow)}
    assert len(digests) == 3


def test_transparency_goes_to_libaom() -> None:
    formats = Formats(photo_transparent=TransparentFormatSet(avif=Avif(effort=2), png=Png()))
    clear = {"a.png": facts(400, transparent=True, format=ImageFormat.PNG)}
    keys = {}
    for name, original in (("clear", clear), ("opaque", {"a.jpg": facts(400)})):
        avif = formats.photo_transparent.avif if name == "clear" else Avif(effort=2)
        recipe = Recipe(
            formats=Formats(
                photo=FormatSet(avif=avif, jpeg=Jpeg()), photo_transparent=formats.photo_transparent
            )
        )
        rendition = make_plan(original, recipe).originals[0].renditions[0]
        keys[name] = rendition.key.rpartition("-")[2]
        assert rendition.encoder is (LIBAOM if name == "clear" else SVT_AV1)
    assert keys["clear"] != keys["opaque"]
    assert Formats().for_kind("photo_transparent").avif.effort == 3


def test_a_profile_fills_in_what_a_recipe_leaves_out() -> None:
    formats = FormatSet(target=72, avif=Avif(), webp=Webp(effort=6), jpeg=Jpeg(tolerance=2), png=None)
    efforts = {}
    for profile in ("fast", "balanced", "smallest"):
        chosen = Formats(profile=profile, photo=formats).for_kind("photo").settings()
        avif, webp, jpeg = (chosen[fmt] for fmt in (ImageFormat.AVIF, ImageFormat.WEBP, ImageFormat.JPEG))
        efforts[profile] = (avif.effort, avif.tolerance)
        assert (webp.effort, jpeg.tolerance) == (6, 2)
    assert efforts["fast"][0] < efforts["balanced"][0] < efforts["smallest"][0]
    assert efforts["fast"][1] > efforts["balanced"][1] > efforts["smallest"][1]
    graphic = Formats(profile="fast").for_kind("graphic")
    assert graphic.png == Png(level=1) and graphic.avif is None and graphic.jxl.effort == 4
    assert Formats(profile="fast").for_animations().webp.effort == 2
    smallest = Formats(profile="smallest")
    assert (smallest.for_kind("photo").jxl.effort, smallest.for_kind("graphic").jxl.effort) == (5, 7)


def test_a_profile_survives_a_recipe_that_is_written_out() -> None:
    """All values are spelt out in the file, but not those that a profile fills in: another profile still counts."""
    recipe = Recipe(formats=Formats(profile="smallest"))
    text = write_recipe(recipe)
    assert read_recipe(text) == recipe
    fast = read_recipe(text.replace('profile = "smallest"', 'profile = "fast"'))
    assert fast == Recipe(formats=Formats(profile="fast"))
    assert [fmt.value for fmt in fast.formats.photo.settings()] == ["jxl", "webp", "jpeg"]


def test_formats_that_a_recipe_names_stay_in_every_profile() -> None:
    formats = read_recipe("[formats.photo]\navif = {}\njpeg = {}\n").formats
    assert formats.with_profile("fast").photo == FormatSet(avif=Avif(), jpeg=Jpeg())
    assert formats.with_profile("fast").graphic.avif is None and formats.graphic.avif is not None
    assert formats.with_profile("smallest").photo_transparent.jxl == Jxl()


@pytest.mark.parametrize("profile", ["fast", "balanced"])
def test_controls_show_the_formats_of_the_profile_and_change_nothing_else(profile: str) -> None:
    text = f'[formats]\nprofile = "{profile}"\n'
    before = read_recipe(text)
    avif = value_at(parsed(text), "formats.photo.avif")
    assert avif == (None if profile == "fast" else Avif().model_dump(exclude_none=True))
    changed = read_recipe(with_value(text, "formats.photo.webp.quality", 70)).formats.photo
    assert changed == before.formats.photo.model_copy(update={"webp": Webp(quality=70)})


def test_fixed_qualities_have_no_tolerance_in_their_keys() -> None:
    chosen = Formats().for_kind("photo").settings()
    assert {part.tolerance for part in chosen.values()} == {None}


def test_profiles_are_estimated_in_the_order_of_their_names() -> None:
    """What is faster has more bytes; a plan of many originals is judged by some of them."""
    formats = FormatSet(target=72, avif=Avif(), webp=Webp(), jpeg=Jpeg())
    recipe = Recipe(formats=Formats(photo=formats))

    def estimates(originals: int, recipe: Recipe = recipe) -> dict[str, ProfileEstimate]:
        values = {f"{n}.jpg": facts(900, 600, sha256=f"{n:064x}") for n in range(originals)}
        return estimate_profiles(make_plan(values, recipe))

    few, many = estimates(10), estimates(1000)
    assert few["fast"].bytes > few["balanced"].bytes > few["smallest"].bytes
    assert estimates(10, Recipe())["fast"].work < 0.4 * estimates(10, Recipe())["balanced"].work
    assert few["fast"].work < few["balanced"].work < few["smallest"].work
    assert all(many[name].bytes == pytest.approx(100 * few[name].bytes) for name in many)
    assert estimates(0)["fast"] == (0, 0)

"""Candidates by their short names, what stands for the rest, the curve, choices in the recipe, and the staircase of the eye."""

from __future__ import annotations

import random

import pytest

from tests.support import pictures
from young_prism.core.errors import RecipeError
from young_prism.core.inspection.inspect import inspect_bytes
from young_prism.core.proof.apply_choice import (
    ChoiceScope,
    apply_choice,
    band_changes,
    candidate_changes,
    target_changes,
)
from young_prism.core.proof.candidate import candidate_of, name_of
from young_prism.core.proof.curve import Point, at_score
from young_prism.core.proof.suggest import curve_names, first_strip, representative_originals
from young_prism.core.recipe.codecs import Avif, Jpeg, Png, Webp
from young_prism.core.recipe.formats import Formats, FormatSet, TransparentFormatSet
from young_prism.core.recipe.model import Recipe
from young_prism.core.recipe.toml import read_recipe, write_recipe
from young_prism.core.score.staircase import (
    EyeLimit,
    next_level,
    verdict,
)

PHOTO = Formats().photo.settings()
GRAPHIC = Formats().graphic.settings()


@pytest.mark.parametrize(
    ("name", "label", "settings", "sharpen"),
    [
        ("avif-58", "AVIF 58", Avif(quality=58), False),
        ("avif-58-444-e5", "AVIF 58 4:4:4 effort 5", Avif(quality=58, chroma="4:4:4", effort=5), False),
        ("webp-lossless", "WebP lossless", Webp(lossless="always"), False),
        ("webp-near60", "WebP near-lossless 60", Webp(lossless="always", near_lossless=60), False),
        ("jpeg-80-sharp", "JPEG 80 sharpened", Jpeg(quality=80, matte="#ffffff"), True),
        ("png-palette", "PNG palette", Png(palette=10), False),
    ],
)
def test_a_short_name_says_how_a_candidate_is_made(
    name: str, label: str, settings: object, sharpen: bool
) -> None:
    candidate = candidate_of(name, PHOTO)
    assert (candidate.label, candidate.sharpen, candidate.name) == (label, sharpen, name)
    assert candidate.settings == settings


@pytest.mark.parametrize(
    "name",
    [
        "",
        "avif",
        "gif-40",
        "avif-0",
        "avif-101",
        "avif-near60",
        "webp-75-444",
        "png-80",
        "avif-58-58",
        "avif-58-e10",
        "../x",
    ],
)
def test_what_is_no_candidate_is_said(name: str) -> None:
    with pytest.raises(RecipeError, match="is not a candidate"):
        candidate_of(name, PHOTO)


def test_a_candidate_has_the_recipe_s_effort_and_none_of_its_targets() -> None:
    formats = FormatSet(
        target=70, avif=Avif(effort=1), webp=Webp(effort=2, lossless="when-smaller"), png=Png()
    )
    for name in ("avif-40", "webp-40"):
        settings = candidate_of(name, formats.settings()).settings
        assert not isinstance(settings, Png) and settings.target is None
    assert candidate_of("avif-40", formats.settings()).settings == Avif(quality=40, effort=1)
    assert name_of(Webp(lossless="always", near_lossless=40)) == "webp-near40"


def test_every_suggested_name_is_a_candidate() -> None:
    for key in ("photo", "photo_transparent", "graphic", "graphic_transparent"):
        formats = getattr(Formats(), key)
        for drawn in (False, True):
            names = [*first_strip(formats), *curve_names(formats, drawn=drawn)]
            assert all(candidate_of(name, formats.settings()).name == name for name in names)
    for odd in (
        FormatSet(png=Png()),
        FormatSet(webp=Webp(lossless="always"), png=Png()),
        TransparentFormatSet(jpeg=Jpeg(matte="#ffffff")),
    ):
        assert len({candidate_of(name, odd.settings()).name for name in first_strip(odd)}) >= 2


def test_a_few_stand_for_the_rest_each_once() -> None:
    files = {
        "heavy.png": pictures.png(pictures.photo(900, 600)),
        "rough.jpg": pictures.jpeg(pictures.photo(640, 420, 2), quality=95),
        "flat.jpg": pictures.jpeg(pictures.photo(640, 420, 3), quality=10),
        "drawn.png": pictures.png(pictures.graphic(500, 300)),
        "clear.png": pictures.png(pictures.graphic(300, 300, clear=True)),
        "icon.png": pictures.png(pictures.graphic(30, 30, clear=True)),
    }
    result = representative_originals({path: inspect_bytes(data) for path, data in files.items()})
    assert [item.path for item in result] == ["heavy.png", "rough.jpg", "flat.jpg", "drawn.png", "clear.png"]
    assert representative_originals({}) == []


def test_what_a_target_needs_is_read_off_between_measured_points() -> None:
    line = [Point(60, 10_000, 40), Point(70, 20_000, 60), Point(69, 25_000, 65), Point(80, 40_000, 80)]
    between = at_score(line, 75)
    assert between is not None and between.bytes == pytest.approx(28_284, abs=1) and between.quality == 70
    assert at_score(line, 60).bytes == 10_000  # type: ignore[union-attr]
    assert at_score(line, 59.9) is None and at_score(line, 81) is None and at_score(line[:1], 60) is None


FACTS = inspect_bytes(pictures.jpeg(pictures.photo(400, 300)))
CLEAR = inspect_bytes(pictures.png(pictures.graphic(400, 300, clear=True)))


def test_a_target_is_written_for_a_kind_a_folder_or_one_original() -> None:
    text = '# ours\nname = "Site"\n\n[formats.photo]\nband = [60, 80]\n\n[formats.photo.avif]\nquality = 50\ntarget = 70\n\n[formats.photo.jpeg]\n'
    kind = apply_choice(text, "a/b.jpg", FACTS, ChoiceScope.KIND, target_changes(76.0))
    photo = read_recipe(kind).formats.photo
    assert photo.target == 76 and photo.band is None and photo.avif == Avif(quality=50)
    assert kind.startswith("# ours")
    item = apply_choice(kind, "a/b [1].jpg", FACTS, ChoiceScope.ORIGINAL, target_changes(90))
    folder = apply_choice(item, "a/c.jpg", FACTS, ChoiceScope.FOLDER, band_changes(60, 70.5))
    recipe = read_recipe(folder)
    # Of several exceptions the last one counts: the one for a single original stays behind that for its folder.
    assert [override.match for override in recipe.overrides] == ["/a/**", "/a/b \\[1\\].jpg"]
    assert recipe.overrides[0].formats and recipe.overrides[0].formats.photo.band == (60, 70.5)
    assert recipe.overrides[1].formats and recipe.overrides[1].formats.photo.target == 90
    again = apply_choice(folder, "a/b [1].jpg", FACTS, ChoiceScope.ORIGINAL, target_changes(91))
    assert len(read_recipe(again).overrides) == 2
    with pytest.raises(RecipeError, match="is in no folder"):
        apply_choice(text, "b.jpg", FACTS, ChoiceScope.FOLDER, target_changes(70))


def test_a_candidate_is_written_with_all_that_makes_it() -> None:
    text = write_recipe(Recipe())

    def chosen(name: str, facts: object = FACTS, score: float | None = 88.6) -> Recipe:
        candidate = candidate_of(name, PHOTO)
        return read_recipe(
            apply_choice(text, "x/a.png", facts, ChoiceScope.KIND, candidate_changes(candidate, score))  # type: ignore[arg-type]
        )

    assert chosen("avif-33-444").formats.photo.avif == Avif(quality=33, chroma="4:4:4")
    assert chosen("webp-near60").formats.photo.webp == Webp(lossless="always", near_lossless=60)
    assert chosen("webp-40").formats.photo.webp == Webp(quality=40)
    # One fallback: the other makes way, and the palette is held to what it scored here.
    palette = chosen("png-palette").formats.photo
    assert palette.png == Png(palette=88) and palette.jpeg is None
    jpeg = chosen("jpeg-70", CLEAR).formats.graphic_transparent
    assert jpeg.jpeg == Jpeg(quality=70, matte="#ffffff") and jpeg.png is None


@pytest.mark.parametrize("limit", [62, 75, 88])
def test_the_staircase_ends_near_what_an_eye_can_see(limit: float) -> None:
    """Eyes that see everything well under their limit, guess well over it, and something between near it."""
    scores = [20, 35, 48, 58, 65, 70, 75, 80, 84, 88, 92, 95]
    result = []
    for seed in range(60):
        rng = random.Random(seed)  # noqa: S311  (not for secrets)
        answers: list[bool] = []
        while (level := next_level(len(scores), answers)) is not None:
            seen = min(1.0, max(0.0, (limit + 5 - scores[level]) / 10))
            answers.append(rng.random() < seen or rng.random() < 0.5)
        assert len(answers) <= 24
        result.append(verdict(scores, answers).score)
    assert abs(sorted(result)[30] - limit) <= 6


def test_eyes_that_see_all_or_nothing_are_told_so() -> None:
    scores = [20.0, 50.0, 80.0, 95.0]
    for right, seen, score in ((True, EyeLimit.EVERYTHING, 95.0), (False, EyeLimit.NOTHING, 20.0)):
        answers: list[bool] = []
        while next_level(len(scores), answers) is not None:
            answers.append(right)
        assert verdict(scores, answers)[:2] == (seen, score) and len(answers) <= 12

"""The score against the PyPI package `ssimulacra2`, SSIM against scikit-image, and the search against trying everything."""

from __future__ import annotations

import io
from collections.abc import Callable
from functools import partial
from itertools import pairwise
from pathlib import Path
from typing import Any

import numpy as np
import pytest
import pyvips
from hypothesis import given, settings
from hypothesis import strategies as st
from PIL import Image
from skimage import data as real
from skimage.color import rgb2gray
from skimage.metrics import structural_similarity
from ssimulacra2.ssimulacra2 import compute_ssimulacra2

from tests.support import pictures
from young_prism.core.encode import avif, jpeg, jxl, webp
from young_prism.core.encode.contract import avif_preset
from young_prism.core.inspection.inspect import inspect_bytes
from young_prism.core.pixels.readback import read_back
from young_prism.core.plan.make import make_plan
from young_prism.core.proof.bench import worst_window
from young_prism.core.recipe.codecs import Avif, Jpeg, Jxl, LossySettings, Png, Webp
from young_prism.core.recipe.formats import Formats, FormatSet
from young_prism.core.recipe.ladder import Ladder
from young_prism.core.recipe.model import Recipe
from young_prism.core.render import encoding
from young_prism.core.render.quality_search import search_quality
from young_prism.core.render.render import render
from young_prism.core.score import Reference, metric, portable, ssimulacra2
from young_prism.core.score.curves import HIGHEST, LOWEST, USUAL_CURVES, ScoreCurve
from young_prism.core.score.padding import PaddedReference
from young_prism.core.score.search import Proxy, Trials, smallest_quality
from young_prism.core.score.ssim import ssim
from young_prism.core.types import ImageFormat, Size


def by_package(original: Image.Image, candidate: Image.Image, folder: Path) -> float:
    original.convert("RGB").save(folder / "o.png")
    candidate.convert("RGB").save(folder / "c.png")
    return float(compute_ssimulacra2(folder / "o.png", folder / "c.png"))


def encoded(image: Image.Image, fmt: str, quality: int) -> Image.Image:
    buffer = io.BytesIO()
    image.save(buffer, fmt, quality=quality)
    return Image.open(buffer).convert("RGB")


ORIGINALS = {
    "photo": lambda: Image.fromarray(real.astronaut()[:288, 100:388]),
    "odd sizes": lambda: Image.fromarray(real.coffee()[:237, :301]),
    "graphic": lambda: pictures.graphic(301, 201),
    "small": lambda: Image.fromarray(real.chelsea()).resize((151, 97)),
}


@pytest.mark.parametrize("name", ORIGINALS)
@pytest.mark.parametrize(("fmt", "quality"), [("JPEG", 8), ("JPEG", 60), ("WEBP", 30), ("WEBP", 90)])
def test_scores_are_those_of_the_package(name: str, fmt: str, quality: int, tmp_path: Path) -> None:
    original = ORIGINALS[name]()
    candidate = encoded(original, fmt, quality)
    owned = ssimulacra2(np.asarray(original), np.asarray(candidate))
    # What is left out and float32 cost at most 0.003 points (docs/performance.md).
    assert owned == pytest.approx(by_package(original, candidate, tmp_path), abs=0.01)


@settings(max_examples=40, deadline=None)
@given(st.integers(8, 90), st.integers(8, 90), st.integers(0, 2**32 - 1), st.floats(0, 60))
def test_both_implementations_give_the_same_bits(height: int, width: int, seed: int, noise: float) -> None:
    """Otherwise the files of a build would depend on whether its machine had a C compiler."""
    from young_prism.core.score import compiled  # without a C compiler these tests fail, and no others

    rng = np.random.default_rng(seed)
    smooth = Image.fromarray(rng.integers(0, 256, (4, 4, 4), dtype=np.uint8)).resize((width, height))
    original = np.asarray(smooth)[:, :, : 3 + seed % 2]
    changed = np.clip(original + rng.normal(0, noise, original.shape), 0, 255).astype(np.uint8)
    results = []
    for implementation in (compiled, portable):
        with pytest.MonkeyPatch.context() as patch:
            patch.setattr(metric, "implementation", implementation)
            results.append(Reference(original).difference(changed))
    (score, where), (portable_score, portable_where) = results
    assert score == portable_score
    assert np.array_equal(where, portable_where)


@pytest.mark.parametrize("content", [None, b"for another machine"])
def test_a_library_that_cannot_be_loaded_is_an_import_error(content: bytes | None, tmp_path: Path) -> None:
    """Then the portable implementation is used."""
    from young_prism.core.score import compiled

    file = tmp_path / "metric.bin"
    if content:
        file.write_bytes(content)
    with pytest.raises(ImportError, match=r"metric\.bin"):
        compiled.load_library(file)


def test_the_same_picture_scores_a_hundred_and_other_noise_far_less(tmp_path: Path) -> None:
    pixels = real.astronaut()
    assert ssimulacra2(pixels, pixels) > 99.9
    flat = np.full((64, 64, 3), 128, np.uint8)
    package = by_package(Image.fromarray(flat), Image.fromarray(flat), tmp_path)
    assert ssimulacra2(flat, flat) == pytest.approx(package, abs=0.05)
    assert ssimulacra2(pixels, pixels[::-1].copy()) < 0


def test_what_differs_only_on_one_ground_is_seen_on_it() -> None:
    clear = np.zeros((64, 64, 4), np.uint8)
    clear[16:48, 16:48] = (255, 255, 255, 255)
    lost = clear.copy()
    lost[..., 3] = 0  # white on a light ground is hardly missed, on a dark one it is
    assert ssimulacra2(clear, lost) < 20
    hidden = clear.copy()
    hidden[:8, :8, :3] = 200  # what is behind full transparency does not count
    assert ssimulacra2(clear, hidden) > 99


def test_ssim_does_not_see_the_colour_of_what_is_transparent() -> None:
    """A lossless WebP keeps what shows and may change the rest: it is the same picture."""
    rng = np.random.default_rng(1)
    picture = rng.integers(0, 255, (64, 64, 4), dtype=np.uint8)
    picture[..., 3] = 255
    picture[:, :32, 3] = 0
    hidden = picture.copy()
    hidden[:, :32, :3] = 0
    assert ssim(picture, hidden) == pytest.approx(1, abs=1e-6)
    opaque = picture.copy()
    opaque[..., 3] = 255
    assert ssim(picture, opaque) < 0.9 and ssim(picture, opaque[..., :3]) == ssim(picture, opaque)
    visible = picture.copy()
    visible[:, 40:50, :3] = 0
    assert ssim(picture, visible) < 0.95


@pytest.mark.parametrize("shape", [(7, 90, 3), (90, 90), (90, 90, 2)])
def test_what_cannot_be_scored_is_refused(shape: tuple[int, ...]) -> None:
    with pytest.raises(ValueError, match=r"too small|is wanted"):
        Reference(np.zeros(shape, np.uint8))
    with pytest.raises(ValueError, match=r"is wanted"):
        Reference(np.zeros((90, 90, 3), np.uint8)).score(np.zeros((90, 90, 3), np.float32))  # type: ignore[arg-type]


@settings(max_examples=200, deadline=None)
@given(st.floats(20, 100), st.floats(0.2, 1.6), st.floats(10, 95), st.integers(1, 100), st.floats(0, 0.3))
def test_the_search_finds_a_quality_at_the_target_and_none_much_better(
    top: float, slope: float, target: float, first: int, bump: float
) -> None:
    """On scores that rise with quality, with small steps down as encoders have them."""

    def score(quality: int) -> float:
        return top - slope * (HIGHEST - quality) + (bump if quality % 3 else 0)

    usual = ScoreCurve((LOWEST, HIGHEST), (0, 0.7 * (HIGHEST - LOWEST)))
    result = smallest_quality(Trials(lambda quality: quality, score), target, first, usual, tolerance=0.9)
    assert result.encodings <= 12 and result.score == score(result.quality)
    if result.reached:
        assert result.score >= target
        enough = result.score <= target + 0.9 or result.quality == LOWEST
        # Or one step at most: where steps are larger than that, the next one down is below.
        assert (
            enough
            or score(result.quality - 1) < target
            or result.score - target <= 0.9 * max(slope, 0.7) + 0.3
        )
    else:
        assert result.quality == HIGHEST and score(HIGHEST) < target


@settings(max_examples=200, deadline=None)
@given(st.floats(0.7, 1.5), st.integers(10, 90), st.integers(-25, 25), st.floats(-4, 9))
def test_a_quick_encoder_says_where_a_slow_one_reaches_its_target(
    pace: float, needed: int, off: int, gap: float
) -> None:
    """Their scores rise alike, on a curve that is flatter at high qualities, with a gap between them."""
    steps = [1.4 - 1.1 * step / 92 for step in range(92)]
    usual = ScoreCurve(tuple(range(LOWEST, HIGHEST + 1)), tuple(sum(steps[:step]) for step in range(93)))

    def quick(quality: float) -> float:
        return pace * usual.gain(LOWEST, quality)

    trials: Trials[bytes] = Trials(lambda quality: bytes([quality]), lambda file: quick(file[0]))
    proxy = Proxy(trials, usual)
    target = quick(needed) + gap
    guess = proxy.quality_for(target - gap, needed + off, (LOWEST, HIGHEST))
    assert abs(guess - needed) <= 1.5 and len(trials.done) <= 3
    assert abs(proxy.score_at(needed) - quick(needed)) <= 1.5 * usual.gain(needed, needed + 1)


@pytest.mark.parametrize("fmt", sorted(USUAL_CURVES))
def test_the_usual_curves_rise_and_tell_what_real_photographs_gain(fmt: str) -> None:
    """On photographs that they were not measured on."""
    curve = USUAL_CURVES[fmt]
    for quality in range(LOWEST, HIGHEST + 1):
        assert curve.quality_after(50, curve.gain(50, quality)) == pytest.approx(quality)
    settings = {"avif": Avif(effort=0), "webp": Webp(effort=2), "jpeg": Jpeg(), "jxl": Jxl(effort=4)}[fmt]
    gained, expected = [], curve.gain(40, 70)
    for photograph in (real.astronaut(), real.chelsea(), real.coffee(), real.rocket()):
        pixels = np.ascontiguousarray(photograph[:256, :320])
        image = pyvips.Image.new_from_array(pixels).copy(interpretation="srgb")
        low, high = (
            ssimulacra2(
                pixels,
                read_back(
                    encoding.encoded(image, settings.model_copy(update={"quality": q})), ImageFormat(fmt)
                ),
            )
            for q in (40, 70)
        )
        gained.append(high - low)
    assert np.mean(gained) == pytest.approx(expected, rel=0.35)


def test_qualities_that_are_said_to_give_the_same_file_do() -> None:
    pixels = pyvips.Image.new_from_array(np.ascontiguousarray(real.chelsea()[:60, :80]))
    image = pixels.copy(interpretation="srgb")
    for effort in (0, 3):
        encoder = avif_preset(Avif(effort=effort)).encoder
        files = [
            avif.encode(image, Avif(quality=quality, effort=effort), is_proxy=True)
            for quality in range(30, 98)
        ]
        same = [avif.gives_same_file(quality, quality + 1, encoder) for quality in range(30, 97)]
        assert same == [first == second for first, second in pairwise(files)] and True in same


def test_a_quality_looks_the_same_with_both_encoders() -> None:
    """On photographs that the mapping of qualities was not measured on."""
    photographs = [real.astronaut(), real.chelsea(), real.coffee(), real.rocket()]
    for quality in (40, 57, 72):
        scores = {}
        for effort in (2, 3):
            settings = Avif(quality=quality, effort=effort)
            of_effort = []
            for photograph in photographs:
                pixels = np.ascontiguousarray(photograph[:256, :320])
                image = pyvips.Image.new_from_array(pixels).copy(interpretation="srgb")
                file = avif.encode(image, settings)
                of_effort.append(ssimulacra2(pixels, read_back(file, ImageFormat.AVIF)))
            scores[effort] = np.mean(of_effort)
        assert abs(scores[2] - scores[3]) < 2, (quality, scores)


@pytest.mark.parametrize("width", [120, 400])
def test_every_format_is_brought_to_the_target_and_no_further(width: int, tmp_path: Path) -> None:
    """Judged by the package on the rung as we reduce it; small rungs are judged mirrored to a whole score's size."""
    data = pictures.png(Image.fromarray(real.coffee()))
    exact = FormatSet(png=Png(level=0))
    aimed = FormatSet(target=72, avif=Avif(effort=2), webp=Webp(effort=1), jpeg=Jpeg())

    def made(formats: FormatSet) -> dict[str, Image.Image]:
        recipe = Recipe(ladder=Ladder(widths=(width,)), formats=Formats(photo=formats))
        done = render(data, make_plan({"a.png": inspect_bytes(data)}, recipe).originals[0])
        return {
            r.planned.format.value: Image.open(io.BytesIO(r.data)).convert("RGB")
            for r in done
            if r.data and r.planned.size.width == width
        }

    original = made(exact)["png"]
    candidates = made(aimed)
    assert set(candidates) == {"avif", "webp", "jpeg"}
    for name, candidate in candidates.items():
        score = by_package(_wide(original), _wide(candidate), tmp_path)
        assert 71.5 <= score <= 75, name


@pytest.mark.parametrize(
    ("settings", "encode", "targets", "size"),
    [
        (Webp(effort=1), webp.encode, (50, 85), 200),
        (Jpeg(), jpeg.encode, (72,), 200),
        (Jxl(effort=3), jxl.encode, (60, 75, 85), 200),
        (Avif(effort=2), avif.encode, (60, 75, 85), 100),
        (Avif(effort=2, chroma="4:4:4"), avif.encode, (60, 75, 85), 100),
    ],
)
def test_a_search_ends_where_trying_everything_does(
    settings: LossySettings,
    encode: Callable[[Any, Any], bytes],
    targets: tuple[float, ...],
    size: int,
) -> None:
    """Every quality of a small photograph: the smallest at the target, and where it lies within a step or the tolerance."""
    pixels = np.ascontiguousarray(real.chelsea()[:size, : size + 20])
    image = pyvips.Image.new_from_array(pixels).copy(interpretation="srgb")
    fmt = ImageFormat(type(settings).__name__.lower())
    framed = PaddedReference(pixels)

    def score(file: bytes) -> float:
        return framed.score(read_back(file, fmt))

    all_scores = {
        quality: score(encode(image, settings.model_copy(update={"quality": quality})))
        for quality in range(LOWEST, HIGHEST + 1)
    }
    for target in targets:
        result = search_quality(
            settings.model_copy(update={"target": target}),
            partial(encode, image),
            score,
            original_bytes=10**9,
        )
        best = min(quality for quality, all_score in all_scores.items() if all_score >= target)
        assert result.score == all_scores[result.quality] >= target
        assert result.quality == best or result.score - target <= settings.search_tolerance
        assert result.encodings <= (4 if isinstance(settings, Avif) else 8)
    # Monotone within noise: no quality scores a point less than one five steps below it.
    assert all(all_scores[q] > all_scores[q - 5] - 1 for q in range(LOWEST + 5, HIGHEST + 1))


def test_ssim_is_that_of_scikit_image() -> None:
    item, second = real.astronaut(), np.roll(real.astronaut(), 1, axis=0)
    for a, b in ((item, second), (item[:40, :11], second[:40, :11])):
        theirs = structural_similarity(
            rgb2gray(a) * 255,
            rgb2gray(b) * 255,
            gaussian_weights=True,
            sigma=1.5,
            use_sample_covariance=False,
            data_range=255,
        )
        assert ssim(a, b) == pytest.approx(theirs, abs=1e-4)
    with pytest.raises(ValueError, match="too small"):
        ssim(item[:10], second[:10])


def test_where_it_hurts_is_where_it_was_hurt() -> None:
    pixels = real.astronaut()
    hurt = pixels.copy()
    hurt[300:340, 100:160] = hurt[300:340, 100:160][::-1]
    score, lost = Reference(pixels).difference(hurt)
    assert score == Reference(pixels).score(hurt) and lost.shape == (512, 512)
    inside = lost[284:356, 84:176].sum()
    assert inside > 0.9 * lost.sum()
    left, top = worst_window(lost, Size(80, 60))
    assert 80 <= left <= 110 and 275 <= top <= 305


@pytest.mark.parametrize("shape", [(1, 1, 3), (8, 200, 3), (3, 3, 4)])
def test_the_smallest_pictures_have_a_score_too(shape: tuple[int, ...]) -> None:
    pixels = np.random.default_rng(1).integers(0, 255, shape, np.uint8)
    assert PaddedReference(pixels).score(pixels) > 99.9
    assert PaddedReference(pixels).score(255 - pixels) < 50


def _wide(image: Image.Image) -> Image.Image:
    pixels = np.asarray(image)
    more = ((0, max(0, 256 - pixels.shape[0])), (0, max(0, 256 - pixels.shape[1])), (0, 0))
    return Image.fromarray(np.pad(pixels, more, mode="symmetric"))

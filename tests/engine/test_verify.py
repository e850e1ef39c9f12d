"""What is not what it was to be is not delivered, is said by name, and is made the next time."""

from __future__ import annotations

from pathlib import Path

import pytest
from PIL import Image

from tests.support import pictures
from tests.support.builds import build
from young_prism.core.plan.model import PlannedRendition
from young_prism.core.recipe.codecs import Jpeg, Png
from young_prism.core.recipe.ladder import Ladder
from young_prism.core.recipe.model import Recipe
from young_prism.core.render import encoding as encoding_module
from young_prism.core.render.verify import find_fault
from young_prism.core.types import (
    ImageFormat,
    Outcome,
    Size,
)
from young_prism.demo.catalogue import camera_exif
from young_prism.engine.build import executor as running_module
from young_prism.engine.build.options import BuildOptions


def planned(fmt: ImageFormat, size: tuple[int, int] = (60, 40)) -> PlannedRendition:
    settings = Jpeg() if fmt is ImageFormat.JPEG else Png()
    return PlannedRendition("a.x", fmt, Size(*size), settings, "key", "why")


PHOTO = pictures.photo(60, 40)
GOOD = pictures.jpeg(PHOTO)
TAGGED = pictures.jpeg(PHOTO, exif=camera_exif(has_place=True))


@pytest.mark.parametrize(
    ("data", "expected", "rule", "text"),
    [
        (GOOD, planned(ImageFormat.JPEG), "none", ""),
        (TAGGED, planned(ImageFormat.JPEG), "all", ""),
        (TAGGED, planned(ImageFormat.JPEG), "none", "contains metadata"),
        (TAGGED, planned(ImageFormat.JPEG), "rights", "contains a location"),
        (GOOD, planned(ImageFormat.PNG), "none", "its content is JPEG, not PNG"),
        (b"", planned(ImageFormat.PNG), "none", "no image"),
        (GOOD[: len(GOOD) * 2 // 3], planned(ImageFormat.JPEG), "none", "cannot be decoded completely"),
        (GOOD, planned(ImageFormat.JPEG, (60, 41)), "none", "it is 60 × 40, not 60 × 41"),
    ],
)
def test_each_fault_is_found_and_named(data: bytes, expected: PlannedRendition, rule: str, text: str) -> None:
    fault = find_fault(data, expected, metadata=rule, clear=False)
    assert text in fault and bool(text) == bool(fault)


def test_lost_transparency_is_a_fault() -> None:
    opaque = pictures.png(pictures.graphic(60, 40))
    assert "transparency is lost" in find_fault(opaque, planned(ImageFormat.PNG), metadata="none", clear=True)
    clear = pictures.png(pictures.graphic(60, 40, clear=True))
    assert find_fault(clear, planned(ImageFormat.PNG), metadata="none", clear=True) == ""


def spoilt(root: str, original, *rest):  # type: ignore[no-untyped-def]
    """Make renditions with a WebP encoder that gives another size, in a worker."""
    good = encoding_module.encoded
    small = encoding_module.pyvips.Image.new_from_array(
        __import__("numpy").asarray(Image.new("RGB", (7, 5)))
    ).webpsave_buffer()
    encoding_module.encoded = lambda pixels, settings: (
        small if type(settings).__name__ == "Webp" else good(pixels, settings)
    )
    try:
        from young_prism.engine.workers.tasks import render_file

        return render_file(root, original, *rest)
    finally:
        encoding_module.encoded = good


def test_a_spoilt_rendition_fails_alone_and_is_made_the_next_time(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    source, out = tmp_path / "site", tmp_path / "out"
    source.mkdir()
    (source / "a.jpg").write_bytes(pictures.jpeg(pictures.photo(160, 100)))
    recipe = Recipe(ladder=Ladder(widths=(160,)))
    with monkeypatch.context() as patch:
        patch.setattr(running_module, "render_file", spoilt)
        result = build(source, out, recipe, options=BuildOptions(jobs=1))
    assert result.outcomes[Outcome.FAILED] == 1 and not list(out.glob("*.webp"))
    assert "it is 7 × 5, not 160 × 100" in result.failures[0].error
    assert list(out.glob("*.avif")) and list(out.glob("*.jpg"))
    again = build(source, out, recipe, options=BuildOptions(jobs=1))
    assert again.outcomes[Outcome.FAILED] == 0 and again.outcomes[Outcome.MADE] == 1
    with Image.open(next(out.glob("*.webp"))) as made:
        assert made.size == (160, 100)

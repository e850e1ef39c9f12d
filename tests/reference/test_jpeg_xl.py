"""JPEG XL read by other programs: `djxl` and `jxlinfo` of Debian's libjxl-tools, and another build of libjxl in Pillow's plugin."""

from __future__ import annotations

import hashlib
import io
import subprocess
import warnings
from pathlib import Path

import numpy as np
import pillow_jxl  # noqa: F401  (gives Pillow the format)
import pytest
from PIL import Image

from tests.support import jxl, pictures
from tests.support.exiftool import exiftool
from young_prism.core.images.headers.contract import BytesView
from young_prism.core.images.headers.jxl import read_jxl
from young_prism.core.inspection.inspect import inspect_bytes
from young_prism.core.pixels.decode import open_image
from young_prism.core.pixels.jxl_profile import encode_with_profile
from young_prism.core.pixels.readback import read_back
from young_prism.core.pixels.shape import to_srgb
from young_prism.core.plan.make import make_plan
from young_prism.core.recipe.codecs import Jpeg, Jxl, Png
from young_prism.core.recipe.finishing import Finishing
from young_prism.core.recipe.formats import Formats, FormatSet, TransparentFormatSet
from young_prism.core.recipe.ladder import Ladder
from young_prism.core.recipe.model import Recipe
from young_prism.core.render.render import encode_paths
from young_prism.core.types import ImageFormat
from young_prism.core.vips import pyvips

SAMPLES = jxl.samples()


def decoded(file: Path, *options: str) -> np.ndarray:
    png = file.with_suffix(".png")
    subprocess.run(["djxl", file, png, *options], check=True, capture_output=True)
    with Image.open(png) as image:
        return np.asarray(image)


@pytest.mark.parametrize("name", SAMPLES)
def test_headers_say_what_jxlinfo_says(name: str, tmp_path: Path) -> None:
    file = tmp_path / "a.jxl"
    file.write_bytes(SAMPLES[name])
    text = subprocess.run(["jxlinfo", "-v", file], check=True, capture_output=True, text=True).stdout
    header = read_jxl(BytesView(SAMPLES[name]))
    width, height = header.stored
    assert f"Intrinsic dimensions: {width}x{height}" in text
    assert f"Orientation: {header.orientation} " in text
    assert ("type: Alpha" in text) == header.has_alpha
    assert (f"{header.bit_depth}-bit" in text) and ("have_animation: 1" in text) == header.is_animation
    assert ("Grayscale" in text) == header.colour.is_grey
    assert ("reconstruction data available" in text) == header.is_packed_jpeg
    assert ("(possibly) lossless" in text) != header.is_xyb


OUTPUTS = {
    "lossy": (pictures.photo(300, 200), Jxl(quality=70)),
    "lossless": (pictures.photo(300, 200), Jxl(lossless="always")),
    "clear": (pictures.graphic(300, 200, clear=True), Jxl(quality=80)),
    "clear, lossless": (pictures.graphic(300, 200, clear=True), Jxl(lossless="always")),
    "1 × 1": (pictures.photo(1, 1), Jxl()),
    "1 × 64": (pictures.photo(1, 64), Jxl()),
    "7 × 3": (pictures.photo(7, 3), Jxl(effort=9)),
    "64 × 63": (pictures.photo(64, 63), Jxl(effort=1)),
}


@pytest.mark.parametrize("name", OUTPUTS)
@pytest.mark.parametrize("metadata", ["none", "all"])
def test_every_kind_of_output_opens_elsewhere_with_the_same_pixels(
    name: str, metadata: str, tmp_path: Path
) -> None:
    image, settings = OUTPUTS[name]
    buffer = io.BytesIO()
    image.save(buffer, "PNG", exif=jxl.camera_exif(has_place=True))
    formats = FormatSet(jxl=settings, jpeg=Jpeg())
    clear = TransparentFormatSet(jxl=settings, png=Png(level=0))
    recipe = Recipe(
        ladder=Ladder(widths=(2000,)),
        formats=Formats(photo=formats, graphic=formats, photo_transparent=clear, graphic_transparent=clear),
        finishing=Finishing(metadata=metadata),
    )
    data = buffer.getvalue()
    original = make_plan({"a.png": inspect_bytes(data)}, recipe).originals[0]
    path = next(r.path for r in original.renditions if r.format is ImageFormat.JXL)
    result = encode_paths(data, original, [path])[path]
    assert not result.fault
    file = tmp_path / "a.jxl"
    file.write_bytes(result.data)
    pixels = read_back(result.data, ImageFormat.JXL).astype(int)
    by_djxl = decoded(file, "--bits_per_sample=8").astype(int)
    with warnings.catch_warnings(), Image.open(io.BytesIO(result.data)) as opened:
        by_plugin = np.asarray(opened).astype(int)
    for theirs in (by_djxl, by_plugin):
        assert theirs.shape == pixels.shape
        assert abs(theirs - pixels).max() <= (0 if settings.is_lossless else 1)
    text = exiftool("-Make", "-GPSLatitude", file)
    assert ("Ferncote" in text and "GPS Latitude" in text) == (metadata == "all")


@pytest.mark.parametrize("distance", [0.0, 1.0])
def test_djxl_finds_the_colours_of_a_wide_gamut(distance: float, tmp_path: Path) -> None:
    """Brought to sRGB by the profile that each decoder hands over, the pixels are the same."""
    p3 = bytes(pyvips.Operation.call("profile_load", "p3"))
    data = encode_with_profile(jxl.photo_pixels(), p3, effort=3, distance=distance)
    (tmp_path / "a.jxl").write_bytes(data)
    subprocess.run(["djxl", tmp_path / "a.jxl", tmp_path / "a.png"], check=True, capture_output=True)
    with Image.open(tmp_path / "a.png") as image:
        assert image.info["icc_profile"]
    theirs = to_srgb(pyvips.Image.new_from_file(str(tmp_path / "a.png")), cmyk=False).numpy()
    pixels = to_srgb(open_image(data, ImageFormat.JXL), cmyk=False).numpy()
    assert abs(theirs.astype(int) - pixels).max() <= 3


def test_djxl_restores_the_packed_jpeg_byte_by_byte(tmp_path: Path) -> None:
    for number, options in enumerate(({}, {"progressive": True}, {"quality": 60, "subsampling": 2})):
        data = pictures.jpeg(pictures.photo(300, 200, seed=number), **options)
        formats = FormatSet(jxl=Jxl(from_jpeg=True), jpeg=Jpeg())
        recipe = Recipe(
            ladder=Ladder(widths=(300,)), formats=Formats(photo=formats), finishing=Finishing(metadata="all")
        )
        original = make_plan({"a.jpg": inspect_bytes(data)}, recipe).originals[0]
        path = original.renditions[0].path
        (tmp_path / "a.jxl").write_bytes(encode_paths(data, original, [path])[path].data)
        subprocess.run(["djxl", tmp_path / "a.jxl", tmp_path / "b.jpg"], check=True, capture_output=True)
        restored = (tmp_path / "b.jpg").read_bytes()
        assert hashlib.sha256(restored).digest() == hashlib.sha256(data).digest()

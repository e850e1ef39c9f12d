"""Turned, mirrored, straightened, cropped and padded pixels, compared with Pillow's."""

from __future__ import annotations

import io

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from PIL import Image, ImageOps

from tests.support import pictures
from young_prism.core.inspection.inspect import inspect_bytes
from young_prism.core.ladder.rungs import rungs_for
from young_prism.core.plan.make import make_plan
from young_prism.core.recipe.ladder import Ladder
from young_prism.core.recipe.toml import read_recipe
from young_prism.core.render.render import render
from young_prism.core.selection.geometry import Area, Geometry
from young_prism.core.selection.image_metadata import ImageMetadata, read_details, write_details
from young_prism.core.types import Size

LOSSLESS = "[formats.photo]\npng = {}\n[formats.graphic]\npng = {}\n"
PICTURE = pictures.png(pictures.photo(320, 200))


def made(data: bytes, recipe: str, geometry: Geometry, facet: str = "whole") -> Image.Image:
    """Return the largest rendition of a facet."""
    facts = inspect_bytes(data)
    details = {"a.png": ImageMetadata(geometry=geometry)}
    [original] = make_plan({"a.png": facts}, read_recipe(recipe + LOSSLESS), details=details).originals
    results = [result for result in render(data, original) if result.planned.facet == facet]
    return Image.open(io.BytesIO(results[-1].data)).convert("RGB")


def before(data: bytes = PICTURE) -> Image.Image:
    return ImageOps.exif_transpose(Image.open(io.BytesIO(data))).convert("RGB")


@pytest.mark.parametrize(
    ("geometry", "expected"),
    [
        (Geometry(turn=90), lambda image: image.transpose(Image.Transpose.ROTATE_270)),
        (Geometry(turn=180), lambda image: image.transpose(Image.Transpose.ROTATE_180)),
        (
            Geometry(turn=270, mirror=True),
            lambda image: ImageOps.mirror(image.transpose(Image.Transpose.ROTATE_90)),
        ),
        (Geometry(crop=Area(0.25, 0.5, 0.5, 0.25)), lambda image: image.crop((80, 100, 240, 150))),
        (
            Geometry(turn=90, crop=Area(0, 0.5, 1, 0.5)),
            lambda image: image.transpose(Image.Transpose.ROTATE_270).crop((0, 160, 200, 320)),
        ),
    ],
)
def test_turns_and_crops_move_pixels_and_change_none(geometry: Geometry, expected: object) -> None:
    result = made(PICTURE, "[ladder]\nwidths = [4000]\n", geometry)
    assert result.tobytes() == expected(before()).tobytes()  # type: ignore[operator]


def test_a_jpeg_that_lies_sideways_is_upright_before_it_is_turned() -> None:
    exif = Image.Exif()
    exif[0x0112] = 6  # Orientation (CIPA DC-008)
    data = pictures.jpeg(pictures.photo(300, 200), exif=exif)
    upright = before(data)
    turned = made(data, "[ladder]\nwidths = [4000]\n", Geometry(turn=90))
    reference = np.asarray(upright.transpose(Image.Transpose.ROTATE_270), float)
    assert turned.size == (300, 200) and upright.size == (200, 300)
    assert np.abs(np.asarray(turned, float) - reference).mean() < 2  # two decoders of JPEG


@given(st.floats(-45, 45), st.integers(40, 400), st.integers(40, 400))
def test_straightening_leaves_no_empty_corner(degrees: float, width: int, height: int) -> None:
    white = pictures.png(Image.new("RGB", (width, height), (255, 255, 255)))
    geometry = Geometry(straighten=degrees)
    result = made(white, "[ladder]\nwidths = [4000]\n", geometry)
    assert result.size == geometry.size_of(Size(width, height))
    assert np.asarray(result).min() >= 254


def test_straightening_turns_as_pillow_does() -> None:
    result = made(PICTURE, "[ladder]\nwidths = [4000]\n", Geometry(straighten=8))
    rotated = before().rotate(-8, Image.Resampling.BICUBIC)
    left, top = (rotated.width - result.width) / 2, (rotated.height - result.height) / 2
    box = (left, top, left + result.width, top + result.height)
    reference = rotated.transform(result.size, Image.Transform.EXTENT, box, Image.Resampling.BICUBIC)
    mirrored = made(PICTURE, "[ladder]\nwidths = [4000]\n", Geometry(straighten=-8))
    apart = [
        np.abs(np.asarray(image, float) - np.asarray(reference, float)).mean() for image in (result, mirrored)
    ]
    assert apart[0] < 5 < apart[1]  # half a pixel between two libraries


@pytest.mark.parametrize("background", ["#3366cc", "edge", "blur"])
def test_a_picture_is_padded_to_exact_pixels(background: str) -> None:
    facet = (
        f'[[facets]]\nname = "share"\naspect = "1:1"\nfit = "pad"\nbackground = "{background}"\n'
        "ladder = {widths = [160]}\n"
    )
    result = made(PICTURE, facet, Geometry(), "share")
    assert result.size == (160, 160)
    pixels = np.asarray(result, float)
    inside = before().resize((160, 100), Image.Resampling.LANCZOS)
    assert np.abs(pixels[30:130] - np.asarray(inside, float)).mean() < 3  # Lanczos of two libraries
    band = pixels[:30].reshape(-1, 3)
    if background == "blur":
        assert 0 < band.std(axis=0).max() < np.asarray(before(), float).std()
    else:
        edge = np.concatenate(
            [
                np.asarray(before(), float)[at].reshape(-1, 3)
                for at in ((0,), (-1,), (slice(None), 0), (slice(None), -1))
            ]
        )
        colour = edge.mean(axis=0) if background == "edge" else (0x33, 0x66, 0xCC)
        assert np.abs(band - np.asarray(colour)).max() < 3


def test_a_facet_is_cut_from_the_area_that_a_person_set() -> None:
    facet = '[[facets]]\nname = "square"\naspect = "1:1"\nladder = {widths = [100]}\n'
    geometry = Geometry(facets=(("square", Area(0.5, 0.25, 0.3125, 0.5)),))
    result = made(PICTURE, facet, geometry, "square")
    assert result.tobytes() == before().crop((160, 50, 260, 150)).tobytes()


def test_a_grey_picture_keeps_the_colour_that_it_is_padded_with() -> None:
    grey = pictures.jpeg(pictures.photo(320, 200).convert("L"))
    text = '[[facets]]\nname = "share"\naspect = "1:1"\nfit = "pad"\nbackground = "#cc0000"\n'
    recipe = read_recipe(text + "[formats.photo]\njpeg = {quality = 95}\n[ladder]\nwidths = [200]\n")
    [original] = make_plan({"a.jpg": inspect_bytes(grey)}, recipe).originals
    share = [result for result in render(grey, original) if result.planned.facet == "share"][-1]
    red, green, _ = Image.open(io.BytesIO(share.data)).convert("RGB").getpixel((5, 5))
    assert red > 180 and green < 30


def test_a_picture_is_enlarged_only_on_request_and_within_its_limit() -> None:
    assert rungs_for(Size(500, 300), Ladder(widths=(400, 900, 2000)))[-1] == (500, 300)
    assert rungs_for(Size(500, 300), Ladder(widths=(400, 900, 2000), enlarge=2))[-1] == (1000, 600)
    assert rungs_for(Size(500, 300), Ladder(widths=(400, 900), enlarge=2))[-1] == (900, 540)


def test_geometry_is_written_as_people_read_it() -> None:
    geometry = Geometry(90, True, -1.5, Area(0.1, 0, 0.8, 1), (("square", Area(0, 0, 0.5, 0.5)),))
    details = {"a.jpg": ImageMetadata(geometry=geometry)}
    assert read_details(write_details(details)) == details

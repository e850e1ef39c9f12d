"""Finishing, cuts and the squeeze, against Pillow, LittleCMS and exiftool."""

from __future__ import annotations

import base64
import io
import json
from pathlib import Path

import av
import numpy as np
import pytest
from PIL import Image, ImageDraw

from tests.support import pictures
from tests.support.exiftool import exiftool
from young_prism.core.encode.video import read_video
from young_prism.core.inspection.inspect import inspect_bytes
from young_prism.core.plan.make import make_plan
from young_prism.core.plan.model import WatermarkFile
from young_prism.core.recipe.codecs import Jpeg, Png, Video, Webp
from young_prism.core.recipe.finishing import Finishing, Watermark
from young_prism.core.recipe.formats import (
    AnimationFormats,
    Formats,
    FormatSet,
    Squeeze,
    TransparentFormatSet,
    VectorFormats,
)
from young_prism.core.recipe.ladder import Ladder
from young_prism.core.recipe.model import Facet, Recipe
from young_prism.core.render.minify import minify
from young_prism.core.render.render import render
from young_prism.core.render.results import Rendered
from young_prism.core.render.verify import find_fault
from young_prism.core.selection.image_metadata import ImageMetadata
from young_prism.core.svg.sanitise import sanitise
from young_prism.core.types import ImageFormat, Outcome
from young_prism.core.vips import pyvips

ONLY_PNG = FormatSet(png=Png(level=0))
PLAIN = Formats(
    photo=ONLY_PNG,
    graphic=ONLY_PNG,
    photo_transparent=TransparentFormatSet(png=Png(level=0)),
    graphic_transparent=TransparentFormatSet(png=Png(level=0)),
)
"""Lossless, so that pixels can be compared."""


def made(data: bytes, recipe: Recipe, **values: object) -> list[Rendered]:
    return render(data, make_plan({"a.x": inspect_bytes(data)}, recipe, **values).originals[0])


def pixels(rendered: Rendered, mode: str = "RGB") -> np.ndarray:
    assert rendered.data
    return np.asarray(Image.open(io.BytesIO(rendered.data)).convert(mode)).astype(int)


def recipe(width: int, **parts: object) -> Recipe:
    return Recipe(**{"formats": PLAIN, "ladder": Ladder(widths=(width,)), **parts})


# Metadata

KEPT = {
    "none": set(),
    "rights": {"Artist", "Copyright", "Creator", "Rights", "WebStatement", "By-line", "CopyrightNotice"},
    "all-but-place": {"Artist", "Copyright", "Creator", "Rights", "WebStatement", "By-line", "CopyrightNotice",
                      "Make", "Description", "Caption-Abstract"},
    "all": {"Artist", "Copyright", "Creator", "Rights", "WebStatement", "By-line", "CopyrightNotice", "Make",
            "Description", "Caption-Abstract", "GPSLatitude", "City", "Location", "LocationShownCity"},
}  # fmt: skip
ASKED = sorted(KEPT["all"])


@pytest.fixture(scope="module")
def talkative(tmp_path_factory: pytest.TempPathFactory) -> bytes:
    """A photo that says much about itself, written by exiftool; it lies on its side."""
    file = tmp_path_factory.mktemp("talkative") / "a.jpg"
    file.write_bytes(pictures.jpeg(pictures.photo(400, 300)))
    exiftool(
            "-overwrite_original", "-n", "-EXIF:Orientation=6", "-EXIF:Make=Invented", "-EXIF:Artist=A. Maker",
            "-EXIF:Copyright=2026 A. Maker", "-EXIF:GPSLatitude=12.5", "-EXIF:GPSLatitudeRef=N", "-XMP-dc:Creator=A. Maker",
            "-XMP-dc:Rights=All renditions", "-XMP-xmpRights:WebStatement=about:blank", "-XMP-dc:Description=A hill",
            "-XMP-iptcCore:Location=Ottermoor", "-XMP-exif:GPSLatitude=12.5", "-XMP-iptcExt:LocationShownCity=Ottermoor",
            "-XMP-tiff:Orientation=6", "-IPTC:By-line=A. Maker", "-IPTC:CopyrightNotice=2026", "-IPTC:City=Ottermoor",
            "-IPTC:Caption-Abstract=A hill", file,
    )  # fmt: skip
    return file.read_bytes()


@pytest.mark.parametrize("policy", KEPT)
def test_metadata_go_or_stay_by_the_rule(policy: str, talkative: bytes, tmp_path: Path) -> None:
    """Read by exiftool in every format; IPTC has a place in JPEG alone."""
    formats = Formats(photo=Recipe().formats.photo)
    for item in made(talkative, recipe(200, formats=formats, finishing=Finishing(metadata=policy))):
        file = tmp_path / f"{item.planned.format.value}.{item.planned.format.ext}"
        file.write_bytes(item.data or b"")
        question = ["-json", "-G0", "-Orientation", "-ThumbnailImage", *(f"-{tag}" for tag in ASKED)]
        [answer] = json.loads(exiftool(*question, file))
        result = {key.rpartition(":")[2]: value for key, value in answer.items() if key != "SourceFile"}
        assert result.pop("Orientation", "Horizontal (normal)") == "Horizontal (normal)"
        expected = KEPT[policy] - (
            set()
            if item.planned.format is ImageFormat.JPEG
            else {"By-line", "CopyrightNotice", "Caption-Abstract", "City"}
        )
        assert set(result) == expected, item.planned.format
        with Image.open(file) as image:
            assert image.size == (200, 267)


@pytest.mark.parametrize("policy", ["none", "rights", "all"])
def test_png_carries_metadata_too(policy: str, talkative: bytes, tmp_path: Path) -> None:
    [item] = made(talkative, recipe(200, finishing=Finishing(metadata=policy)))
    file = tmp_path / "a.png"
    file.write_bytes(item.data or b"")
    text = exiftool("-s3", "-Artist", "-Creator", file)
    assert text.split("\n")[:-1] == ([] if policy == "none" else ["A. Maker", "A. Maker"])


def test_a_wide_gamut_is_kept_with_its_profile_when_asked() -> None:
    """The numbers stay those of the original's own space, and every format says which that is."""
    profile = wide_profile()
    data = pictures.jpeg(pictures.photo(300, 200), icc_profile=profile, quality=100, subsampling=0)
    request = Finishing(colour="keep-wide-gamut")
    [saved] = made(data, recipe(300, finishing=request))
    with Image.open(io.BytesIO(data)) as image:
        assert np.abs(pixels(saved) - np.asarray(image).astype(int)).max() <= 1
    formats = Formats(photo=Recipe().formats.photo)
    for item in made(data, recipe(200, formats=formats, finishing=request)):
        with Image.open(io.BytesIO(item.data or b"")) as image:
            assert image.info.get("icc_profile") == profile, item.planned.format
    [converted] = made(data, recipe(300))
    assert np.abs(pixels(converted) - pixels(saved)).mean() > 1


def wide_profile() -> bytes:
    """Return Display P3 as libvips carries it."""
    grey = pyvips.Image.black(8, 8, bands=3).copy(interpretation="srgb")
    done = grey.icc_import(input_profile="srgb").icc_export(output_profile="p3")
    return bytes(done.get("icc-profile-data"))


# Watermark


def mark(width: int = 40, height: int = 20) -> WatermarkFile:
    data = pictures.png(Image.new("RGBA", (width, height), (255, 0, 0, 255)))
    return WatermarkFile(data, "0")


@pytest.mark.parametrize("size", [(400, 300), (300, 401)])
@pytest.mark.parametrize(
    ("position", "across", "down"),
    [
        ("top-left", 0, 0), ("top", 1, 0), ("top-right", 2, 0), ("left", 0, 1), ("centre", 1, 1), ("right", 2, 1),
        ("bottom-left", 0, 2), ("bottom", 1, 2), ("bottom-right", 2, 2),
    ],
)  # fmt: skip
def test_a_watermark_stands_where_it_should_to_the_pixel(
    size: tuple[int, int], position: str, across: int, down: int
) -> None:
    """Centre: x = W/2 - w/2, y = H/2 - h/2 (common practice, no source)."""
    ground = pictures.png(Image.new("RGB", size, (0, 0, 255)))
    settings = Watermark(file="m.png", position=position, size=0.25, margin=0.1, opacity=1)
    [item] = made(ground, recipe(size[0], finishing=Finishing(watermark=settings)), marks={"m.png": mark()})
    red = pixels(item)[..., 0] > 128
    rows, columns = np.flatnonzero(red.any(axis=1)), np.flatnonzero(red.any(axis=0))
    width, height = round(size[0] * 0.25), round(size[0] * 0.25 / 2)
    margin = round(0.1 * min(size))
    left = [margin, (size[0] - width) // 2, size[0] - width - margin][across]
    top = [margin, (size[1] - height) // 2, size[1] - height - margin][down]
    assert (columns[0], columns[-1], rows[0], rows[-1]) == (left, left + width - 1, top, top + height - 1)
    assert red.sum() == width * height


def test_a_watermark_is_blended_as_pillow_does_it_and_on_the_fallback_too() -> None:
    photo = pictures.photo(400, 300)
    settings = Watermark(file="m.png", position="centre", size=0.5, opacity=0.3, margin=0)
    finishing = Finishing(watermark=settings)
    [item] = made(pictures.png(photo), recipe(400, finishing=finishing), marks={"m.png": mark(200, 100)})
    layer = Image.new("RGBA", photo.size, (255, 0, 0, 0))
    layer.paste((255, 0, 0, round(255 * 0.3)), (100, 100, 300, 200))
    expected = np.asarray(Image.alpha_composite(photo.convert("RGBA"), layer).convert("RGB")).astype(int)
    assert np.abs(pixels(item) - expected).max() <= 2
    every = Formats(photo=FormatSet(webp=Webp(), jpeg=Jpeg(quality=95)))
    for item in made(
        pictures.png(photo), recipe(400, formats=every, finishing=finishing), marks={"m.png": mark(200, 100)}
    ):
        assert np.abs(pixels(item) - expected).mean() < 4, item.planned.format


def test_a_watermark_leaves_small_ones_and_other_facets_alone_and_keeps_transparency() -> None:
    settings = Watermark(file="m.png", min_width=300, facets=("square",), opacity=1)
    request = Recipe(
        formats=PLAIN,
        ladder=Ladder(widths=(200, 300)),
        facets=(Facet(name="square", aspect="1:1"),),
        finishing=Finishing(watermark=settings),
    )
    data = pictures.png(Image.new("RGB", (400, 300), (0, 0, 255)))
    result = {
        item.planned.path: bool((pixels(item)[..., 0] > 128).any())
        for item in made(data, request, marks={"m.png": mark()})
    }
    assert result == {
        "a-200w.png": False,
        "a-300w.png": False,
        "a-square-200w.png": False,
        "a-square-300w.png": True,
    }
    clear = pictures.png(pictures.graphic(400, 300, clear=True))
    settings = Watermark(file="m.png", position="top-left", margin=0, size=0.1, opacity=0.5)
    [item] = made(clear, recipe(400, finishing=Finishing(watermark=settings)), marks={"m.png": mark()})
    [without] = made(clear, recipe(400))
    alpha, before = pixels(item, "RGBA")[..., 3], pixels(without, "RGBA")[..., 3]
    assert alpha[5, 5] in (127, 128) and (alpha[30:] == before[30:]).all()


def test_a_watermark_is_on_the_formats_that_it_is_meant_for_alone() -> None:
    every = Formats(photo=FormatSet(webp=Webp(target=70), jpeg=Jpeg(quality=90)))
    data = pictures.png(pictures.photo(300, 200))
    marked, plain = (
        {
            item.planned.format: item
            for item in made(data, recipe(300, formats=every, finishing=finishing), marks={"m.png": mark()})
        }
        for finishing in (
            Finishing(watermark=Watermark(file="m.png", opacity=1, formats=(ImageFormat.JPEG,))),
            Finishing(),
        )
    )
    assert marked[ImageFormat.WEBP].data == plain[ImageFormat.WEBP].data
    assert marked[ImageFormat.WEBP].planned.key == plain[ImageFormat.WEBP].planned.key
    assert np.abs(pixels(marked[ImageFormat.JPEG]) - pixels(plain[ImageFormat.JPEG])).max() > 100


def moving_gif() -> bytes:
    """An animation whose frames cover only what changes, with times of their own."""
    frames = [Image.new("RGB", (80, 60), (0, 0, 200)) for _ in range(3)]
    for number, frame in enumerate(frames):
        ImageDraw.Draw(frame).rectangle((number * 20, 10, number * 20 + 8, 30), fill=(250, 250, 250))
    file = io.BytesIO()
    frames[0].save(file, "GIF", save_all=True, append_images=frames[1:], duration=[80, 120, 60], loop=0)
    return file.getvalue()


def frames_of(data: bytes) -> tuple[list[np.ndarray], list[int]]:
    with Image.open(io.BytesIO(data)) as image:
        frames, times = [], []
        for number in range(getattr(image, "n_frames", 1)):
            image.seek(number)
            image.load()
            frames.append(np.asarray(image.convert("RGB")).astype(int))
            times.append(round(image.info["duration"]))
        return frames, times


def test_a_watermark_is_on_every_frame_of_an_animation_and_times_stay() -> None:
    photos = [
        pictures.photo(320, 240, 3).transform((320, 240), Image.Transform.AFFINE, (1, 0, step, 0, 1, 0))
        for step in range(3)
    ]
    file = io.BytesIO()
    photos[0].save(file, "GIF", save_all=True, append_images=photos[1:], duration=[80, 120, 60], loop=0)
    data = file.getvalue()
    watermark = Watermark(file="m.png", position="bottom-right", size=0.5, margin=0, opacity=1)
    result = [
        item
        for item in made(data, Recipe(finishing=Finishing(watermark=watermark)), marks={"m.png": mark()})
        if item.data
    ]
    assert {item.planned.format for item in result} == {ImageFormat.AVIF, ImageFormat.WEBP, ImageFormat.GIF}
    before, times = frames_of(data)
    for item in result:
        frames, durations = frames_of(item.data)
        assert durations == times, item.planned.format
        for frame, original in zip(frames, before, strict=True):
            red = (frame[..., 0] > 200) & (frame[..., 2] < 60)
            assert red[164:236, 164:316].mean() > 0.99 and not red[:156].any(), item.planned.format
            assert np.abs(frame[:156] - original[:156]).mean() < 8, item.planned.format


@pytest.mark.parametrize("size", [(160, 120), (161, 121)])
def test_a_heavy_animation_is_a_video_with_the_same_moments(size: tuple[int, int]) -> None:
    """Read back by PyAV: begin of each frame, length, size, and about the same colours."""
    noise = np.random.default_rng(2).integers(0, 60, (size[1], size[0], 3))
    photos = [
        Image.fromarray((np.asarray(pictures.photo(*size, seed)) * 0.7 + noise).astype(np.uint8))
        for seed in range(4)
    ]
    file = io.BytesIO()
    photos[0].save(file, "GIF", save_all=True, append_images=photos[1:], duration=[80, 120, 60, 200], loop=0)
    settings = AnimationFormats(avif=None, webp=None, video=Video(from_bytes=1000, quality=90))
    result = {
        item.planned.path: item for item in made(file.getvalue(), Recipe(formats=Formats(animation=settings)))
    }
    videos = [item for item in result.values() if item.planned.facet == "video" and item.data]
    assert {item.planned.format for item in videos} & {ImageFormat.MP4, ImageFormat.WEBM}
    assert result["a-poster.jpg"].data
    before, _ = frames_of(file.getvalue())
    for item in videos:
        read = read_video(item.data)
        assert read.begins_ms == (0, 80, 200, 260) and abs(read.length_ms - 460) <= 1, item.planned.format
        assert read.size == (160, 120) and find_fault(
            item.data[:2000], item.planned, metadata="none", clear=False
        )
        with av.open(io.BytesIO(item.data)) as container:
            assert not container.streams.audio
            frames = [frame.to_ndarray(format="rgb24") for frame in container.decode(video=0)]
        for frame, original in zip(frames, before, strict=True):
            assert np.abs(frame.astype(int).mean((0, 1)) - original[:120, :160].mean((0, 1))).max() < 6


def test_a_gif_is_squeezed_frame_for_frame_and_by_colours_where_a_score_allows_it() -> None:
    rng = np.random.default_rng(1)
    frames = [Image.fromarray(rng.integers(0, 4, (60, 80, 3), np.uint8) * 40 + 60)] * 2
    frames.append(Image.fromarray(255 - np.asarray(frames[0])))
    wasteful = io.BytesIO()
    frames[0].save(
        wasteful, "GIF", save_all=True, append_images=frames[1:], duration=[50, 70, 90], loop=0, disposal=2
    )
    data = moving_gif()
    [exact] = made(data, Recipe(formats=Formats(squeeze=Squeeze())))
    assert exact.planned.path == "a.x" and len(exact.data) < len(data)
    for frame, original in zip(frames_of(exact.data)[0], frames_of(data)[0], strict=True):
        assert (frame == original).all()
    [fewer] = made(wasteful.getvalue(), Recipe(formats=Formats(squeeze=Squeeze(target=60))))
    assert len(fewer.data) < len(wasteful.getvalue()) and sum(frames_of(fewer.data)[1]) == 210


def test_a_drawing_is_minified_where_it_is_drawn_the_same() -> None:
    drawing = b"""<?xml version="1.0"?>
    <!-- drawn by hand --><svg xmlns="http://www.w3.org/2000/svg" width="40" height="40" viewBox="0 0 40 40">
      <title>Stamp</title><defs><circle id="used-elsewhere" r="2"/></defs>
      <g><g><path d="M 10.0000000 10.0000000 L 30.0000000 10.0000000 L 20.0000000 30.0000000 Z" fill="#ff0000"/></g></g>
    </svg>"""
    [item] = made(drawing, Recipe(formats=Formats(squeeze=Squeeze())))
    assert len(item.data) < len(drawing) * 0.7 and b"<title>" in item.data and b"used-elsewhere" in item.data
    first, second = (pyvips.Image.svgload_buffer(data, scale=4).numpy() for data in (drawing, item.data))
    assert np.abs(first.astype(int) - second).max() <= 8
    bomb = b'<!DOCTYPE svg [<!ENTITY a "aaaa">]><svg xmlns="http://www.w3.org/2000/svg" width="9" height="9"><text>&a;</text></svg>'
    assert minify(bomb)[0] == bomb


def test_tiles_cover_any_shape_and_a_mark_never_sticks_out() -> None:
    for size in ((600, 60), (60, 600), (300, 200)):
        data = pictures.png(Image.new("RGB", size, (0, 0, 255)))
        settings = Watermark(file="m.png", position="tiled", size=0.2, opacity=1)
        [item] = made(data, recipe(size[0], finishing=Finishing(watermark=settings)), marks={"m.png": mark()})
        assert 0.1 < (pixels(item)[..., 0] > 128).mean() < 0.8
        big = Watermark(file="m.png", position="bottom", size=1.0, margin=0.1, opacity=1)
        [item] = made(
            data, recipe(size[0], finishing=Finishing(watermark=big)), marks={"m.png": mark(20, 40)}
        )
        red = pixels(item)[..., 0] > 128
        assert red.any() and not red[0].any() and not red[-1].any() and not red[:, 0].any()


# Cuts


@pytest.mark.parametrize("orientation", [1, 6])
@pytest.mark.parametrize(
    ("focal", "left"), [((0.0, 0.5), 0), ((0.5, 0.5), 150), ((0.75, 0.1), 300), ((1.0, 1.0), 300)]
)
def test_a_cut_is_what_pillow_cuts_around_the_focal_point(
    orientation: int, focal: tuple[float, float], left: int
) -> None:
    upright = pictures.photo(600, 300)
    stored = upright.rotate(90, expand=True) if orientation == 6 else upright
    exif = Image.Exif()
    exif[0x0112] = orientation
    data = pictures.jpeg(stored, exif=exif, quality=100, subsampling=0)
    request = recipe(600, facets=(Facet(name="square", aspect="1:1", ladder=Ladder(widths=(150,))),))
    *_, item = made(data, request, details={"a.x": ImageMetadata(focal)})
    assert item.planned.path == "a-square-150w.png"
    expected = upright.crop((left, 0, left + 300, 300)).resize((150, 150), Image.Resampling.LANCZOS)
    assert np.abs(pixels(item) - np.asarray(expected).astype(int)).mean() < 1.5


def test_without_a_focal_point_the_cut_goes_where_the_eye_goes() -> None:
    picture = Image.new("RGB", (900, 300), (120, 130, 125))
    ImageDraw.Draw(picture).ellipse((700, 80, 840, 220), fill=(230, 60, 40))
    request = recipe(900, facets=(Facet(name="square", aspect="1:1"),))
    *_, item = made(pictures.png(picture), request)
    assert pixels(item).shape == (300, 300, 3)
    assert (pixels(item)[..., 0] > 200).sum() > 0.9 * np.pi * 70**2  # the whole disc is in it


# Pixels


def test_a_transparent_picture_lies_on_the_matte_in_jpeg_alone() -> None:
    clear = pictures.graphic(400, 300, clear=True)
    formats = TransparentFormatSet(
        webp=Webp(lossless="always"), jpeg=Jpeg(quality=95, chroma="4:4:4", matte="#20c040")
    )
    request = recipe(400, formats=Formats(photo_transparent=formats, graphic_transparent=formats))
    webp, jpeg = made(pictures.png(clear), request)
    ground = Image.new("RGBA", clear.size, "#20c040")
    expected = np.asarray(Image.alpha_composite(ground, clear).convert("RGB")).astype(int)
    assert np.abs(pixels(jpeg) - expected).mean() < 2
    assert pixels(webp, "RGBA")[..., 3].min() == 0


def test_nearest_keeps_the_colours_of_pixel_art_and_sharpening_keeps_flat_ones() -> None:
    art = Image.effect_noise((64, 64), 90).convert("L").point(lambda v: 255 if v > 128 else 0).convert("RGB")
    [item] = made(pictures.png(art), recipe(32, finishing=Finishing(kernel="nearest")))
    assert set(np.unique(pixels(item))) <= {0, 255}
    photo = pictures.png(pictures.photo(900, 600))
    [soft], [sharp] = made(photo, recipe(300)), made(photo, recipe(300, finishing=Finishing(sharpen="mild")))
    steps = [np.abs(np.diff(pixels(item), axis=1)).mean() for item in (soft, sharp)]
    assert 1.02 < steps[1] / steps[0] < 1.5 and abs(pixels(soft).mean() - pixels(sharp).mean()) < 1
    flat = pictures.png(Image.new("RGBA", (90, 60), (90, 140, 200, 128)))
    [item] = made(flat, recipe(45, finishing=Finishing(sharpen="mild")))
    assert np.abs(pixels(item, "RGBA") - [90, 140, 200, 128]).max() <= 1


def test_a_placeholder_is_the_picture_in_little_and_within_its_budget() -> None:
    data = pictures.jpeg(pictures.photo(900, 600))
    for budget in (4000, 400, 200):
        *_, narrow = sorted(
            made(data, recipe(300, finishing=Finishing(placeholder="blur", placeholder_bytes=budget))),
            key=lambda item: len(item.placeholder),
        )
        assert 0 < len(narrow.placeholder) <= budget
        head, _, body = narrow.placeholder.partition(",")
        assert head == "data:image/webp;base64"
        small = Image.open(io.BytesIO(base64.b64decode(body))).convert("RGB")
        whole = pictures.photo(900, 600).resize(small.size, Image.Resampling.BOX)
        assert np.abs(np.asarray(small).astype(int) - np.asarray(whole).astype(int)).mean() < 16
    [item] = made(data, recipe(300, finishing=Finishing(placeholder="colour")))
    colour = [int(item.placeholder[at : at + 2], 16) for at in (1, 3, 5)]
    assert np.abs(np.array(colour) - np.asarray(pictures.photo(900, 600)).mean(axis=(0, 1))).max() < 2


# Vectors

HARMFUL = """<?xml-stylesheet href="https://example.invalid/x.css"?><svg xmlns="http://www.w3.org/2000/svg"
 xmlns:xlink="http://www.w3.org/1999/xlink" width="40" height="20" onload="a()"><script>a()</script>
 <style>@import url(https://example.invalid/a.css); .b { fill: url(#g); background: u\\72l(https://example.invalid/b) }</style>
 <foreignObject><p>no</p></foreignObject><image xlink:href="file:///etc/hostname" width="9" height="9"/>
 <use href="https://example.invalid/c.svg#d"/><a xlink:href="java&#10;script:a()"><rect id="g" width="20" height="20"
 fill="#ff0000" onclick="a()" style="filter: url('//example.invalid/e')"/></a></svg>"""


def test_a_drawing_loses_what_can_do_harm_and_keeps_its_look() -> None:
    clean = sanitise(HARMFUL.encode())
    text = clean.data.decode().lower()
    assert not [
        word
        for word in ("script", "example.invalid", "onload", "onclick", "foreignobject", "file:", "@import")
        if word in text
    ]
    assert 'fill="#ff0000"' in text and "url(#g)" in text and len(clean.removed) >= 7
    again = sanitise(clean.data)
    assert (again.data, again.removed) == (clean.data, ())


def test_a_drawing_without_harm_is_copied_and_drawn_as_png_when_asked() -> None:
    data = b'<svg xmlns="http://www.w3.org/2000/svg" width="40" height="20"><rect width="20" height="20" fill="#ff0000"/></svg>'
    request = Recipe(formats=Formats(vector=VectorFormats(png=Png())), ladder=Ladder(widths=(60, 400)))
    copy, *rasters = made(data, request)
    assert (copy.outcome, copy.data) == (Outcome.KEPT, data)
    assert [raster.planned.size for raster in rasters] == [
        (60, 30),
        (120, 60),
    ]  # three times its own size is the limit
    drawn = pixels(rasters[1], "RGBA")
    assert (drawn[5:55, 5:55] == [255, 0, 0, 255]).all() and (drawn[:, 65:, 3] == 0).all()


# Squeeze


def test_squeezed_files_have_the_same_pixels() -> None:
    """Decoded by Pillow, on the pictures that scikit-image and scikit-learn carry and on made ones of every mode."""
    exif = Image.Exif()
    exif[0x0112] = 6
    values = {
        "sideways.jpg": pictures.jpeg(pictures.photo(), exif=exif),
        "cmyk.jpg": pictures.jpeg(pictures.photo().convert("CMYK")),
        "grey.png": pictures.png(pictures.photo().convert("L")),
        "palette.png": pictures.png(pictures.graphic().quantize(16)),
        "hidden.png": pictures.png(
            Image.merge("RGBA", (*pictures.photo().split(), Image.new("L", (640, 427), 0)))
        ),
        "wide.jpg": pictures.jpeg(pictures.photo(), icc_profile=wide_profile()),
        **{
            file.name: file.read_bytes()
            for file in pictures.real_pictures()
            if file.suffix in (".jpg", ".png") and file.stat().st_size < 150_000
        },
    }
    smaller = 0
    for name, data in values.items():
        facts = inspect_bytes(data)
        plan = make_plan({name: facts}, Recipe(formats=Formats(squeeze=Squeeze(level=1))))
        [item] = render(data, plan.originals[0])
        assert item.data and item.planned.path == name and len(item.data) <= len(data)
        smaller += len(item.data) < len(data)
        if facts.frames > 1:
            continue
        with Image.open(io.BytesIO(data)) as before, Image.open(io.BytesIO(item.data)) as after:
            assert before.getexif().get(0x0112, 1) == after.getexif().get(0x0112, 1), name
            assert before.info.get("icc_profile") == after.info.get("icc_profile"), name
            assert np.array_equal(_drawn(before), _drawn(after)), name
    assert smaller > len(values) / 2


def _drawn(image: Image.Image) -> np.ndarray:
    """The colours that are drawn. Pillow reads 16-bit colour by its high bytes, but 16-bit grey whole."""
    if image.mode == "CMYK":
        return np.asarray(image)
    if image.mode.startswith("I"):
        image = Image.fromarray((np.asarray(image) >> 8).astype(np.uint8))
    return np.asarray(image.convert("RGBA"))

"""Facts against programs and formulas that are not ours: exiftool, libjpeg's scaling, Pillow's own tables."""

from __future__ import annotations

import io
import json
from pathlib import Path

import numpy as np
import pytest
from PIL import Image, ImageCms

from tests.support import pictures
from tests.support.exiftool import exiftool
from young_prism.core.images.headers import jpeg
from young_prism.core.images.headers.contract import BytesView
from young_prism.core.images.headers.metadata import MetadataGroup
from young_prism.core.inspection.inspect import inspect_bytes
from young_prism.core.vips import pyvips
from young_prism.demo.catalogue import camera_exif


@pytest.mark.parametrize("subsampling", ["4:4:4", "4:2:2", "4:2:0"])
def test_jpeg_quality_and_chroma_are_read_back(subsampling: str) -> None:
    """Libjpeg's documented scaling (IJG), over its whole range: saved by libjpeg through Pillow."""
    image = pictures.photo(64, 48)
    for quality in range(1, 101):
        result = jpeg.read(BytesView(pictures.jpeg(image, quality=quality, subsampling=subsampling)))
        assert abs(result.quality - quality) <= 2, quality
        assert result.subsampling == subsampling
    grey = jpeg.read(BytesView(pictures.jpeg(image.convert("L"), quality=70, progressive=True)))
    assert (grey.quality, grey.subsampling, grey.layered, grey.grey) == (70, "", True, True)


_QUESTIONS = {
    MetadataGroup.CAMERA: ("Make", "Model", "LensModel"),
    MetadataGroup.TIME: ("DateTimeOriginal", "ModifyDate", "CreateDate", "DateCreated"),
    MetadataGroup.PLACE: ("GPSLatitude", "City", "Country-PrimaryLocationName", "Country"),
    MetadataGroup.RIGHTS: ("Artist", "Copyright", "By-line", "CopyrightNotice", "Creator", "Rights"),
    MetadataGroup.THUMBNAIL: ("ThumbnailImage",),
    MetadataGroup.HISTORY: ("Software", "CreatorTool", "HistoryAction"),
}


@pytest.mark.parametrize(
    "written",
    [
        [],
        ["-EXIF:Make=A", "-EXIF:Model=B"],
        ["-EXIF:DateTimeOriginal=2026:01:02 03:04:05"],
        ["-GPSLatitude=48.8767", "-GPSLatitudeRef=S", "-GPSLongitude=123.3933", "-GPSLongitudeRef=W"],
        ["-IPTC:City=Somewhere"],
        ["-XMP-dc:Creator=A. Larch", "-XMP-dc:Rights=All"],
        ["-IPTC:By-line=A. Larch"],
        ["-EXIF:Software=Some editor"],
        ["-XMP:CreatorTool=Some editor", "-XMP-exif:GPSLatitude=10.5"],
    ],
    ids=lambda written: written[0].partition("=")[0] if written else "none",
)
@pytest.mark.parametrize("ending", ["jpg", "png", "webp"])
def test_metadata_groups_agree_with_exiftool(written: list[str], ending: str, tmp_path: Path) -> None:
    file = tmp_path / f"a.{ending}"
    pictures.photo(64, 48).save(file)
    if written:
        exiftool("-overwrite_original", *written, file)
    names = [f"-{name}" for group in _QUESTIONS.values() for name in group]
    text = json.loads(exiftool("-json", *names, file))[0]
    expected = {group.value for group, tags in _QUESTIONS.items() if set(tags) & set(text)}
    facts = inspect_bytes(file.read_bytes())
    assert set(facts.metadata) == expected
    if any("GPSLongitude" in argument for argument in written):
        assert facts.place == pytest.approx((-48.8767, -123.3933), abs=1e-3)


def test_a_thumbnail_in_exif_is_found(tmp_path: Path) -> None:
    file, small = tmp_path / "a.jpg", tmp_path / "small.jpg"
    pictures.photo(200, 150).save(file, exif=camera_exif())
    pictures.photo(40, 30).save(small)
    exiftool("-overwrite_original", f"-ThumbnailImage<={small}", file)
    assert MetadataGroup.THUMBNAIL.value in inspect_bytes(file.read_bytes()).metadata


def test_profiles_are_named_and_wide_ones_noticed() -> None:
    """LittleCMS' own sRGB is not wide; libvips' Display P3 is (its triangle is a quarter larger, CSS Color 4)."""
    srgb = ImageCms.ImageCmsProfile(ImageCms.createProfile("sRGB")).tobytes()
    plain = inspect_bytes(pictures.jpeg(pictures.photo(64, 48), icc_profile=srgb))
    assert (plain.srgb, plain.wide_gamut) == (True, False)
    image = pyvips.Image.new_from_array(np.asarray(pictures.photo(64, 48))).copy(interpretation="srgb")
    wide = inspect_bytes(
        image.icc_import(input_profile="p3").icc_export(output_profile="p3").jpegsave_buffer()
    )
    assert (wide.srgb, wide.wide_gamut) == (False, True)
    broken = inspect_bytes(pictures.jpeg(pictures.photo(64, 48), icc_profile=b"no profile at all"))
    assert broken.profile_name in ("", "unreadable")


def test_frames_depth_and_alpha_are_told(tmp_path: Path) -> None:
    frames = [pictures.graphic(60, 40), pictures.graphic(60, 40, clear=True).convert("RGB")]
    frames[0].save(tmp_path / "a.gif", save_all=True, append_images=frames[1:], duration=[70, 130], loop=0)
    moving = inspect_bytes((tmp_path / "a.gif").read_bytes())
    assert (moving.frames, moving.duration_ms, moving.kind.value) == (2, 200, "animation")
    frames[0].save(tmp_path / "a.png", save_all=True, append_images=frames[1:], duration=90)
    assert inspect_bytes((tmp_path / "a.png").read_bytes()).kind.value == "animation"
    deep = pyvips.Image.black(30, 30).cast("ushort").copy(interpretation="grey16").pngsave_buffer()
    assert inspect_bytes(deep).bit_depth == 16
    opaque = inspect_bytes(pictures.png(pictures.graphic(60, 40).convert("RGBA")))
    assert (opaque.alpha, opaque.transparent) == (True, False)


def test_kind_holds_when_a_drawing_was_saved_as_jpeg() -> None:
    buffer = io.BytesIO()
    pictures.graphic().save(buffer, "JPEG", quality=80)
    assert inspect_bytes(buffer.getvalue()).kind.value == "graphic"
    white = Image.new("RGB", (900, 700), "white")
    white.paste(pictures.photo(400, 300), (250, 200))  # a photo on white paper stays a photo
    assert inspect_bytes(pictures.jpeg(white, quality=85)).kind.value == "photo"

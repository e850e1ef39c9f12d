"""Type, orientation, colour and resampling against programs and formulas that are not ours."""

from __future__ import annotations

import io
import subprocess
from pathlib import Path

import numpy as np
import pytest
from PIL import Image, ImageCms, ImageOps

from tests.support import pictures
from young_prism.core.images.sniff import sniff
from young_prism.core.inspection.inspect import inspect_bytes
from young_prism.core.pixels.shape import largest_rung
from young_prism.core.types import Size
from young_prism.core.vips import pyvips
from young_prism.demo.catalogue import camera_exif


def pixels_of(data: bytes, width: int | None = None) -> np.ndarray:
    facts = inspect_bytes(data)
    target = facts.size if width is None else facts.size.at_width(width)
    return largest_rung(data, facts, target).numpy()


def psnr(a: np.ndarray, b: np.ndarray) -> float:
    error = np.mean((a.astype(float) - b.astype(float)) ** 2)
    return 99.0 if error == 0 else float(10 * np.log10(255**2 / error))


def test_type_by_content_agrees_with_the_file_command(tmp_path: Path) -> None:
    """Debian's `file`, on a mixed set whose names all lie."""
    image = pictures.photo(64, 48)
    for number, fmt in enumerate(("JPEG", "PNG", "GIF", "WEBP", "AVIF", "TIFF", "BMP")):
        image.save(tmp_path / f"{number}.txt", fmt)
    (tmp_path / "7.txt").write_text(
        '<?xml version="1.0"?>\n<!-- a -->\n<svg xmlns="http://www.w3.org/2000/svg"/>'
    )
    (tmp_path / "8.txt").write_text("<!doctype html><html><svg></svg></html>")
    (tmp_path / "9.txt").write_bytes(
        pictures.small_source(tmp_path / "s").joinpath("IMG_1.HEIC").read_bytes()
    )
    for file in sorted(tmp_path.glob("*.txt")):
        text = subprocess.run(
            ["file", "--brief", "--mime-type", str(file)], capture_output=True, text=True, check=True
        )
        owned = sniff(file.read_bytes()[:4096])
        if text.stdout.startswith("image/"):
            assert owned is not None
            # Debian's file tells AVIF and HEIC by its own names for the family.
            assert text.stdout.strip() in (owned.mime, "image/heif"), file.name
        else:
            assert owned is None, file.name


@pytest.mark.parametrize("orientation", range(1, 9))
def test_the_eight_orientations_agree_with_pillow(orientation: int) -> None:
    """Exif (CIPA DC-008), tag 0x0112, against Pillow's `ImageOps.exif_transpose`."""
    data = pictures.jpeg(pictures.photo(120, 80), quality=95, exif=camera_exif(orientation=orientation))
    expected = np.asarray(ImageOps.exif_transpose(Image.open(io.BytesIO(data))))
    assert inspect_bytes(data).size == Size(expected.shape[1], expected.shape[0])
    assert psnr(pixels_of(data), expected) > 45
    half = np.asarray(
        Image.fromarray(expected).resize(
            (expected.shape[1] // 2, expected.shape[0] // 2), Image.Resampling.LANCZOS
        )
    )
    assert psnr(pixels_of(data, half.shape[1]), half) > 32


def test_a_phone_s_heic_is_upright_and_is_not_turned_twice(tmp_path: Path) -> None:
    """Against Pillow with pillow-heif: a red corner stays where it was seen."""
    import pillow_heif

    seen = pictures.photo(300, 400)
    seen.paste((255, 0, 0), (0, 0, 80, 80))
    stored = seen.transpose(Image.Transpose.ROTATE_90)
    file = tmp_path / "a.heic"
    pillow_heif.from_pillow(stored).save(file, quality=90, exif=camera_exif(orientation=6).tobytes())
    made = pixels_of(file.read_bytes())
    assert made.shape == (400, 300, 3)
    assert made[20, 20, 0] > 200 and made[20, 20, 1] < 60


def test_display_p3_is_converted_by_css_color_4_s_matrices() -> None:
    """CSS Color 4, 10.9 and 17: Display P3 and sRGB share the transfer function and D65; the matrix is linear."""
    p3 = np.array([[0.9, 0.4, 0.3], [0.3, 0.6, 0.4], [0.5, 0.5, 0.5], [0.2, 0.3, 0.7]])
    linear = np.where(p3 <= 0.04045, p3 / 12.92, ((p3 + 0.055) / 1.055) ** 2.4)
    # Product of the standard's P3-to-XYZ and XYZ-to-sRGB matrices.
    to_srgb = np.array(
        [[1.2249402, -0.2249402, 0.0], [-0.0420569, 1.0420569, 0.0], [-0.0196376, -0.0786361, 1.0982735]]
    )
    out = np.clip(linear @ to_srgb.T, 0, 1)
    expected = np.where(out <= 0.0031308, out * 12.92, 1.055 * out ** (1 / 2.4) - 0.055) * 255
    patch = np.repeat(np.repeat((p3 * 255).round().astype(np.uint8)[None], 8, axis=0), 8, axis=1)
    image = pyvips.Image.new_from_array(patch).copy(interpretation="srgb")
    tagged = image.icc_import(input_profile="p3").icc_export(output_profile="p3")
    made = pixels_of(tagged.pngsave_buffer())
    assert np.abs(made[4, 4::8].astype(float) - expected).max() <= 3


def test_cmyk_is_converted_as_littlecms_does() -> None:
    """LittleCMS through Pillow's ImageCms, with the profile that the file carries."""
    image = pyvips.Image.new_from_array(np.asarray(pictures.photo(200, 120))).copy(interpretation="srgb")
    data = image.icc_import(input_profile="srgb").icc_export(output_profile="cmyk").jpegsave_buffer(Q=95)
    opened = Image.open(io.BytesIO(data))
    profile = ImageCms.ImageCmsProfile(io.BytesIO(opened.info["icc_profile"]))
    converted = ImageCms.profileToProfile(
        opened, profile, ImageCms.createProfile("sRGB"), outputMode="RGB",
        renderingIntent=ImageCms.Intent.RELATIVE_COLORIMETRIC, flags=ImageCms.Flags.BLACKPOINTCOMPENSATION,
    )  # fmt: skip
    assert inspect_bytes(data).cmyk
    assert psnr(pixels_of(data), np.asarray(converted)) > 38


@pytest.mark.parametrize("width", [1000, 500, 333, 100])
def test_resampling_is_as_good_as_pillow_s_lanczos(width: int) -> None:
    data = pictures.png(pictures.photo(1600, 1067))
    with Image.open(io.BytesIO(data)) as image:
        expected = np.asarray(image.resize(Size(1600, 1067).at_width(width), Image.Resampling.LANCZOS))
    assert psnr(pixels_of(data, width), expected) > 40


def test_sixteen_bits_and_clear_edges_survive() -> None:
    """Against arithmetic: 16-bit grey 32768 is 8-bit 128, and no hidden colour bleeds out of clear pixels."""
    deep = pyvips.Image.black(40, 40).linear(1, 32768).cast("ushort").copy(interpretation="grey16")
    assert set(np.unique(pixels_of(deep.pngsave_buffer(), 20))) <= {127, 128}
    half = np.zeros((64, 64, 4), np.uint8)
    half[:, :32] = (200, 10, 10, 255)
    half[:, 32:] = (0, 255, 0, 0)  # bright green that nobody may see
    made = pixels_of(pictures.png(Image.fromarray(half)), 21)
    visible = made[made[..., 3] > 40]
    assert visible[:, 1].max() < 40
    assert {0, 255} <= set(made[..., 3].ravel())

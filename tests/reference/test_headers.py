"""Headers read by our own walkers against the libraries that decode the same files: Pillow, libvips, exiftool."""

from __future__ import annotations

import contextlib
import io
import json
import struct
from pathlib import Path

import numpy as np
import pytest
from PIL import Image, ImageOps

from tests.support import pictures
from tests.support.exiftool import exiftool
from young_prism.core.errors import DamagedError, OriginalError
from young_prism.core.images.headers import (
    gif,
    jpeg,
    png,
    webp,
)
from young_prism.core.images.headers.contract import BytesView, FileView
from young_prism.core.images.headers.exif import read_exif
from young_prism.core.inspection.inspect import inspect_bytes, inspect_header
from young_prism.core.types import Kind
from young_prism.demo.catalogue import camera_exif


def saved(image: Image.Image, fmt: str, **options: object) -> bytes:
    buffer = io.BytesIO()
    image.save(buffer, fmt, **options)
    return buffer.getvalue()


PILLOW_CANNOT = {"multipage_rgb.tif"}


@pytest.mark.parametrize(
    "file",
    [file for file in pictures.real_pictures() if file.name not in PILLOW_CANNOT],
    ids=lambda file: file.name,
)
def test_headers_of_real_pictures_say_what_pillow_says(file: Path) -> None:
    with Image.open(file) as image, FileView(file) as view:
        result = inspect_header(view)
        assert tuple(result.stored) == image.size
        assert result.frames == (
            getattr(image, "n_frames", 1) if image.format in ("GIF", "PNG", "WEBP") else 1
        )
        assert result.grey == (image.mode in ("1", "L", "LA", "I;16", "I;16B", "I", "F"))
        if result.frames == 1:  # Pillow tells of a frame's transparency when it comes to it
            assert result.alpha == ("A" in image.getbands() or "transparency" in image.info)
        assert bool(result.profile_name) == ("icc_profile" in image.info)
        if image.format == "JPEG":
            assert result.layered == ("progressive" in image.info)
            assert result.bytes == file.stat().st_size


@pytest.mark.parametrize("orientation", range(1, 9))
@pytest.mark.parametrize("fmt", ["JPEG", "PNG", "WEBP", "TIFF"])
def test_orientation_is_found_in_every_format_that_has_it(fmt: str, orientation: int) -> None:
    """Exif (CIPA DC-008), tag 0x0112, against Pillow's `ImageOps.exif_transpose`."""
    data = saved(pictures.photo(60, 40), fmt, exif=camera_exif(orientation=orientation))
    with Image.open(io.BytesIO(data)) as image:
        upright = ImageOps.exif_transpose(image)
    header = inspect_header(BytesView(data))
    assert (header.orientation, tuple(header.size)) == (orientation, upright.size)


def test_the_two_looks_agree_on_what_both_can_see() -> None:
    frames = [pictures.graphic(60, 40), pictures.photo(60, 40)]
    for data in (
        pictures.jpeg(pictures.photo(900, 600), exif=camera_exif(has_place=True), progressive=True),
        pictures.jpeg(pictures.photo(90, 60).convert("CMYK")),
        pictures.png(pictures.graphic(300, 200, clear=True)),
        saved(pictures.photo(90, 60), "WEBP", quality=80),
        saved(pictures.graphic(90, 60, clear=True), "WEBP", lossless=True),
        saved(frames[0], "GIF", save_all=True, append_images=frames[1:], duration=70, loop=2),
        saved(frames[0], "WEBP", save_all=True, append_images=frames[1:], duration=70, loop=2),
        saved(pictures.photo(90, 60), "BMP"),
        saved(pictures.photo(90, 60), "AVIF"),
    ):
        header, whole = inspect_header(BytesView(data)), inspect_bytes(data)
        assert not header.seen and whole.seen
        assert header.kind in (Kind.UNKNOWN, whole.kind)
        for name in ("format", "size", "stored", "frames", "duration_ms", "loops", "bit_depth", "cmyk", "grey",
                     "profile_name", "metadata", "place", "jpeg_quality", "subsampling", "layered", "bytes"):  # fmt: skip
            assert getattr(header, name) == getattr(whole, name), name
        assert header.alpha or not whole.transparent


def test_animations_keep_their_time_and_their_loops() -> None:
    frames = [pictures.graphic(60, 40), pictures.photo(60, 40), pictures.graphic(60, 40).rotate(90)]
    avif = inspect_bytes(
        saved(frames[0], "AVIF", save_all=True, append_images=frames[1:], duration=[70, 130, 200])
    )
    assert (avif.frames, avif.duration_ms, avif.kind, avif.seen) == (3, 400, Kind.ANIMATION, True)
    for fmt, reader in (("GIF", gif.read), ("WEBP", webp.read), ("PNG", png.read)):
        for loops in (0, 3):
            data = saved(
                frames[0], fmt, save_all=True, append_images=frames[1:], duration=[70, 130, 200], loop=loops
            )
            result = reader(BytesView(data))
            with Image.open(io.BytesIO(data)) as image:
                times = []
                for at in range(image.n_frames):
                    image.seek(at)
                    image.load()  # a WebP tells a frame's time only then
                    times.append(image.info["duration"])
                assert (result.frames, result.duration_ms) == (image.n_frames, sum(times)), fmt
            # In a GIF the number says how often it plays again after the first time.
            assert result.loops == (loops + 1 if fmt == "GIF" and loops else loops), fmt


def test_odd_pngs_are_told_apart() -> None:
    palette = pictures.graphic(60, 40).quantize(16)
    assert (png.read(BytesView(saved(palette, "PNG"))).colours > 0, palette.mode) == (True, "P")
    clear = png.read(BytesView(saved(palette, "PNG", transparency=0)))
    assert clear.alpha
    deep = Image.fromarray((np.arange(600, dtype=np.uint16) * 100).reshape(20, 30))
    result = png.read(BytesView(saved(deep, "PNG")))
    assert (result.bit_depth, result.grey) == (16, True)


@pytest.mark.parametrize(
    "command", [["-EXIF:Make=A", "-EXIF:Orientation#=6"], ["-IPTC:City=B"], ["-XMP:City=B"]]
)
@pytest.mark.parametrize("ending", ["jpg", "png", "webp", "tif"])
def test_what_exiftool_wrote_late_in_a_file_is_found(command: list[str], ending: str, tmp_path: Path) -> None:
    """PNG and WebP may have their metadata behind the pixels; only a part of the file is read to find it."""
    file = tmp_path / f"a.{ending}"
    pictures.photo(500, 400).save(file)
    exiftool("-overwrite_original", *command, file, check=False)  # not every format has all of them
    text = json.loads(exiftool("-json", file))[0]
    with FileView(file) as view:
        result = inspect_header(view)
    assert ("camera" in result.metadata) == ("Make" in text)
    assert ("place" in result.metadata) == ("City" in text)
    assert (result.orientation == 6) == (
        "Orientation" in text and text["Orientation"] != "Horizontal (normal)"
    )


def test_a_header_cut_anywhere_is_damage_and_never_a_crash() -> None:
    frames = [pictures.graphic(60, 40), pictures.photo(60, 40)]
    wholes = [
        pictures.jpeg(pictures.photo(64, 48), exif=camera_exif(has_place=True)),
        pictures.png(pictures.graphic(60, 40)),
        saved(frames[0], "GIF", save_all=True, append_images=frames[1:]),
        saved(frames[0], "WEBP", save_all=True, append_images=frames[1:]),
        saved(frames[0], "BMP"),
    ]
    for whole in wholes:
        for length in [*range(0, min(len(whole), 900), 7), len(whole) - 1]:
            with contextlib.suppress(OriginalError):
                inspect_header(BytesView(whole[:length]))


def test_crooked_exif_tells_nothing_and_ends() -> None:
    ring = b"II*\0\x08\0\0\0\x01\0" + struct.pack("<HHII", 0x8769, 4, 1, 8) + struct.pack("<I", 8)
    assert set(read_exif(ring).image) == {0x8769}
    for data in (b"", b"II", b"XX*\0", b"II*\0\xff\xff\xff\xff", ring[:12], ring[:-2]):
        read_exif(data)
    for length in range(0, 400, 5):
        block = camera_exif(has_place=True).tobytes()[:length]
        read_exif(block)


def test_a_jpeg_of_no_pixels_is_said_so() -> None:
    data = bytearray(pictures.jpeg(pictures.photo(64, 48)))
    at = data.index(b"\xff\xc0")
    data[at + 5 : at + 9] = bytes(4)
    with pytest.raises(DamagedError, match="without pixels"):
        jpeg.read(BytesView(bytes(data)))


def test_a_bitmap_is_decoded_as_pillow_decodes_it() -> None:
    from young_prism.core.pixels.shape import largest_rung

    for image in (
        pictures.photo(61, 40),
        pictures.photo(61, 40).convert("L"),
        pictures.graphic(40, 30).quantize(8),
    ):
        data = saved(image, "BMP")
        facts = inspect_bytes(data)
        owned = largest_rung(data, facts, facts.size).numpy()
        expected = np.asarray(image.convert("L" if image.mode == "L" else "RGB"))
        assert np.array_equal(
            owned.reshape(expected.shape) if owned.size == expected.size else owned[..., :3],
            expected if owned.size == expected.size else np.stack([expected] * 3, -1),
        )

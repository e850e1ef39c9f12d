"""Pictures for tests, small and made by code; and the real ones that scikit-image and scikit-learn carry."""

from __future__ import annotations

import hashlib
import io
import struct
import tempfile
import zlib
from functools import cache, lru_cache
from importlib.util import find_spec
from itertools import count
from pathlib import Path

import numpy as np
import pillow_heif
from PIL import Image, ImageDraw

from young_prism.core.recipe.toml import read_recipe
from young_prism.demo.catalogue import camera_exif
from young_prism.demo.paint import DAWN, finish, landscape

_PAINTED_PX = 480


def photo(width: int = 640, height: int = 427, seed: int = 1) -> Image.Image:
    """Return a painted photograph; larger ones are enlarged paintings, with the grain of their own size."""
    return _photo(width, height, seed).copy()


@lru_cache(16)
def _photo(width: int, height: int, seed: int) -> Image.Image:
    rng = np.random.default_rng(seed)
    share = min(1.0, _PAINTED_PX / max(width, height))
    painting = landscape(rng, max(1, round(width * share)), max(1, round(height * share)), DAWN)
    return finish(painting, (width, height), rng)


def graphic(width: int = 900, height: int = 600, *, clear: bool = False) -> Image.Image:
    image = Image.new("RGBA", (width, height), (0, 0, 0, 0) if clear else "white")
    draw = ImageDraw.Draw(image)
    bar = width / 10
    for step in range(6):
        left = bar * (0.5 + 1.5 * step)
        draw.rectangle(
            [left, height * 0.08 * (step + 2), left + bar, height * 0.9], fill=(30 * step, 90, 160)
        )
    draw.text((width / 10, 2), "Passengers", fill="black")
    return image if clear else image.convert("RGB")


def jpeg(image: Image.Image, **options: object) -> bytes:
    buffer = io.BytesIO()
    image.save(buffer, "JPEG", **{"quality": 92, **options})
    return buffer.getvalue()


def png(image: Image.Image) -> bytes:
    buffer = io.BytesIO()
    image.save(buffer, "PNG")
    return buffer.getvalue()


def png_of_size(width: int, height: int) -> bytes:
    """A PNG whose header declares any size at all, with a correct checksum."""
    data = bytearray(png(graphic(16, 16)))
    data[16:24] = struct.pack(">II", width, height)
    data[29:33] = struct.pack(">I", zlib.crc32(bytes(data[12:29])))
    return bytes(data)


def broken_checksum(data: bytes) -> bytes:
    """A PNG with one bit of its first IDAT's checksum turned."""
    at = data.index(b"IDAT")
    length = int.from_bytes(data[at - 4 : at], "big")
    broken = bytearray(data)
    broken[at + 4 + length] ^= 1
    return bytes(broken)


def has_all_frames(file: Path) -> bool:
    """Whether Pillow, a strict decoder, reads every frame of a file to its end."""
    try:
        with Image.open(file) as image:
            for number in range(getattr(image, "n_frames", 1)):
                image.seek(number)
                image.load()
    except (OSError, EOFError, ValueError, SyntaxError):
        return False
    return True


def small_source(root: Path) -> Path:
    """Write a source with one picture of every kind; names with spaces, commas, accents and dots."""
    for path, data in _small_source().items():
        (root / path).parent.mkdir(parents=True, exist_ok=True)
        (root / path).write_bytes(data)
    return root


@cache
def _small_source() -> dict[str, bytes]:
    """Paint the small source once: that takes longer than most tests."""
    with tempfile.TemporaryDirectory() as folder:
        root = _painted(Path(folder))
        return {
            path.relative_to(root).as_posix(): path.read_bytes() for path in root.rglob("*") if path.is_file()
        }


def _painted(root: Path) -> Path:
    (root / "deep" / "er").mkdir(parents=True)
    clear = png(graphic(500, 300, clear=True))
    (root / "clear.png").write_bytes(clear)
    (root / "photo.jpg").write_bytes(_with_first_digit_of(clear))
    (root / "deep" / "sideways, été.jpg").write_bytes(
        jpeg(photo(600, 400, 2), exif=camera_exif(orientation=6, has_place=True))
    )
    (root / "deep" / "er" / "chart.v2.png").write_bytes(png(graphic(1000, 640)))
    pillow_heif.from_pillow(photo(480, 360, 3)).save(
        root / "IMG_1.HEIC", quality=60, exif=camera_exif(has_place=True, phone=True).tobytes()
    )
    frames = [graphic(120, 80).quantize(8), graphic(120, 80, clear=True).convert("RGB").quantize(8)]
    frames[0].save(root / "moving.gif", save_all=True, append_images=frames[1:], duration=90, loop=0)
    (root / "mark.svg").write_text(
        '<svg xmlns="http://www.w3.org/2000/svg" width="40" height="20"><path d="M0 0h9"/></svg>'
    )
    (root / "notes.txt").write_text("not a picture, and not called one")
    return root


def _with_first_digit_of(data: bytes) -> bytes:
    """Return a photograph whose hash begins as that of `data`: named by one digit of it, both collide."""
    painted, exif = photo(900, 600), camera_exif(has_place=True)
    for number in count():
        exif[0x0110] = f"FC-{number}"
        result = jpeg(painted, exif=exif)
        if hashlib.sha256(result).hexdigest()[0] == hashlib.sha256(data).hexdigest()[0]:
            return result
    raise AssertionError


def hashes(root: Path) -> dict[str, str]:
    """Every file below `root` with its hash and time of change: two equal results prove that nothing was touched."""
    return {
        str(
            path.relative_to(root)
        ): f"{hashlib.sha256(path.read_bytes()).hexdigest()} {path.stat().st_mtime_ns}"
        for path in sorted(root.rglob("*"))
        if path.is_file()
    }


def _package(name: str) -> Path:
    spec = find_spec(name)
    assert spec and spec.origin
    return Path(spec.origin).parent


def real_pictures() -> list[Path]:
    """The photographs and graphics in the wheels of scikit-image and scikit-learn."""
    # Found and not imported: that takes seconds, in each process that collects tests.
    folders = [_package("skimage") / "data", _package("sklearn") / "datasets" / "images"]
    endings = {".png", ".jpg", ".gif", ".tif"}
    return sorted(path for folder in folders for path in folder.iterdir() if path.suffix in endings)


QUICK_FORMATS = """
[formats.photo]
avif = { effort = 0 }
webp = { effort = 0 }
jpeg = {}
[formats.photo_transparent]
avif = { effort = 0 }
webp = { effort = 0 }
png = { level = 0 }
[formats.graphic]
avif = { effort = 0 }
webp = { effort = 0, lossless = "when-smaller" }
png = { level = 0 }
[formats.graphic_transparent]
avif = { effort = 0 }
webp = { effort = 0, lossless = "when-smaller" }
png = { level = 0 }
"""
"""The part of a recipe for tests that need all formats, and none of them small."""

QUICK = read_recipe(QUICK_FORMATS).formats

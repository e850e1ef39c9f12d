"""What the demo source holds: for each original its place, how it is painted, and how it is saved."""

from __future__ import annotations

import io
from collections.abc import Callable
from contextvars import ContextVar
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np
import pillow_heif
from PIL import Image

from young_prism.core.vips import pyvips
from young_prism.demo import graphics, railway
from young_prism.demo.paint import (
    AUTUMN,
    DAWN,
    DAY,
    DUSK,
    FOG,
    NIGHT,
    WINTER,
    Array,
    Light,
    finish,
    fractal,
    landscape,
)

Save = Callable[[Path], None]
OCEAN = ((48.0, 52.0, 31.75), (123.0, 23.0, 33.07))
"""Degrees, minutes, seconds south and west: mid-ocean, far from any coast."""

painting_px: ContextVar[int] = ContextVar("painting_px", default=1400)
"""The longest side of a painting, before it is brought to camera size. Tests paint smaller, since this takes most of the time."""


@dataclass(frozen=True)
class DemoOriginal:
    """One original: its path below the images' folder, its rough cost for sharing out, and what writes it."""

    path: str
    cost: float
    save: Save


def _painting(
    seed: int, size: tuple[int, int], light: Light, **options: bool | float
) -> tuple[np.random.Generator, Array]:
    """Paint at no more than `painting_px` across; `finish` brings it to camera size."""
    rng = np.random.default_rng(seed)
    scale = min(1.0, painting_px.get() / max(size))
    width, height = round(size[0] * scale), round(size[1] * scale)
    return rng, landscape(rng, width, height, light, **options)  # type: ignore[arg-type]


def _shape(picture: Array) -> tuple[int, int]:
    return picture.shape[1], picture.shape[0]


def camera_exif(*, orientation: int = 1, has_place: bool = False, phone: bool = False) -> Image.Exif:
    """Return made-up camera data, with a position in mid-ocean if wanted."""
    exif = Image.Exif()
    exif[0x010F] = "Ferncote"
    exif[0x0110] = "Pocket 4" if phone else "FC-2"
    exif[0x0112] = orientation
    exif[0x0132] = "2026:06:21 05:12:09"
    exif[0x013B] = "A. Larch"
    if has_place:
        gps = exif.get_ifd(0x8825)
        gps[1], gps[2], gps[3], gps[4] = "S", OCEAN[0], "W", OCEAN[1]
    return exif


def _jpeg(
    image: Image.Image, path: Path, quality: int, *, exif: Image.Exif | None = None, progressive: bool = False
) -> None:
    image.save(
        path, "JPEG", quality=quality, subsampling=0, progressive=progressive, exif=exif or camera_exif()
    )


def _view(
    path: str,
    seed: int,
    size: tuple[int, int],
    light: Light,
    quality: int = 92,
    *,
    layers: Callable[[Array], Array] | None = None,
    **options: bool | float,
) -> DemoOriginal:
    def save(target: Path) -> None:
        rng, picture = _painting(seed, size, light, **options)
        if layers:
            picture = layers(picture)
        _jpeg(finish(picture, size, rng), target, quality)

    return DemoOriginal(path, size[0] * size[1] / 1e6 + 3, save)


def _climbing(at: tuple[float, float], length: float, *, lit: bool = False) -> Callable[[Array], Array]:
    def draw(picture: Array) -> Array:
        size = _shape(picture)
        line = railway.track(
            size, (-0.05, at[1] + 0.47 * (at[0] + 0.05) + 0.02), (1.05, at[1] - 0.47 * (1.05 - at[0]) + 0.02)
        )
        picture = railway.lay_over(picture, line, shadow=0.25)
        angle = np.degrees(np.arctan(0.47 * size[1] / size[0]))
        return railway.lay_over(picture, railway.car(size, at, length, float(angle), lit=lit), shadow=0.35)

    return draw


def _with(layer: Callable[[tuple[int, int]], Image.Image], shadow: float = 0.4) -> Callable[[Array], Array]:
    return lambda picture: railway.lay_over(picture, layer(_shape(picture)), shadow=shadow)


def _phone(path: str, seed: int, light: Light, *, has_place: bool) -> DemoOriginal:
    """Return a phone's HEIC: stored sideways, with the turn written in the container."""

    def save(target: Path) -> None:
        size = (1944, 2592)
        rng, picture = _painting(seed, size, light)
        picture = _climbing((0.45, 0.6), 0.34)(picture)
        image = finish(picture, size, rng).transpose(Image.Transpose.ROTATE_90)
        pillow_heif.from_pillow(image).save(
            target,
            quality=62,
            enc_params={"preset": "ultrafast"},
            exif=camera_exif(orientation=6, has_place=has_place, phone=True).tobytes(),
        )

    return DemoOriginal(path, 20, save)


def _sideways(target: Path) -> None:
    size = (2268, 3024)
    rng, picture = _painting(52, size, AUTUMN)
    image = finish(_climbing((0.52, 0.58), 0.36)(picture), size, rng).transpose(Image.Transpose.ROTATE_90)
    _jpeg(image, target, 90, exif=camera_exif(orientation=6, has_place=True, phone=True))


def _wide_gamut(target: Path) -> None:
    size = (2400, 1600)
    rng, picture = _painting(61, size, DUSK, lake=True)
    pixels = pyvips.Image.new_from_array(np.asarray(finish(picture, size, rng))).copy(interpretation="srgb")
    # The numbers are read as Display P3, where they stand for stronger colours than sRGB has.
    pixels = pixels.icc_import(input_profile="p3").icc_export(output_profile="p3")
    target.write_bytes(pixels.jpegsave_buffer(Q=92, subsample_mode="off"))


def _cmyk(target: Path) -> None:
    size = (2200, 1467)
    rng, picture = _painting(62, size, DAY)
    image = finish(_climbing((0.5, 0.6), 0.5)(picture), size, rng)
    pixels = pyvips.Image.new_from_array(np.asarray(image)).copy(interpretation="srgb")
    pixels = pixels.icc_import(input_profile="srgb").icc_export(output_profile="cmyk")
    target.write_bytes(pixels.jpegsave_buffer(Q=90))


def _first_snow(target: Path) -> None:
    import imagecodecs

    size = (1400, 933)
    rng, picture = _painting(26, size, WINTER)
    image = finish(_climbing((0.45, 0.7), 0.4)(picture), size, rng)
    target.write_bytes(imagecodecs.jpegxl_encode(np.asarray(image), distance=1.0, effort=3, numthreads=1))


def _indoors(seed: int, size: tuple[int, int], *, cake: bool = False) -> Image.Image:
    """Return a cup or a cake on a wooden counter, out of the same cut-out as the product shot."""
    rng = np.random.default_rng(seed)
    height, width = size[1], size[0]
    grain = fractal(rng, height, width, cell=40, octaves=5, stretch=14)
    boards = 0.82 + 0.18 * (np.arange(height)[:, None] % (height // 7) > height // 7 * 0.05)
    wood = (
        np.array([0.36, 0.23, 0.14], np.float32) + grain[..., None] * np.array([0.34, 0.24, 0.15], np.float32)
    ) * boards[..., None]
    blur = fractal(rng, height, width, cell=width / 5, octaves=2)
    wall = np.array([0.62, 0.66, 0.62], np.float32) * (0.6 + 0.5 * blur[..., None])
    down = np.clip((np.arange(height, dtype=np.float32) / height - 0.46) * 40, 0, 1)[:, None, None]
    image = finish(wall * (1 - down) + wood * down, size, rng)
    cut = railway.cup(round(height * 0.8), cake=cake)
    image.paste(cut, ((width - cut.width) // 2, round(height * 0.12)), cut)
    return image


def _saved(path: str, cost: float, make: Callable[[], Image.Image], **options: Any) -> DemoOriginal:
    return DemoOriginal(path, cost, lambda target: make().save(target, **options))


def _text(content: str) -> Save:
    def save(target: Path) -> None:
        target.write_text(content)

    return save


def _ticket_on_white() -> Image.Image:
    """Return the adult's ticket as somebody saved it for a newsletter: a graphic in JPEG, on white."""
    ticket = graphics.ticket("Adult", "9.50", railway.RED)
    white = Image.new("RGB", ticket.size, "white")
    white.paste(ticket, mask=ticket)
    return white


def _pressed_hard(target: Path) -> None:
    rng, picture = _painting(71, (900, 600), FOG)
    finish(_climbing((0.5, 0.62), 0.4)(picture), (900, 600), rng).save(target, "JPEG", quality=34)


def _smaller_copy(target: Path) -> None:
    """Save the dawn once more as somebody made it smaller for a page long ago."""
    rng, picture = _painting(1, (6000, 4000), DAWN)
    picture = _climbing((0.3, 0.68), 0.13)(picture)
    _jpeg(finish(picture, (1200, 800), rng), target, 82)


def _broken(target: Path) -> None:
    rng, picture = _painting(72, (1600, 1067), DAY)
    buffer = io.BytesIO()
    finish(picture, (1600, 1067), rng).save(buffer, "JPEG", quality=88)
    target.write_bytes(buffer.getvalue()[: len(buffer.getvalue()) * 3 // 5])


def _photo_as(
    seed: int, size: tuple[int, int], light: Light, layers: Callable[[Array], Array], **options: Any
) -> Save:
    def save(target: Path) -> None:
        rng, picture = _painting(seed, size, light)
        finish(layers(picture), size, rng).save(target, **options)

    return save


def _stamp_named_jpeg(target: Path) -> None:
    """Save the logo as PNG under a name that says JPEG, the way a renamed file does."""
    graphics.logo().save(target, "PNG")


def _animation(target: Path) -> None:
    first, *rest = graphics.climb_frames()
    first.save(target, save_all=True, append_images=rest, duration=80, loop=0, optimize=False)


def _window_seat(target: Path) -> None:
    """Save a view that glides by as somebody made a film into a GIF: dithered, and as heavy as one."""
    rng, picture = _painting(73, (1400, 420), AUTUMN)
    view = finish(picture, (1400, 420), rng)
    frames = [
        view.crop((step * 40, 0, step * 40 + 640, 420)).quantize(128, method=Image.Quantize.FASTOCTREE)
        for step in range(16)
    ]
    frames[0].save(target, save_all=True, append_images=frames[1:], duration=120, loop=3)


def _lamp(target: Path) -> None:
    frames = []
    for step in range(12):
        image = Image.new("RGBA", (240, 240))
        glow = np.hypot(*np.mgrid[-1:1:240j, -1:1:240j])
        level = 0.55 + 0.45 * np.sin(2 * np.pi * step / 12)
        alpha = np.clip(255 * level * np.exp(-glow * 3), 0, 255).astype(np.uint8)
        image.paste((255, 224, 150), (0, 0, 240, 240), Image.fromarray(alpha))
        frames.append(image)
    frames[0].save(target, "WEBP", save_all=True, append_images=frames[1:], duration=90, loop=0, quality=70)


def catalogue() -> list[DemoOriginal]:
    """Return every original of the demo source."""
    house = _with(lambda size: railway.station(size, (0.55, 0.83), 0.5))
    return [
        _view("panoramas/summit-dawn.jpg", 1, (6000, 4000), DAWN, 94, layers=_climbing((0.3, 0.68), 0.13)),
        _view("panoramas/valley-fog.jpg", 2, (6000, 3376), FOG, 92, layers=_climbing((0.62, 0.5), 0.16)),
        _view("panoramas/Ridge Walk, évening.jpg", 3, (5600, 3733), DUSK, 93),
        _view("panoramas/lake-mirror.jpg", 4, (4200, 1800), DAWN, 92, lake=True),
        _view("panoramas/winter-line.jpg", 5, (3200, 2133), WINTER, 92, layers=_climbing((0.4, 0.6), 0.2)),
        _view(
            "panoramas/night-lights.jpg",
            6,
            (2400, 1600),
            NIGHT,
            90,
            layers=_climbing((0.56, 0.56), 0.24, lit=True),
        ),
        DemoOriginal("panoramas/sunset-wide.jpg", 8, _wide_gamut),
        DemoOriginal("panoramas/summit-dawn-small.jpg", 5, _smaller_copy),
        _view("rides/car-3-climbing.jpg", 11, (3000, 2000), DAY, 92, layers=_climbing((0.5, 0.62), 0.42)),
        _view("rides/platform.jpg", 12, (2400, 1600), DUSK, 90, layers=house),
        _view("rides/passing-loop.jpg", 13, (2000, 3000), AUTUMN, 91, layers=_climbing((0.5, 0.62), 0.6)),
        _view(
            "rides/winch-house.jpg",
            14,
            (2200, 1467),
            WINTER,
            90,
            layers=_with(lambda size: railway.wheel(size, (0.42, 0.52), 0.36)),
        ),
        _view(
            "rides/larch-halt.jpg",
            15,
            (1800, 1200),
            AUTUMN,
            88,
            layers=_with(lambda size: railway.station(size, (0.4, 0.86), 0.42, lit=False)),
        ),
        DemoOriginal(
            "rides/tunnel-mouth.webp",
            5,
            _photo_as(
                16,
                (1800, 1200),
                DAY,
                _with(lambda size: railway.tunnel(size, (0.5, 0.86), 0.34)),
                format="WEBP",
                quality=88,
                method=2,
            ),
        ),
        DemoOriginal("rides/press/car-2-cmyk.jpg", 8, _cmyk),
        _phone("rides/IMG_2041.HEIC", 17, DAY, has_place=True),
        _phone("rides/IMG_2042.HEIC", 18, FOG, has_place=True),
        DemoOriginal("rides/IMG_2043.JPG", 10, _sideways),
        DemoOriginal(
            "rides/hut.avif",
            4,
            _photo_as(
                19,
                (1400, 933),
                WINTER,
                _with(lambda size: railway.station(size, (0.5, 0.84), 0.6)),
                format="AVIF",
                quality=70,
                speed=9,
            ),
        ),
        DemoOriginal("rides/first-snow.jxl", 4, _first_snow),
        DemoOriginal("rides/old-banner.jpg", 2, _pressed_hard),
        _view("café/terrace.jpg", 21, (2600, 1733), DAY, 91, layers=_with(railway.terrace, 0.3)),
        _saved("café/counter.jpg", 6, lambda: _indoors(22, (1800, 1800)), quality=91),
        _saved(
            "café/cloudberry cake (new).jpg", 5, lambda: _indoors(23, (1600, 1200), cake=True), quality=92
        ),
        _saved("café/cup.png", 3, lambda: railway.cup(1400)),
        _saved("café/cake-stand.png", 3, lambda: railway.cup(1200, cake=True)),
        _saved("café/menu-board.png", 3, graphics.menu_board),
        DemoOriginal(
            "café/view-from-table.png",
            9,
            _photo_as(24, (1600, 1067), DAWN, _with(railway.terrace, 0.3), format="PNG", compress_level=4),
        ),
        _saved("maps/route.map.v2.png", 3, graphics.route_map),
        _saved("maps/timetable.png", 2, graphics.timetable),
        _saved("maps/Fare Zones (été).png", 2, graphics.zones),
        _saved("maps/passengers.png", 2, graphics.chart),
        _saved("maps/gradient-sketch.bmp", 1, lambda: graphics.chart().convert("RGB").resize((450, 300))),
        DemoOriginal("maps/gradient.svg", 0, _text(graphics.gradient_svg())),
        _saved("maps/poster-1931.tiff", 3, graphics.poster, compression="tiff_lzw"),
        _saved("tickets/ticket.png", 1, lambda: graphics.ticket("Adult", "9.50", railway.RED)),
        _saved("tickets/ticket.jpg", 1, _ticket_on_white, quality=90),
        _saved("tickets/ticket-child.png", 1, lambda: graphics.ticket("Child", "4.75", graphics.GREEN)),
        _saved("tickets/ticket-icons.png", 1, graphics.sprite),
        _saved("brand/logo.png", 1, graphics.logo),
        DemoOriginal("brand/logo.svg", 0, _text(graphics.LOGO_SVG)),
        DemoOriginal("brand/summit-stamp.jpg", 1, _stamp_named_jpeg),
        _saved("brand/badge.gif", 1, graphics.badge, transparency=0),
        DemoOriginal("motion/climb.gif", 2, _animation),
        DemoOriginal("motion/window-seat.gif", 8, _window_seat),
        DemoOriginal("motion/lamp.webp", 2, _lamp),
        DemoOriginal("archive/broken-download.jpg", 4, _broken),
        DemoOriginal(
            "archive/letter.jpg",
            0,
            _text("Dear Sirs, the picture follows by post.\n"),
        ),
    ]

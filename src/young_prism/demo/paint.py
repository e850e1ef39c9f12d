"""Landscapes in numpy: sky, clouds, ridges in haze, conifers, water. Arrays are float32, (height, width, 3), 0 to 1."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray
from PIL import Image, ImageFilter

Array = NDArray[np.floating[Any]]
Rgb = tuple[float, float, float]


def rgb(code: str) -> Rgb:
    """Return `#rrggbb` as three numbers from 0 to 1."""
    return (int(code[1:3], 16) / 255, int(code[3:5], 16) / 255, int(code[5:7], 16) / 255)


def fractal(
    rng: np.random.Generator, height: int, width: int, *, cell: float, octaves: int = 5, stretch: float = 1.0
) -> Array:
    """Return smooth noise of shape (height, width) from 0 to 1; `stretch` draws it out sideways."""
    total = np.zeros((height, width), np.float32)
    weight = 1.0
    for octave in range(octaves):
        size = max(1.5, cell / 2**octave)
        grid = rng.random((int(height / size) + 3, int(width / size / stretch) + 3), np.float32)
        layer = Image.fromarray(grid).resize((width, height), Image.Resampling.BICUBIC)
        total += weight * np.asarray(layer, np.float32)
        weight *= 0.5
    total -= total.min()
    return total / max(float(total.max()), 1e-6)


def profile(
    rng: np.random.Generator, width: int, *, cell: float, octaves: int = 6, gain: float = 0.46
) -> Array:
    """Return a ridge's outline: `width` heights from -1 to 1."""
    x = np.arange(width, dtype=np.float32)
    total = np.zeros(width, np.float32)
    weight = 1.0
    for octave in range(octaves):
        step = cell / 2**octave
        knots = rng.random(int(width / step) + 3) * 2 - 1
        at = x / step
        whole = at.astype(int)
        part = at - whole
        ease = part * part * (3 - 2 * part)
        total += weight * (knots[whole] * (1 - ease) + knots[whole + 1] * ease).astype(np.float32)
        weight *= gain
    return total / np.abs(total).max()


def conifers(rng: np.random.Generator, width: int, *, count: int, tall: float) -> Array:
    """Return how far a row of conifers rises over each column, in pixels."""
    rise = np.zeros(width, np.float32)
    for _ in range(count):
        height = tall * rng.uniform(0.45, 1.0)
        half = max(2.0, height * rng.uniform(0.16, 0.24))
        middle = rng.uniform(0, width)
        left, right = int(max(0, middle - half)), int(min(width, middle + half + 1))
        if right <= left:
            continue
        away = np.abs(np.arange(left, right) - middle) / half
        tiers = 0.5 + 0.5 * np.sin(away * 21)
        shape = height * np.clip(1 - away**0.85 - 0.10 * tiers * away, 0, 1)
        rise[left:right] = np.maximum(rise[left:right], shape)
    return rise


@dataclass(frozen=True)
class Light:
    """The hour and the weather of a landscape."""

    zenith: str
    horizon: str
    haze: str
    ground: str
    sun: tuple[float, float] | None = (0.7, 0.42)
    glow: str = "#ffe2b0"
    clouds: float = 0.5
    cloud: str = "#ffffff"
    fog: float = 0.35
    stars: bool = False
    snow: bool = False


DAWN = Light("#5a7ba6", "#f4c9a0", "#e2b8a2", "#1d2f2c", (0.72, 0.44), "#fff0c8", 0.55, "#ffd9c4", 0.45)
DAY = Light("#3f79b8", "#cfe3ee", "#b9d0da", "#2a4a2a", (0.2, 0.12), "#ffffff", 0.6, "#ffffff", 0.25)
FOG = Light("#a9b6bd", "#dfe3e2", "#d3dad9", "#35443f", None, "#ffffff", 0.3, "#eef0ef", 0.95)
DUSK = Light("#2e3563", "#f0875a", "#a8617a", "#15172b", (0.33, 0.5), "#ffcf7a", 0.75, "#f59a78", 0.4)
NIGHT = Light(
    "#060a1c", "#24345c", "#1b2948", "#04070d", (0.78, 0.18), "#cfdcff", 0.25, "#31406b", 0.3, stars=True
)
WINTER = Light(
    "#7fa3c6", "#e9eef4", "#dbe5ee", "#61788c", (0.3, 0.22), "#ffffff", 0.45, "#ffffff", 0.4, snow=True
)
AUTUMN = Light("#6c8fb0", "#eed9ae", "#d9c09a", "#5a3516", (0.64, 0.3), "#fff0c0", 0.5, "#fff3df", 0.35)


def landscape(
    rng: np.random.Generator,
    width: int,
    height: int,
    light: Light,
    *,
    ridges: int = 6,
    horizon: float = 0.52,
    trees: bool = True,
    lake: bool = False,
) -> Array:
    """Return a whole hillside view of shape (height, width, 3)."""
    picture = _sky(rng, width, height, light, horizon)
    yy = np.arange(height, dtype=np.float32)[:, None]
    haze, ground = np.array(rgb(light.haze), np.float32), np.array(rgb(light.ground), np.float32)
    for layer in range(ridges):
        near = (layer + 1) / ridges
        base = height * (horizon - 0.08 + 0.5 * near**1.5)
        line = base - height * (0.15 - 0.05 * near) * profile(rng, width, cell=width * (0.42 - 0.2 * near))
        if trees and near > 0.45:
            tall = height * 0.018 * (near * 2.2) ** 2
            line = line - conifers(rng, width, count=int(width / max(tall, 4) * 2.4), tall=tall)
        top = max(0, int(line.min()) - 1)  # nothing of this ridge lies above
        if top >= height - 2:
            continue
        texture = fractal(
            rng, height - top, width, cell=max(6.0, width * 0.03 * near), octaves=4, stretch=1.4
        )
        shade = ground[None, None] * (0.55 + 0.9 * texture[..., None])
        if light.snow:
            shade = np.clip(shade + 0.55 * (texture[..., None] > 0.42 + 0.2 * near), 0, 0.97)
        below = yy[top:] - line[None, :].astype(np.float32)
        depth = np.clip(below / (height * 0.32), 0, 1)
        mist = np.clip((1 - near) ** 1.1 + light.fog * depth * (1 - 0.75 * near), 0, 1)[..., None]
        colour = shade * (1 - mist) + haze * mist
        mask = np.clip(below, 0, 1)[..., None]
        picture[top:] += (colour - picture[top:]) * mask
    if light.sun:
        picture = _glow(picture, light, 0.16)
    return _lake(rng, picture, light) if lake else picture


def _sky(rng: np.random.Generator, width: int, height: int, light: Light, horizon: float) -> Array:
    down = (
        np.clip(np.arange(height, dtype=np.float32) / (height * (horizon + 0.1)), 0, 1)[:, None, None] ** 0.8
    )
    picture = (
        np.array(rgb(light.zenith), np.float32) * (1 - down) + np.array(rgb(light.horizon), np.float32) * down
    )
    picture = np.repeat(picture, width, axis=1)
    if light.stars:
        spots = rng.random((height, width)) > 0.9994
        picture[spots] += rng.uniform(0.2, 0.9, (int(spots.sum()), 1)).astype(np.float32)
    if light.sun:
        picture = _glow(picture, light, 0.75)
    cover = fractal(rng, height, width, cell=height * 0.35, octaves=5, stretch=2.6)
    veil = np.clip((cover - (1 - light.clouds) * 0.85) * 2.4, 0, 1) * (1 - 0.5 * down[..., 0])
    lit = np.array(rgb(light.cloud), np.float32) * (0.72 + 0.28 * cover[..., None])
    return picture * (1 - 0.85 * veil[..., None]) + lit * 0.85 * veil[..., None]


def _glow(picture: Array, light: Light, strength: float) -> Array:
    height, width = picture.shape[:2]
    if light.sun is None:
        return picture
    xx = (np.arange(width, dtype=np.float32)[None, :] / width - light.sun[0]) * (width / height)
    yy = np.arange(height, dtype=np.float32)[:, None] / height - light.sun[1]
    away = np.sqrt(xx * xx + yy * yy)
    halo = strength * np.exp(-away * 5) + strength * np.clip((0.035 - away) * 200, 0, 1) * (strength > 0.5)
    return picture + halo[..., None] * (np.array(rgb(light.glow), np.float32) - picture * 0.6)


def _lake(rng: np.random.Generator, picture: Array, light: Light) -> Array:
    height, width = picture.shape[:2]
    shore = int(height * 0.7)
    deep = height - shore
    mirror = picture[shore - deep : shore][::-1]
    ripple = fractal(rng, deep, width, cell=22, octaves=4, stretch=7)
    shift = ((ripple - 0.5) * np.linspace(4, 46, deep, dtype=np.float32)[:, None]).astype(int)
    columns = np.clip(np.arange(width)[None, :] + shift, 0, width - 1)
    water = mirror[np.arange(deep)[:, None], columns] * 0.82 + np.array(rgb(light.haze), np.float32) * 0.07
    result = picture.copy()
    result[shore:] = water + (ripple[..., None] > 0.8) * 0.05
    return result


def finish(
    picture: Array, size: tuple[int, int], rng: np.random.Generator, *, grain: float = 1.8
) -> Image.Image:
    """Bring a painting to camera size, with the fine grain that a sensor leaves everywhere."""
    small = Image.fromarray((np.clip(picture, 0, 1) * 255).astype(np.uint8))
    if small.size != size:
        small = small.resize(size, Image.Resampling.BICUBIC)
    tile = Image.fromarray(np.clip(rng.normal(128, 40, (512, 512)), 0, 255).astype(np.uint8))
    soft = np.asarray(tile.filter(ImageFilter.GaussianBlur(0.6)), np.float32) - 128
    # Softened, the grain is weaker: brought back to the strength that was asked for.
    bits = np.rint(soft / max(float(soft.std()), 1e-3) * grain).astype(np.int16)
    pixels = np.asarray(small)
    result = np.empty_like(pixels)
    for top in range(0, size[1], 512):
        rows = pixels[top : top + 512]
        strip = np.tile(bits, (1, size[0] // 512 + 1))[: rows.shape[0], : size[0], None]
        result[top : top + 512] = np.clip(rows + np.roll(strip, top * 37, axis=1), 0, 255)
    return Image.fromarray(result)

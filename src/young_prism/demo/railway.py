"""Things of the railway, drawn over a landscape: track, car, station, winding wheel, tunnel, terrace, cup.

Every function draws on a transparent layer of the given size; the caller lays it over its painting.
"""

from __future__ import annotations

import math

import numpy as np
from PIL import Image, ImageChops, ImageDraw, ImageFilter

from young_prism.demo.paint import Array

RED, CREAM, DARK, BRASS = "#8c2f26", "#efe3c6", "#22262a", "#c9a24b"
_SMOOTH = 2  # drawn at twice the size, then reduced


def _layer(size: tuple[int, int]) -> tuple[Image.Image, ImageDraw.ImageDraw]:
    image = Image.new("RGBA", (size[0] * _SMOOTH, size[1] * _SMOOTH))
    return image, ImageDraw.Draw(image)


def _reduced(image: Image.Image) -> Image.Image:
    return image.resize((image.width // _SMOOTH, image.height // _SMOOTH), Image.Resampling.BOX)


def lay_over(picture: Array, layer: Image.Image, *, shadow: float = 0.0) -> Array:
    """Blend a layer over a painting, with a soft shadow of `shadow` strength (0 to 1)."""
    result = picture
    alpha = np.asarray(layer.getchannel("A"), np.float32)[..., None] / 255
    if shadow:
        blurred = ImageChops.offset(layer.getchannel("A"), 10, 14).filter(ImageFilter.GaussianBlur(14))
        result = result * (1 - shadow * np.asarray(blurred, np.float32)[..., None] / 255)
    colour = np.asarray(layer.convert("RGB"), np.float32) / 255
    # The layer takes a little of the scene's own light, so that it does not look pasted on.
    ambient = result.mean(axis=(0, 1)) / max(float(result.mean()), 0.05)
    return result * (1 - alpha) + colour * (0.72 + 0.28 * ambient) * alpha


def track(size: tuple[int, int], start: tuple[float, float], end: tuple[float, float]) -> Image.Image:
    """Draw a trestle from `start` to `end`, both as shares of width and height."""
    image, draw = _layer(size)
    width, height = image.size
    (x0, y0), (x1, y1) = (start[0] * width, start[1] * height), (end[0] * width, end[1] * height)
    unit = width / 420
    for step in range(26):
        share = step / 25
        x, y = x0 + (x1 - x0) * share, y0 + (y1 - y0) * share
        thick = unit * (2.2 - 1.3 * share)
        drop = height * (0.30 - 0.2 * share)
        draw.line([(x, y), (x - thick * 2, y + drop)], fill="#2f2a27", width=max(1, int(thick)))
        draw.line([(x, y), (x + thick * 2, y + drop)], fill="#3b3430", width=max(1, int(thick)))
        draw.line(
            [(x - thick, y + drop * 0.5), (x + thick, y + drop * 0.42)],
            fill="#2f2a27",
            width=max(1, int(thick * 0.7)),
        )
    for offset, colour, thick in (
        (0.0, "#4a403a", 4.2),
        (-2.4, "#b9b4ac", 1.0),
        (2.0, "#8f8a83", 1.0),
        (-0.3, "#1b1b1d", 0.6),
    ):
        draw.line(
            [(x0, y0 + offset * unit * 2), (x1, y1 + offset * unit)],
            fill=colour,
            width=max(1, int(thick * unit)),
        )
    return _reduced(image)


def car(
    size: tuple[int, int], at: tuple[float, float], length: float, angle: float, *, lit: bool = False
) -> Image.Image:
    """Draw a stepped car with its middle at `at` (shares), `length` a share of the width, climbing by `angle` degrees."""
    image, draw = _layer(size)
    span = length * image.width
    cx, cy = at[0] * image.width, at[1] * image.height
    slope = math.tan(math.radians(angle))
    cell, tall = span / 4, span * 0.27
    glass = "#ffdf94" if lit else "#aac4cf"
    for number in range(4):
        left = cx - span / 2 + number * cell
        floor = cy - slope * (left + cell / 2 - cx)
        draw.rectangle([left, floor - tall, left + cell + 1, floor], fill=RED)
        draw.rectangle([left, floor - tall * 0.52, left + cell + 1, floor - tall * 0.36], fill=CREAM)
        draw.rectangle(
            [left - span * 0.006, floor - tall * 1.09, left + cell + span * 0.006, floor - tall], fill=DARK
        )
        gap = cell * 0.13
        draw.rounded_rectangle(
            [left + gap, floor - tall * 0.93, left + cell - gap, floor - tall * 0.57], cell * 0.07, fill=glass
        )
        draw.polygon(
            [
                (left + gap, floor - tall * 0.93),
                (left + cell * 0.5, floor - tall * 0.93),
                (left + gap, floor - tall * 0.62),
            ],
            fill="#fff2c6" if lit else "#cfe0e6",
        )
        draw.line(
            [(left + cell / 2, floor - tall * 0.34), (left + cell / 2, floor - tall * 0.03)],
            fill="#6d231c",
            width=max(1, int(span / 220)),
        )
        draw.line(
            [(left, floor - tall * 0.06), (left + cell, floor - tall * 0.06)],
            fill=BRASS,
            width=max(1, int(span / 160)),
        )
    for share in (-0.36, 0.36):
        x = cx + share * span
        y = cy - slope * share * span + span * 0.045
        radius = span * 0.04
        draw.ellipse(
            [x - radius, y - radius, x + radius, y + radius],
            fill="#17191b",
            outline="#55595c",
            width=max(1, int(span / 150)),
        )
    return _reduced(image)


def station(size: tuple[int, int], at: tuple[float, float], scale: float, *, lit: bool = True) -> Image.Image:
    """Draw the summit house with its clock and lamps, its ground at `at`."""
    image, draw = _layer(size)
    unit = scale * image.width / 100
    x, y = at[0] * image.width, at[1] * image.height
    draw.rectangle([x - 34 * unit, y - 24 * unit, x + 34 * unit, y], fill="#d8c7a5")
    for row in range(12):
        draw.line(
            [(x - 34 * unit, y - row * 2 * unit), (x + 34 * unit, y - row * 2 * unit)],
            fill="#c6b38d",
            width=max(1, int(unit * 0.18)),
        )
    draw.polygon(
        [(x - 39 * unit, y - 23 * unit), (x, y - 46 * unit), (x + 39 * unit, y - 23 * unit)], fill="#5d2b24"
    )
    draw.polygon(
        [
            (x - 39 * unit, y - 23 * unit),
            (x, y - 46 * unit),
            (x, y - 43 * unit),
            (x - 36 * unit, y - 22 * unit),
        ],
        fill="#743a30",
    )
    for number in range(5):
        left = x - 29 * unit + number * 12.4 * unit
        draw.rectangle(
            [left, y - 16 * unit, left + 8 * unit, y - (0 if number == 2 else 5) * unit],
            fill="#ffd98a" if lit else "#7f98a3",
        )
        draw.line(
            [(left + 4 * unit, y - 16 * unit), (left + 4 * unit, y - 4 * unit)],
            fill=DARK,
            width=max(1, int(unit * 0.5)),
        )
    radius = 5 * unit
    draw.ellipse(
        [x - radius, y - 35 * unit, x + radius, y - 25 * unit],
        fill=CREAM,
        outline=DARK,
        width=max(1, int(unit * 0.7)),
    )
    draw.line([(x, y - 30 * unit), (x, y - 34 * unit)], fill=DARK, width=max(1, int(unit * 0.6)))
    draw.line([(x, y - 30 * unit), (x + 2.6 * unit, y - 29 * unit)], fill=DARK, width=max(1, int(unit * 0.6)))
    for side in (-46, 46):
        lamp = x + side * unit
        draw.line([(lamp, y), (lamp, y - 19 * unit)], fill=DARK, width=max(2, int(unit)))
        glow = 2.6 * unit
        draw.ellipse(
            [lamp - glow, y - 22 * unit - glow, lamp + glow, y - 22 * unit + glow],
            fill="#fff0bf" if lit else "#b9c3c6",
            outline=DARK,
        )
    draw.rectangle([x - 60 * unit, y, x + 60 * unit, y + 5 * unit], fill="#8d8478")
    draw.line([(x - 60 * unit, y), (x + 60 * unit, y)], fill="#b6ac9d", width=max(1, int(unit * 0.8)))
    return _reduced(image)


def wheel(size: tuple[int, int], at: tuple[float, float], radius: float) -> Image.Image:
    """Draw the winding wheel with its cable, `radius` as a share of the height."""
    image, draw = _layer(size)
    x, y, r = at[0] * image.width, at[1] * image.height, radius * image.height
    for share, colour in ((1.0, "#24282b"), (0.95, "#5a1f19"), (0.90, RED), (0.82, "#24282b")):
        draw.ellipse(
            [x - r * share, y - r * share, x + r * share, y + r * share], outline=colour, width=int(r * 0.055)
        )
    for number in range(10):
        turn = math.pi * number / 5 + 0.2
        draw.line(
            [
                (x + 0.1 * r * math.cos(turn), y + 0.1 * r * math.sin(turn)),
                (x + 0.86 * r * math.cos(turn), y + 0.86 * r * math.sin(turn)),
            ],
            fill="#3a3f43",
            width=int(r * 0.05),
        )
    draw.ellipse(
        [x - r * 0.17, y - r * 0.17, x + r * 0.17, y + r * 0.17],
        fill=BRASS,
        outline=DARK,
        width=int(r * 0.03),
    )
    for side in (-1.0, 1.0):
        draw.line(
            [(x + side * r, y), (x + side * r * 1.25, image.height)],
            fill="#1b1b1d",
            width=max(2, int(r * 0.02)),
        )
    return _reduced(image)


def tunnel(size: tuple[int, int], at: tuple[float, float], width: float) -> Image.Image:
    """Draw a stone portal with its dark mouth, its foot at `at`."""
    image, draw = _layer(size)
    x, y, w = at[0] * image.width, at[1] * image.height, width * image.width
    for number in range(19):
        turn = math.pi + math.pi * number / 18
        px, py = x + w * 0.6 * math.cos(turn), y - w * 0.55 + w * 0.6 * math.sin(turn)
        block = w * 0.075
        tone = 120 + (number * 37) % 40
        draw.ellipse([px - block, py - block, px + block, py + block], fill=(tone, tone - 8, tone - 20))
    for side in (-0.6, 0.6):
        for row in range(5):
            tone = 115 + (row * 53) % 38
            top = y - w * 0.12 * (row + 1)
            draw.rectangle(
                [x + side * w - w * 0.08, top, x + side * w + w * 0.08, top + w * 0.11],
                fill=(tone, tone - 8, tone - 20),
            )
    draw.pieslice([x - w * 0.55, y - w * 1.1, x + w * 0.55, y], 180, 360, fill="#08090b")
    draw.rectangle([x - w * 0.55, y - w * 0.56, x + w * 0.55, y], fill="#08090b")
    for side in (-1, 1):
        draw.line(
            [(x + side * w * 0.03, y - w * 0.3), (x + side * w * 0.3, y + w * 0.7)],
            fill="#a7a29a",
            width=int(w * 0.02),
        )
    for row in range(12):
        half = w * (0.04 + 0.032 * row)
        sleeper = y - w * 0.25 + w * 0.08 * row
        draw.line(
            [(x - half, sleeper), (x + half, sleeper)], fill="#4b3a2b", width=int(w * 0.012 * (1 + row * 0.2))
        )
    return _reduced(image)


def terrace(size: tuple[int, int]) -> Image.Image:
    """Draw tables, parasols and a railing along the lower edge."""
    image, draw = _layer(size)
    width, height = image.size
    draw.rectangle([0, height * 0.86, width, height], fill="#7d6a55")
    for row in range(8):
        line = height * (0.86 + 0.14 * (row / 8) ** 1.3)
        draw.line([(0, line), (width, line)], fill="#66543f", width=max(1, int(height / 500)))
    draw.line([(0, height * 0.74), (width, height * 0.74)], fill="#2a2c2e", width=int(height / 130))
    for post in range(25):
        draw.line(
            [(width * post / 24, height * 0.74), (width * post / 24, height * 0.87)],
            fill="#2a2c2e",
            width=int(height / 240),
        )
    for number, share in enumerate((0.14, 0.46, 0.81)):
        x, top, span = width * share, height * (0.40 + 0.05 * (number % 2)), width * 0.12
        draw.line([(x, top), (x, height * 0.9)], fill="#5a4632", width=int(width / 220))
        for wedge in range(6):
            a, b = x - span + 2 * span * wedge / 6, x - span + 2 * span * (wedge + 1) / 6
            draw.polygon(
                [(x, top - span * 0.42), (a, top + span * 0.1), (b, top + span * 0.1)],
                fill=RED if wedge % 2 else CREAM,
            )
        draw.ellipse(
            [x - span * 0.7, height * 0.83, x + span * 0.7, height * 0.87],
            fill="#e6dcc8",
            outline="#9a8a6e",
            width=int(width / 500),
        )
        draw.rectangle([x + span * 0.15, height * 0.805, x + span * 0.27, height * 0.845], fill="#fdfaf2")
    return _reduced(image)


def cup(side: int, *, cake: bool = False) -> Image.Image:
    """Draw a cup (or a cake on a stand) as a cut-out: soft shading, real transparency around it."""
    yy, xx = np.mgrid[0:side, 0:side].astype(np.float32) / side
    image, draw = _layer((side, side))
    s = image.width
    draw.ellipse([s * 0.12, s * 0.74, s * 0.88, s * 0.92], fill="#e8e4da")
    draw.ellipse([s * 0.2, s * 0.76, s * 0.8, s * 0.88], fill="#d6d0c2")
    if cake:
        draw.rectangle([s * 0.27, s * 0.40, s * 0.73, s * 0.80], fill="#6f4326")
        draw.rectangle([s * 0.27, s * 0.55, s * 0.73, s * 0.61], fill="#f3e4c8")
        draw.ellipse([s * 0.27, s * 0.33, s * 0.73, s * 0.47], fill="#4a2a17")
        for number in range(7):
            x = s * (0.31 + 0.06 * number)
            draw.ellipse([x, s * 0.34, x + s * 0.05, s * 0.39], fill="#b1273a")
    else:
        draw.arc([s * 0.62, s * 0.42, s * 0.86, s * 0.68], -80, 100, fill="#f4f0e6", width=int(s * 0.045))
        draw.polygon(
            [(s * 0.24, s * 0.36), (s * 0.72, s * 0.36), (s * 0.64, s * 0.82), (s * 0.32, s * 0.82)],
            fill="#f7f3ea",
        )
        draw.rectangle([s * 0.262, s * 0.5, s * 0.70, s * 0.56], fill=RED)
        draw.ellipse([s * 0.24, s * 0.29, s * 0.72, s * 0.43], fill="#efe9dc")
        draw.ellipse([s * 0.27, s * 0.31, s * 0.69, s * 0.42], fill="#4b2d1b")
        draw.ellipse([s * 0.36, s * 0.335, s * 0.58, s * 0.395], outline="#c69b6d", width=int(s * 0.012))
    layer = _reduced(image)
    pixels = np.asarray(layer, np.float32)
    light = 1.08 - 0.55 * np.clip(xx - 0.35, 0, 1) - 0.18 * yy + 0.18 * np.exp(-(((xx - 0.36) / 0.05) ** 2))
    grain = np.random.default_rng(5).normal(0, 2.2, (side, side))
    shaded = np.clip(pixels[..., :3] * light[..., None] + grain[..., None], 0, 255)
    shadow = 120 * np.exp(-((((xx - 0.54) / 0.36) ** 2 + ((yy - 0.87) / 0.07) ** 2) ** 2))
    alpha = np.maximum(pixels[..., 3], shadow)
    solid = pixels[..., 3:] / 255
    colour = shaded * solid + 20 * (1 - solid)
    return Image.fromarray(np.dstack([colour, alpha]).astype(np.uint8), "RGBA")

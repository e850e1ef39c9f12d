"""Flat graphics: route map, timetable, tickets, chart, logo, menu board, poster and the climbing animation."""

from __future__ import annotations

import math
from functools import cache

import numpy as np
from PIL import Image, ImageDraw, ImageFont

from young_prism.demo.railway import BRASS, CREAM, DARK, RED

STOPS = ("Ottermoor Quay", "Fernside", "Passing Loop", "Larch Halt", "Mistgate", "Ottermoor Summit")
GREEN, BLUE, PAPER = "#4d7a53", "#3f6f8f", "#faf6ec"


@cache
def font(size: int) -> ImageFont.FreeTypeFont | ImageFont.ImageFont:
    """Return the typeface that comes with Pillow."""
    return ImageFont.load_default(size)


def route_map(width: int = 2400, height: int = 1600) -> Image.Image:
    """Draw contours, the lake, the line and its stops."""
    image = Image.new("RGB", (width, height), "#eef0e2")
    draw = ImageDraw.Draw(image)
    cx, cy = width * 0.66, height * 0.36
    for ring in range(11, 0, -1):
        points = []
        for step in range(90):
            turn = 2 * math.pi * step / 90
            wobble = 1 + 0.12 * math.sin(3 * turn + ring * 0.4) + 0.06 * math.sin(7 * turn + ring)
            radius = ring * height * 0.062 * wobble
            points.append((cx + radius * 1.35 * math.cos(turn), cy + radius * math.sin(turn)))
        shade = (238 - (11 - ring) * 7, 240 - (11 - ring) * 6, 226 - (11 - ring) * 11)
        draw.polygon(points, fill=shade, outline="#b6ad8a")
    draw.polygon(
        [
            (0, height * 0.8),
            (width * 0.2, height * 0.76),
            (width * 0.42, height * 0.88),
            (width * 0.5, height),
            (0, height),
        ],
        fill="#b8d3de",
    )
    draw.text((width * 0.1, height * 0.88), "Otter Mere", font=font(height // 26), fill=BLUE)
    stops = [(0.12, 0.76), (0.26, 0.68), (0.38, 0.58), (0.47, 0.50), (0.56, 0.41), (0.66, 0.33)]
    line = [(x * width, y * height) for x, y in stops]
    draw.line(line, fill="#ffffff", width=height // 70, joint="curve")
    draw.line(line, fill=RED, width=height // 120, joint="curve")
    for number, ((x, y), name) in enumerate(zip(line, STOPS, strict=True)):
        r = height / (70 if number in (0, 5) else 95)
        draw.ellipse([x - r, y - r, x + r, y + r], fill="#ffffff", outline=DARK, width=max(2, height // 260))
        draw.text((x + r * 1.6, y + r * 0.5), name, font=font(height // 42), fill=DARK)
    for number in range(240):
        x, y = (
            width * (0.03 + 0.94 * ((number * 73) % 240) / 240),
            height * (0.08 + 0.62 * ((number * 149) % 240) / 240),
        )
        s = height / 110
        if abs(x / width - 0.4) + abs(y / height - 0.5) > 0.3:
            draw.polygon([(x, y - s), (x - s * 0.6, y + s), (x + s * 0.6, y + s)], fill="#9db38b")
    draw.rectangle(
        [width * 0.03, height * 0.05, width * 0.4, height * 0.17], fill=PAPER, outline=DARK, width=3
    )
    draw.text((width * 0.045, height * 0.062), "Ottermoor Hill Railway", font=font(height // 22), fill=RED)
    draw.text(
        (width * 0.045, height * 0.125),
        "Route map  ·  1,840 m of line, 412 m of height",
        font=font(height // 52),
        fill=DARK,
    )
    return image


def timetable(width: int = 1440, height: int = 1080) -> Image.Image:
    """Draw a screenshot of a timetable with a transparent surround and rounded corners."""
    image = Image.new("RGBA", (width, height))
    draw = ImageDraw.Draw(image)
    draw.rounded_rectangle([24, 24, width - 24, height - 24], 28, fill="#ffffff", outline="#c9c9c4", width=2)
    draw.rounded_rectangle([24, 24, width - 24, 130], 28, fill=RED)
    draw.rectangle([24, 90, width - 24, 130], fill=RED)
    draw.text((60, 48), "Summer timetable", font=font(44), fill="#ffffff")
    columns = [60 + i * (width - 120) // 9 for i in range(3, 9)]
    for row, name in enumerate(STOPS):
        top = 190 + row * 130
        if row % 2 == 0:
            draw.rectangle([26, top - 24, width - 26, top + 104], fill="#f4f1ea")
        draw.text((60, top + 14), name, font=font(32), fill=DARK)
        for number, x in enumerate(columns):
            minutes = 8 * 60 + 20 + number * 95 + row * 4
            draw.text(
                (x + 40, top + 14),
                f"{minutes // 60:02d}:{minutes % 60:02d}",
                font=font(32),
                fill=BLUE if number % 2 else DARK,
            )
    draw.text(
        (60, height - 86),
        "Last car down leaves the summit half an hour after sunset.",
        font=font(26),
        fill="#6a6a66",
    )
    return image


def logo(width: int = 1200, height: int = 400) -> Image.Image:
    """Draw the mark and the name on a transparent ground."""
    big = Image.new("RGBA", (width * 2, height * 2))
    draw = ImageDraw.Draw(big)
    s = height * 2
    draw.ellipse([s * 0.06, s * 0.06, s * 0.94, s * 0.94], fill=RED)
    draw.polygon([(s * 0.16, s * 0.74), (s * 0.52, s * 0.2), (s * 0.86, s * 0.74)], fill=CREAM)
    draw.line([(s * 0.24, s * 0.72), (s * 0.6, s * 0.36)], fill=DARK, width=int(s * 0.03))
    draw.rectangle([s * 0.36, s * 0.46, s * 0.52, s * 0.57], fill=BRASS, outline=DARK, width=6)
    draw.text(
        (s * 1.04, s * 0.16),
        "Ottermoor",
        font=font(int(s * 0.34)),
        fill=DARK,
        stroke_width=3,
        stroke_fill=DARK,
    )
    draw.text((s * 1.05, s * 0.56), "Hill Railway", font=font(int(s * 0.24)), fill=RED)
    return big.resize((width, height), Image.Resampling.LANCZOS)


LOGO_SVG = f"""<svg xmlns="http://www.w3.org/2000/svg" viewBox="0 0 120 120" width="120" height="120" role="img" aria-label="Ottermoor Hill Railway">
  <circle cx="60" cy="60" r="53" fill="{RED}"/>
  <path d="M19 89 62 24l41 65z" fill="{CREAM}"/>
  <path d="M29 87 72 43" stroke="{DARK}" stroke-width="4"/>
  <rect x="43" y="55" width="20" height="13" fill="{BRASS}" stroke="{DARK}" stroke-width="2" transform="rotate(-45 53 61)"/>
</svg>
"""


def gradient_svg() -> str:
    """Return the gradient profile of the line as SVG."""
    points = " ".join(f"{40 + i * 24},{230 - 5.2 * i - 22 * math.sin(i / 4):.1f}" for i in range(31))
    texts = "".join(
        f'<text x="{40 + i * 144}" y="268" font-family="sans-serif" font-size="13" text-anchor="middle">{name}</text>'
        for i, name in enumerate(STOPS)
    )
    return (
        '<svg xmlns="http://www.w3.org/2000/svg" viewBox="0 0 820 280">'
        f'<polygon points="40,240 {points} 760,240" fill="{GREEN}" opacity=".35"/>'
        f'<polyline points="{points}" fill="none" stroke="{RED}" stroke-width="4"/>{texts}</svg>\n'
    )


def ticket(name: str, price: str, colour: str, width: int = 900, height: int = 420) -> Image.Image:
    """Draw a ticket with punched corners on a transparent ground."""
    image = Image.new("RGBA", (width, height))
    draw = ImageDraw.Draw(image)
    draw.rounded_rectangle([10, 10, width - 10, height - 10], 22, fill=CREAM, outline=colour, width=8)
    draw.rectangle([10, 60, width - 10, 150], fill=colour)
    draw.text((50, 74), "OTTERMOOR HILL RAILWAY", font=font(46), fill="#ffffff")
    draw.text((50, 190), name, font=font(70), fill=DARK)
    draw.text((50, 296), "Quay to Summit and back", font=font(34), fill="#5b574c")
    draw.text((width - 230, 186), price, font=font(84), fill=colour)
    for number in range(13):
        x = 40 + number * (width - 80) // 12
        draw.line([(x, height - 46), (x + 20, height - 46)], fill=colour, width=4)
    for x in (10, width - 10):
        draw.ellipse([x - 34, height // 2 - 34, x + 34, height // 2 + 34], fill=(0, 0, 0, 0))
    return image


def sprite(cell: int = 96, count: int = 8) -> Image.Image:
    """Draw a row of ticket icons on a transparent ground."""
    image = Image.new("RGBA", (cell * count * 2, cell * 2))
    draw = ImageDraw.Draw(image)
    for number in range(count):
        x, s = number * cell * 2, cell * 2
        colour = (RED, GREEN, BLUE, BRASS)[number % 4]
        draw.rounded_rectangle([x + s * 0.12, s * 0.28, x + s * 0.88, s * 0.72], s * 0.08, fill=colour)
        for dot in range(number % 4 + 1):
            cx = x + s * (0.24 + 0.15 * dot)
            draw.ellipse([cx, s * 0.42, cx + s * 0.12, s * 0.58], fill="#ffffff")
    return image.resize((cell * count, cell), Image.Resampling.LANCZOS)


def menu_board(width: int = 1500, height: int = 1900) -> Image.Image:
    """Draw the café's board as flat text."""
    image = Image.new("RGB", (width, height), "#20312b")
    draw = ImageDraw.Draw(image)
    draw.rectangle([40, 40, width - 40, height - 40], outline=BRASS, width=10)
    draw.text((150, 120), "Summit tea room", font=font(140), fill=CREAM)
    for row, (dish, price) in enumerate(
        [
            ("Pot of tea", "2.40"),
            ("Cloudberry cake", "3.80"),
            ("Winchman's soup", "5.20"),
            ("Toast & honey", "2.90"),
            ("Hot cocoa", "3.10"),
            ("Larch lemonade", "2.60"),
        ]
    ):
        y = 420 + row * 200
        draw.text((150, y), dish, font=font(88), fill="#ffffff")
        draw.text((width - 360, y), price, font=font(88), fill=BRASS)
        draw.line([(150, y + 130), (width - 150, y + 130)], fill="#4e6a5e", width=3)
    draw.text((150, height - 190), "Open while the cars run", font=font(64), fill="#b9c9bf")
    return image


def zones(width: int = 1600, height: int = 1000) -> Image.Image:
    """Draw the fare zones as flat rings."""
    image = Image.new("RGB", (width, height), PAPER)
    draw = ImageDraw.Draw(image)
    for ring, colour in enumerate(("#d9e4dc", "#b5cdbd", "#8bb19a", "#5b8f74")):
        r = height * (0.46 - 0.11 * ring)
        draw.ellipse(
            [width / 2 - r * 1.5, height / 2 - r, width / 2 + r * 1.5, height / 2 + r],
            fill=colour,
            outline=DARK,
            width=3,
        )
        draw.text((width / 2 - 66, height / 2 - r + 18), f"Zone {4 - ring}", font=font(40), fill=DARK)
    return image


def chart(width: int = 1800, height: int = 900) -> Image.Image:
    """Draw passengers by month as bars."""
    image = Image.new("RGB", (width, height), "#ffffff")
    draw = ImageDraw.Draw(image)
    for step in range(6):
        y = height - 120 - step * 130
        draw.line([(120, y), (width - 60, y)], fill="#d6d6d2", width=2)
        draw.text((30, y - 18), f"{step * 4},000", font=font(28), fill="#5d5d5a")
    for month in range(12):
        tall = 90 + 480 * math.sin(math.pi * (month + 0.5) / 12) ** 2
        x = 150 + month * 134
        draw.rectangle(
            [x, height - 120 - tall, x + 84, height - 120], fill=BLUE if 3 < month < 9 else "#9db4c2"
        )
        draw.text((x + 8, height - 100), "JFMAMJJASOND"[month], font=font(40), fill=DARK)
    draw.text((120, 30), "Passengers by month", font=font(48), fill=DARK)
    return image


def badge(side: int = 320) -> Image.Image:
    """Draw a still badge for GIF: a few colours, a transparent ground."""
    image = Image.new("P", (side, side), 0)
    image.putpalette([255, 255, 255, 140, 47, 38, 239, 227, 198, 34, 38, 42, 201, 162, 75])
    draw = ImageDraw.Draw(image)
    points = [
        (
            side / 2 + side * (0.48 if n % 2 else 0.40) * math.cos(math.pi * n / 12),
            side / 2 + side * (0.48 if n % 2 else 0.40) * math.sin(math.pi * n / 12),
        )
        for n in range(24)
    ]
    draw.polygon(points, fill=1)
    draw.ellipse([side * 0.16, side * 0.16, side * 0.84, side * 0.84], fill=2)
    draw.polygon([(side * 0.25, side * 0.66), (side * 0.5, side * 0.27), (side * 0.75, side * 0.66)], fill=3)
    draw.rectangle([side * 0.3, side * 0.68, side * 0.7, side * 0.74], fill=4)
    return image


def climb_frames(width: int = 640, height: int = 400, count: int = 24) -> list[Image.Image]:
    """Draw the car climbing, one palette picture a frame."""
    frames = []
    for number in range(count):
        image = Image.new("RGB", (width, height), "#cfe0ea")
        draw = ImageDraw.Draw(image)
        draw.ellipse([width * 0.72, height * 0.1, width * 0.82, height * 0.26], fill="#ffe9ad")
        drift = number * 4
        for cloud in range(4):
            x = (cloud * 190 + drift) % (width + 160) - 120
            draw.ellipse([x, 50 + cloud * 22, x + 120, 84 + cloud * 22], fill="#ffffff")
        draw.polygon(
            [
                (0, height),
                (0, height * 0.72),
                (width * 0.5, height * 0.45),
                (width, height * 0.2),
                (width, height),
            ],
            fill="#6f9478",
        )
        draw.polygon(
            [(0, height), (0, height * 0.86), (width, height * 0.34), (width, height)], fill="#4d7a53"
        )
        draw.line([(0, height * 0.84), (width, height * 0.32)], fill=DARK, width=5)
        share = number / count
        at, y = width * (0.05 + 0.85 * share), height * (0.82 - 0.46 * share)
        for cell in range(3):
            left, floor = at + cell * 30, y - cell * 15.6
            draw.rectangle([left, floor - 44, left + 30, floor], fill=RED)
            draw.rectangle([left + 5, floor - 36, left + 25, floor - 18], fill="#fff0c0")
        frames.append(image.quantize(32, dither=Image.Dither.NONE))
    return frames


def poster(width: int = 1400, height: int = 2000) -> Image.Image:
    """Draw an old poster as a grainy grey scan."""
    rng = np.random.default_rng(31)
    image = Image.new("L", (width, height), 205)
    draw = ImageDraw.Draw(image)
    draw.rectangle([70, 70, width - 70, height - 70], outline=40, width=14)
    draw.polygon([(70, 1500), (700, 560), (1330, 1500)], fill=120)
    draw.polygon([(420, 970), (700, 560), (960, 950), (800, 880), (700, 960), (590, 890)], fill=235)
    draw.line([(70, 1480), (900, 830)], fill=30, width=12)
    draw.text((150, 150), "TO THE SUMMIT", font=font(140), fill=30)
    draw.text((150, 1600), "Ottermoor Hill\nRailway, 1931", font=font(120), fill=30)
    noise = rng.normal(0, 11, (height, width)) + np.linspace(-12, 12, width)[None, :]
    return Image.fromarray(np.clip(np.asarray(image, np.float32) + noise, 0, 255).astype(np.uint8))

"""Bytes against time of all formats: AVIF, WebP, JPEG XL and JPEG at equal scores. `make bench-formats`.

As `make bench-efforts`, with the pictures that it downloads or those of the folders that are named: of the photographs and of
the graphics, evenly chosen ones. Each is reduced to 400, 800 and 1600 px and encoded at several efforts and qualities; graphics
are encoded without loss too. `cpu` is processor time over that of AVIF by libaom at effort 3, bytes are over its bytes at an
equal score. The summary goes to docs/measurements/formats.json, the drawing to formats.svg. It takes an hour on one core.
"""

from __future__ import annotations

import json
import math
import statistics
import sys
import tempfile
import time
from collections import defaultdict
from collections.abc import Callable, Iterable, Iterator
from enum import StrEnum
from pathlib import Path
from typing import NamedTuple

from bench.efforts import (
    FOLDER,
    HEIGHT,
    LEFT,
    SIDES,
    TOP,
    WIDTH,
    CurvePoint,
    Row,
    fetched,
    pictures,
    reduced,
    summary,
)
from young_prism.core.encode import avif, jpeg, jxl, webp
from young_prism.core.encode.contract import AvifEncoder, AvifPreset
from young_prism.core.pixels.readback import read_back
from young_prism.core.recipe.codecs import Jpeg, Jxl, Webp
from young_prism.core.score import Reference
from young_prism.core.types import ImageFormat
from young_prism.core.vips_image import VipsImage

QUALITIES = (30, 44, 58, 72, 86)
NUMBER = {"photo": 24, "graphic": 12}
"""How many pictures of each kind are measured."""


class Encoder(StrEnum):
    """The encoders, by the names that the drawing has for them."""

    LIBAOM = "AVIF, libaom"
    SVT_AV1 = "AVIF, SVT-AV1"
    JPEG_XL = "JPEG XL"
    WEBP = "WebP"
    JPEG = "JPEG"


class FormatPreset(NamedTuple):
    """An encoder and its effort or speed."""

    encoder: Encoder
    speed: int

    @property
    def format(self) -> ImageFormat:
        """The format that it makes."""
        return (
            ImageFormat.JXL
            if self.encoder is Encoder.JPEG_XL
            else ImageFormat(self.encoder.split(",")[0].lower())
        )


BASE = FormatPreset(Encoder.LIBAOM, 3)
PRESETS = [
    BASE,
    *(FormatPreset(Encoder.SVT_AV1, speed) for speed in (6, 8)),
    *(FormatPreset(Encoder.JPEG_XL, effort) for effort in (1, 3, 4, 5, 6, 7)),
    *(FormatPreset(Encoder.WEBP, effort) for effort in (2, 4, 6)),
    FormatPreset(Encoder.JPEG, 0),
]
LOSSLESS = [
    *(FormatPreset(Encoder.JPEG_XL, effort) for effort in (1, 3, 5, 7)),
    *(FormatPreset(Encoder.WEBP, effort) for effort in (2, 4, 6)),
]


def encoded(pixels: VipsImage, quality: int, preset: FormatPreset) -> bytes:
    """Return a lossy file."""
    match preset.encoder:
        case Encoder.LIBAOM:
            return avif.encode_by(pixels, quality, AvifPreset(AvifEncoder.LIBAOM, preset.speed))
        case Encoder.SVT_AV1:
            return avif.encode_by(pixels, quality, AvifPreset(AvifEncoder.SVT_AV1, preset.speed))
        case Encoder.JPEG_XL:
            return jxl.encode(pixels, Jxl(quality=quality, effort=preset.speed))
        case Encoder.WEBP:
            return webp.encode(pixels, Webp(quality=quality, effort=preset.speed))
        case Encoder.JPEG:
            return jpeg.encode(pixels, Jpeg(quality=quality))


def lossless(pixels: VipsImage, preset: FormatPreset) -> bytes:
    """Return a lossless file."""
    if preset.encoder is Encoder.JPEG_XL:
        return jxl.encode(pixels, Jxl(lossless="always", effort=preset.speed))
    return webp.encode(pixels, Webp(lossless="always", effort=preset.speed))


def timed(encode: Callable[[], bytes]) -> tuple[bytes, float]:
    """Return a file, and the processor time that it took."""
    began = time.process_time()
    data = encode()
    return data, time.process_time() - began


def measured(kind: str, file: Path) -> Iterator[Row]:
    """Encode one picture at all sizes, presets and qualities."""
    for side in SIDES:
        pixels = reduced(file, side)
        reference = Reference(pixels.numpy())
        for preset in PRESETS:
            for quality in QUALITIES:
                data, cpu = timed(
                    lambda pixels=pixels, quality=quality, preset=preset: encoded(pixels, quality, preset)
                )
                score = reference.score(read_back(data, preset.format))
                yield Row(kind, str(file), side, preset, cpu, len(data), score)


class LosslessPoint(NamedTuple):
    """Graphics without loss: processor time and bytes over WebP at effort 4."""

    side: int
    encoder: str
    speed: int
    cpu: float
    bytes: float


def lossless_points(files: Iterable[Path]) -> list[LosslessPoint]:
    """Encode graphics without loss at all sizes."""
    results: dict[tuple[int, FormatPreset], list[tuple[float, int]]] = defaultdict(list)
    for file in files:
        for side in SIDES:
            pixels = reduced(file, side)
            for preset in LOSSLESS:
                data, cpu = timed(lambda pixels=pixels, preset=preset: lossless(pixels, preset))
                results[side, preset].append((cpu, len(data)))
    curve = []
    for (side, preset), rows in results.items():
        base = results[side, FormatPreset(Encoder.WEBP, 4)]
        cpu = sum(row[0] for row in rows) / sum(row[0] for row in base)
        ratio = statistics.geometric_mean(
            row[1] / base_row[1] for row, base_row in zip(rows, base, strict=True)
        )
        curve.append(LosslessPoint(side, preset.encoder.value, preset.speed, round(cpu, 3), round(ratio, 3)))
    return curve


STYLE = """
text { font: 13px system-ui, sans-serif; fill: #1d1d1f } .quiet { fill: #6b6b70 } .grid { stroke: #d9d9dc }
.libaom { fill: #a8397f; stroke: #a8397f } .svt { fill: #6e1f52; stroke: #6e1f52 } .jxl { fill: #7b35dd; stroke: #7b35dd }
.webp { fill: #00805c; stroke: #00805c } .jpeg { fill: #b06f00; stroke: #b06f00 }
@media (prefers-color-scheme: dark) { text { fill: #f2f2f3 } .quiet { fill: #a5a5aa } .grid { stroke: #44444a }
.libaom { fill: #dd8bbb; stroke: #dd8bbb } .svt { fill: #f4c8e2; stroke: #f4c8e2 } .jxl { fill: #a778ff; stroke: #a778ff }
.webp { fill: #2fbf93; stroke: #2fbf93 } .jpeg { fill: #e6a53a; stroke: #e6a53a } }
"""
CLASSES = {
    Encoder.LIBAOM: "libaom",
    Encoder.SVT_AV1: "svt",
    Encoder.JPEG_XL: "jxl",
    Encoder.WEBP: "webp",
    Encoder.JPEG: "jpeg",
}
_LEAST_CPU, _MOST_CPU = 0.02, 3.0
_LEAST, _MOST = 0.8, 2.2


def drawing(points: list[CurvePoint], side: int = 800) -> str:
    """Return the curve of photographs as an SVG: time across, bytes up, the mean over the scores 70 and 80."""
    points_of_side = [
        (Encoder(point.encoder), point.speed, point.cpu, (point.bytes["70"] + point.bytes["80"]) / 2)
        for point in points
        if point.kind == "photo" and point.side == side
    ]

    def x(cpu: float) -> float:
        return LEFT + math.log(cpu / _LEAST_CPU) / math.log(_MOST_CPU / _LEAST_CPU) * (WIDTH - LEFT - 60)

    def y(ratio: float) -> float:
        return TOP + math.log(_MOST / ratio) / math.log(_MOST / _LEAST) * (HEIGHT - TOP - 60)

    parts = [
        f'<svg xmlns="http://www.w3.org/2000/svg" viewBox="0 0 {WIDTH} {HEIGHT}" role="img">',
        "<title>Bytes against time of AVIF, JPEG XL, WebP and JPEG</title>",
        f"<style>{STYLE}</style>",
    ]
    for ratio in (0.8, 1.0, 1.2, 1.4, 1.6, 1.8, 2.0, 2.2):
        parts += [
            f'<path class="grid" d="M{LEFT} {y(ratio):.1f}H{WIDTH - 20}"/>',
            f'<text class="quiet" x="{LEFT - 8}" y="{y(ratio) + 4:.1f}" text-anchor="end">{ratio:.1f}</text>',
        ]
    for cpu in (0.02, 0.05, 0.1, 0.2, 0.5, 1, 2):
        parts.append(
            f'<text class="quiet" x="{x(cpu):.1f}" y="{HEIGHT - 38}" text-anchor="middle">{cpu:g}</text>'
        )
    parts.append(
        f'<text class="quiet" x="{(LEFT + WIDTH) / 2}" y="{HEIGHT - 12}" text-anchor="middle">'
        f"processor time and bytes at an equal score, over AVIF by libaom at effort 3; photographs of {side} px</text>"
    )
    for number, (encoder, name) in enumerate(CLASSES.items()):
        line = sorted((cpu, ratio, speed) for of, speed, cpu, ratio in points_of_side if of is encoder)
        joined = " ".join(f"{x(cpu):.1f},{y(ratio):.1f}" for cpu, ratio, _ in line)
        parts.append(f'<polyline class="{name}" points="{joined}" style="fill:none;stroke-width:1.5"/>')
        for cpu, ratio, speed in line:
            parts.append(f'<circle class="{name}" cx="{x(cpu):.1f}" cy="{y(ratio):.1f}" r="5"/>')
            if encoder is not Encoder.JPEG:
                parts.append(f'<text x="{x(cpu) + 8:.1f}" y="{y(ratio) - 7:.1f}">{speed}</text>')
        top = TOP + 16 + 20 * number
        parts += [
            f'<circle class="{name}" cx="{WIDTH - 170}" cy="{top - 4}" r="5"/>',
            f'<text x="{WIDTH - 158}" y="{top}">{encoder.value}</text>',
        ]
    return "\n".join([*parts, "</svg>\n"])


def chosen(folders: Iterable[Path]) -> dict[str, list[Path]]:
    """Return evenly chosen pictures of each kind."""
    paths_by_kind: dict[str, list[Path]] = defaultdict(list)
    for kind, file in pictures(folders):
        paths_by_kind[kind].append(file)
    return {
        kind: [files[at * len(files) // min(number, len(files))] for at in range(min(number, len(files)))]
        for kind, number in NUMBER.items()
        if (files := paths_by_kind[kind])
    }


def main() -> None:
    """Measure, and write the summary and the drawing."""
    with tempfile.TemporaryDirectory() as temporary:
        files = chosen([Path(name) for name in sys.argv[1:]] or [fetched(Path(temporary))])
        rows = [row for kind, of_kind in files.items() for file in of_kind for row in measured(kind, file)]
        exact = lossless_points(files.get("graphic", []))
    points = summary(rows, BASE)
    lines = ",\n".join(json.dumps(point._asdict()) for point in [*points, *exact])
    (FOLDER / "formats.json").write_text(f"[\n{lines}\n]\n", encoding="utf-8")
    (FOLDER / "formats.svg").write_text(drawing(points), encoding="utf-8")


if __name__ == "__main__":
    main()

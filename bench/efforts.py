"""Bytes against time of the AVIF encoders: the curve on which efforts are curve_points. `make bench-efforts`.

Photographs and graphics come from the folders that are named, by default from Debian's packages of desktop backgrounds, which
are downloaded and unpacked into a temporary folder. Each picture is reduced to 400, 800 and 1600 px and encoded by libaom and
SVT-AV1 at several speeds and qualities, 4:2:0 and 8 bit. Bytes are interpolated at equal scores. `cpu` is processor time over
that of libaom at effort 3. The summary goes to docs/measurements/avif-efforts.json, the drawing to avif-efforts.svg.
It takes an hour on one core.
"""

from __future__ import annotations

import json
import math
import statistics
import subprocess
import sys
import tempfile
import time
from collections import defaultdict
from collections.abc import Iterable, Iterator, Mapping
from enum import StrEnum
from pathlib import Path
from typing import NamedTuple, Protocol

import numpy as np

from young_prism.engine.workers.environment import configure_worker

configure_worker()

from young_prism.core.encode.avif import encode_by  # noqa: E402  (libvips is set up before)
from young_prism.core.encode.contract import AvifEncoder, AvifPreset  # noqa: E402
from young_prism.core.inspection.inspect import inspect_bytes  # noqa: E402
from young_prism.core.pixels.readback import read_back  # noqa: E402
from young_prism.core.score import Reference  # noqa: E402
from young_prism.core.types import ImageFormat, Kind  # noqa: E402
from young_prism.core.vips import pyvips  # noqa: E402
from young_prism.core.vips_image import VipsImage  # noqa: E402

PACKAGES = ("mate-backgrounds", "lomiri-wallpapers-16.04", "lomiri-wallpapers-20.04", "gnome-backgrounds")
SIDES = (400, 800, 1600)
QUALITIES = (30, 44, 58, 72, 86)
SCORES = (60, 70, 80, 88)
PRESETS = [
    *(AvifPreset(AvifEncoder.SVT_AV1, speed) for speed in (9, 8, 7, 6, 5)),
    *(AvifPreset(AvifEncoder.LIBAOM, effort) for effort in (0, 1, 2, 3, 4)),
]
BASE = AvifPreset(AvifEncoder.LIBAOM, 3)
FOLDER = Path(__file__).parent.parent / "docs" / "measurements"


class Preset(Protocol):
    """An encoder and its own setting of speed."""

    @property
    def encoder(self) -> StrEnum:
        """The name of the encoder."""

    @property
    def speed(self) -> int:
        """Its setting of speed."""


class Row(NamedTuple):
    """One file: its picture and preset, processor time in seconds, bytes and score."""

    kind: str
    picture: str
    side: int
    preset: Preset
    cpu: float
    bytes: int
    score: float


class CurvePoint(NamedTuple):
    """Where a preset lies on the curve of one kind and size: time and bytes over those of libaom at effort 3."""

    kind: str
    side: int
    encoder: str
    speed: int
    pictures: int
    cpu: float
    bytes: Mapping[str, float]
    """Score -> bytes, the geometric mean over the pictures that both presets bring to that score."""


def fetched(folder: Path) -> Path:
    """Download and unpack the packages, and return the folder."""
    for package in PACKAGES:
        subprocess.run(["apt-get", "download", "--quiet", package], cwd=folder, check=True)
    for archive in folder.glob("*.deb"):
        subprocess.run(["dpkg", "--extract", archive, folder], check=True)
    return folder


def pictures(folders: Iterable[Path]) -> Iterator[tuple[str, Path]]:
    """Yield kind and path of the opaque stills that are large enough."""
    for folder in folders:
        for file in sorted(folder.rglob("*")):
            if file.suffix.lower() in (".jpg", ".png", ".webp") and file.is_file():
                facts = inspect_bytes(file.read_bytes())
                if facts.kind in (Kind.PHOTO, Kind.GRAPHIC) and max(facts.size) >= SIDES[-1]:
                    yield facts.kind.value, file


def reduced(file: Path, side: int) -> VipsImage:
    """Return a picture at a size, in memory."""
    image = pyvips.Image.thumbnail(str(file), side, height=side, size="down").colourspace("srgb")
    image = image.flatten(background=255) if image.hasalpha() else image
    pixels = np.ascontiguousarray(image.numpy()[..., :3])
    return pyvips.Image.new_from_array(pixels).copy(interpretation="srgb").copy_memory()


def measured(kind: str, file: Path) -> Iterator[Row]:
    """Encode one picture at all sizes, presets and qualities."""
    for side in SIDES:
        pixels = reduced(file, side)
        reference = Reference(pixels.numpy())
        for preset in PRESETS:
            if side == SIDES[-1] and preset == AvifPreset(AvifEncoder.LIBAOM, 4):
                continue  # half of all the time for one point
            for quality in QUALITIES:
                began = time.process_time()
                data = encode_by(pixels, quality, preset)
                cpu = time.process_time() - began
                score = reference.score(read_back(data, ImageFormat.AVIF))
                yield Row(kind, file.name, side, preset, cpu, len(data), score)


def summary(rows: Iterable[Row], base_preset: Preset = BASE) -> list[CurvePoint]:
    """Return the point of each preset, by kind and size, over that of one of them."""
    files: dict[tuple[str, int, Preset], dict[str, list[Row]]] = defaultdict(lambda: defaultdict(list))
    for row in rows:
        files[row.kind, row.side, row.preset][row.picture].append(row)
    curve_points = []
    for (kind, side, preset), by_picture in sorted(files.items()):
        base = files[kind, side, base_preset]
        shared = [name for name in by_picture if name in base]
        cpu = [sum(r.cpu for r in by_picture[name]) / sum(r.cpu for r in base[name]) for name in shared]
        by_score = {}
        for score in SCORES:
            ratios = [
                bytes_here / bytes_base
                for name in shared
                if (bytes_here := _bytes_at(by_picture[name], score))
                and (bytes_base := _bytes_at(base[name], score))
            ]
            if ratios:
                by_score[str(score)] = round(statistics.geometric_mean(ratios), 3)
        curve_points.append(
            CurvePoint(
                kind,
                side,
                preset.encoder.value,
                preset.speed,
                len(shared),
                round(statistics.mean(cpu), 3),
                by_score,
            )
        )
    return curve_points


def _bytes_at(rows: list[Row], score: float) -> float | None:
    """Return the bytes at a score, between two files of the picture; None where none scores as low or as high."""
    pairs = sorted((row.score, math.log(row.bytes)) for row in rows)
    scores, logs = zip(*pairs, strict=True)
    if not scores[0] <= score <= scores[-1]:
        return None
    return math.exp(float(np.interp(score, scores, logs)))


WIDTH, HEIGHT, LEFT, TOP = 760, 420, 64, 20
STYLE = """
text { font: 13px system-ui, sans-serif; fill: #1d1d1f } .quiet { fill: #6b6b70 } .grid { stroke: #d9d9dc }
.libaom { fill: #a8397f; stroke: #a8397f } .svt { fill: #0a6fb5; stroke: #0a6fb5 }
@media (prefers-color-scheme: dark) { text { fill: #f2f2f3 } .quiet { fill: #a5a5aa } .grid { stroke: #44444a }
.libaom { fill: #e08cc3; stroke: #e08cc3 } .svt { fill: #6bb8f0; stroke: #6bb8f0 } }
"""
EFFORTS = {
    (AvifEncoder.SVT_AV1.value, 8): 0,
    (AvifEncoder.SVT_AV1.value, 7): 1,
    (AvifEncoder.SVT_AV1.value, 6): 2,
}


def drawing(curve_points: list[CurvePoint], side: int = 800) -> str:
    """Return the curve of photographs as an SVG: time across, bytes up, the mean over the scores 70 and 80."""
    points = [
        (point, point.cpu, (point.bytes["70"] + point.bytes["80"]) / 2)
        for point in curve_points
        if point.kind == "photo" and point.side == side
    ]

    def x(cpu: float) -> float:
        return LEFT + math.log10(cpu / 0.08) / 1.9 * (WIDTH - LEFT - 90)

    def y(ratio: float) -> float:
        return TOP + (1.4 - ratio) / 0.5 * (HEIGHT - TOP - 60)

    parts = [
        f'<svg xmlns="http://www.w3.org/2000/svg" viewBox="0 0 {WIDTH} {HEIGHT}" role="img">',
        "<title>Bytes against time of AVIF encoders</title>",
        f"<style>{STYLE}</style>",
    ]
    for ratio in (0.9, 1.0, 1.1, 1.2, 1.3, 1.4):
        parts += [
            f'<path class="grid" d="M{LEFT} {y(ratio):.1f}H{WIDTH - 20}"/>',
            f'<text class="quiet" x="{LEFT - 8}" y="{y(ratio) + 4:.1f}" text-anchor="end">{ratio:.1f}</text>',
        ]
    for cpu in (0.1, 0.2, 0.5, 1, 2, 5):
        parts.append(
            f'<text class="quiet" x="{x(cpu):.1f}" y="{HEIGHT - 38}" text-anchor="middle">{cpu:g}</text>'
        )
    parts.append(
        f'<text class="quiet" x="{(LEFT + WIDTH) / 2}" y="{HEIGHT - 12}" text-anchor="middle">'
        "processor time and bytes at an equal score, over libaom at effort 3; photographs of "
        f"{side} px</text>"
    )
    for name, encoder in (("svt", AvifEncoder.SVT_AV1), ("libaom", AvifEncoder.LIBAOM)):
        by_time = sorted(
            (cpu, ratio, point) for point, cpu, ratio in points if point.encoder == encoder.value
        )
        line = " ".join(f"{x(cpu):.1f},{y(ratio):.1f}" for cpu, ratio, _ in by_time)
        parts.append(f'<polyline class="{name}" points="{line}" style="fill:none;stroke-width:1.5"/>')
        for cpu, ratio, point in by_time:
            effort = EFFORTS.get((point.encoder, point.speed))
            is_effort = effort is not None or (encoder is AvifEncoder.LIBAOM and point.speed >= 3)
            label = f"speed {point.speed}" if encoder is AvifEncoder.SVT_AV1 else f"libaom {point.speed}"
            label = f"effort {point.speed if effort is None else effort}" if is_effort else label
            across, down, anchor = (9, -7, "start") if encoder is AvifEncoder.LIBAOM else (-9, 15, "end")
            parts += [
                f'<circle class="{name}" cx="{x(cpu):.1f}" cy="{y(ratio):.1f}" r="{5 if is_effort else 3}"/>',
                f'<text x="{x(cpu) + across:.1f}" y="{y(ratio) + down:.1f}" text-anchor="{anchor}">{label}</text>',
            ]
    legend = [
        ("svt", f"{AvifEncoder.SVT_AV1.value}, by its speed"),
        ("libaom", "libaom, by the effort of libvips"),
    ]
    for number, (name, text) in enumerate(legend):
        top = TOP + 20 + 20 * number
        parts += [
            f'<circle class="{name}" cx="{WIDTH - 250}" cy="{top - 4}" r="5"/>',
            f'<text x="{WIDTH - 238}" y="{top}">{text}</text>',
        ]
    return "\n".join([*parts, "</svg>\n"])


def main() -> None:
    """Measure, and write the summary and the drawing."""
    with tempfile.TemporaryDirectory() as temporary:
        folders = [Path(name) for name in sys.argv[1:]] or [fetched(Path(temporary))]
        rows = [row for kind, file in pictures(folders) for row in measured(kind, file)]
    write(summary(rows))


def write(curve_points: list[CurvePoint]) -> None:
    """Write the summary and the drawing."""
    lines = ",\n".join(json.dumps(point._asdict()) for point in curve_points)
    (FOLDER / "avif-efforts.json").write_text(f"[\n{lines}\n]\n", encoding="utf-8")
    (FOLDER / "avif-efforts.svg").write_text(drawing(curve_points), encoding="utf-8")


if __name__ == "__main__":
    main()

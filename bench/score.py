"""How fast is the score, how near the reference package, what does a target cost, and what does it save? `make bench-score`.

Real photographs and graphics that scikit-image and scikit-learn carry. Ratios within one run:

- *score*: the package's time over ours on the same pairs, on one core; processor time, each of our times the median of five.
- *apart*: how far the two are from each other, over photographs and graphics from hardly to badly pressed.
- *runs*: runs with a target or a band, by profile, over one with fixed qualities and effort 3; 3200 px photographs, the default
  ladder, one core.
- *search*: seconds for a 1200 px photograph brought to a target in WebP, AVIF and JPEG, two workers.
- *bytes*: a quality searched for each picture, over the one fixed quality at which no picture falls below the target.
"""

from __future__ import annotations

import io
import json
import multiprocessing
import statistics
import tempfile
import time
from collections import defaultdict
from collections.abc import Callable, Iterable, Iterator
from concurrent.futures import ProcessPoolExecutor
from functools import partial
from pathlib import Path
from typing import Any

import numpy as np
from PIL import Image
from ssimulacra2.ssimulacra2 import compute_ssimulacra2
from tests.support import pictures

from young_prism.core.inspection.inspect import inspect_bytes
from young_prism.core.naming.rule import WHOLE_FACET
from young_prism.core.plan.make import make_plan
from young_prism.core.plan.model import PlannedOriginal
from young_prism.core.proof.bench import ProofBench
from young_prism.core.proof.candidate import candidate_of
from young_prism.core.recipe.codecs import Avif, Jpeg, Webp
from young_prism.core.recipe.formats import Formats, FormatSet
from young_prism.core.recipe.ladder import Ladder
from young_prism.core.recipe.model import Recipe
from young_prism.core.recipe.profiles import ProfileName
from young_prism.core.render.encoding import encoded
from young_prism.core.render.quality_search import scored, search_quality
from young_prism.core.render.render import render
from young_prism.core.render.results import Rendered
from young_prism.core.render.rungs import RungPixels
from young_prism.core.score import Reference, ssimulacra2
from young_prism.core.types import ImageFormat
from young_prism.core.vips import pyvips

TARGET = 72
BAND = (66, 80)
USUAL = FormatSet(avif=Avif(), webp=Webp(), jpeg=Jpeg())
SLOW = FormatSet(avif=Avif(effort=3), webp=Webp(effort=4), jpeg=Jpeg())
"""What recipes without a profile had until SVT-AV1 was added (commit 112bcf0): the base of all ratios."""


def _aimed(formats: FormatSet, **aim: object) -> FormatSet:
    return formats.model_copy(update=aim)


def _in(profile: ProfileName, formats: FormatSet) -> FormatSet:
    return Formats(profile=profile, photo=formats).for_kind("photo")


MODES = {
    "fixed": SLOW,
    "target, effort 3": _in("balanced", _aimed(SLOW, target=TARGET)),
    "band": _in("balanced", _aimed(USUAL, band=BAND)),
    "balanced, fixed": _in("balanced", USUAL),
    "balanced, target": _in("balanced", _aimed(USUAL, target=TARGET)),
    "fast, its own formats": Formats(profile="fast").for_kind("photo"),
    "fast, its own formats, target": _in("fast", _aimed(Formats(profile="fast").photo, target=TARGET)),
    "fast, fixed": _in("fast", USUAL),
    "fast, target": _in("fast", _aimed(USUAL, target=TARGET)),
}


def opened(*, graphics: bool = False) -> Iterator[Image.Image]:
    """Yield the real pictures in colour, photographs or graphics, as they are."""
    for file in pictures.real_pictures():
        if file.suffix == ".tif":
            continue
        with Image.open(file) as image:
            if image.mode == "RGB" and min(image.size) >= 256:
                data = file.read_bytes()
                is_drawn = inspect_bytes(data).kind.value == "graphic"
                if is_drawn is graphics:
                    yield image.copy()


def photographs(longest: int) -> list[Image.Image]:
    """Return the photographs, reduced to `longest`."""
    result = list(opened())
    for image in result:
        image.thumbnail((longest, longest), Image.Resampling.LANCZOS)
    return result


def tiles(side: int) -> list[Image.Image]:
    """Return the photographs at 800 px, and parts of that size of those that are larger."""
    result = photographs(side)
    for image in opened():
        across, down = image.width // 500, image.height // 400
        if across * down > 1:
            result += [
                image.crop((x * 500, y * 400, x * 500 + 500, y * 400 + 400))
                for x in range(across)
                for y in range(down)
            ]
    return result


def enlarged(longest: int) -> list[bytes]:
    """Return the photographs at `longest` as JPEGs; a little noise stands for what a sensor adds."""
    result = []
    for number, image in enumerate(opened()):
        scale = longest / max(image.size)
        size = (round(image.width * scale), round(image.height * scale))
        pixels = np.asarray(image.resize(size, Image.Resampling.LANCZOS), np.float32)
        noise = np.random.default_rng(number).normal(0, 3, pixels.shape[:2])
        buffer = io.BytesIO()
        Image.fromarray(np.clip(pixels + noise[..., None], 0, 255).astype(np.uint8)).save(
            buffer, "JPEG", quality=93
        )
        result.append(buffer.getvalue())
    return result


def _median(function: Callable[[], Any], times: int) -> tuple[float, Any]:
    took, result = [], None
    for _ in range(times):
        began = time.process_time()
        result = function()
        took.append(time.process_time() - began)
    return statistics.median(took), result


def pairs() -> Iterator[tuple[Image.Image, Image.Image]]:
    """Yield pictures with themselves pressed: photographs and graphics, four each."""
    graphics = [*opened(graphics=True), pictures.graphic(601, 401), pictures.graphic(900, 600)]
    for image in (*photographs(640), *graphics):
        image.thumbnail((640, 640), Image.Resampling.LANCZOS)
        for fmt, quality in (("JPEG", 10), ("JPEG", 60), ("WEBP", 40), ("WEBP", 92)):
            buffer = io.BytesIO()
            image.save(buffer, fmt, quality=quality)
            yield image, Image.open(buffer).convert("RGB")


def speed() -> dict[str, float]:
    """Time our score and the package's on the same pairs."""
    owned = theirs = again = 0.0
    apart = []
    with tempfile.TemporaryDirectory() as folder:
        item, second = Path(folder) / "a.png", Path(folder) / "b.png"
        for image, pressed in pairs():
            image.save(item)
            pressed.save(second)
            a, b = np.asarray(image), np.asarray(pressed)
            took, own_files = _median(lambda a=a, b=b: ssimulacra2(a, b), 5)
            owned += took
            reference = Reference(a)
            again += _median(lambda reference=reference, b=b: reference.score(b), 5)[0]
            took, package = _median(lambda: float(compute_ssimulacra2(item, second)), 1)
            theirs += took
            apart.append(abs(own_files - package))
    return {
        "pairs": len(apart),
        "package / ours": round(theirs / owned, 1),
        "package / ours, original's side kept": round(theirs / again, 1),
        "furthest apart, points": round(max(apart), 4),
    }


def _planned(data: bytes, formats: FormatSet, widths: tuple[int, ...]) -> PlannedOriginal:
    recipe = Recipe(ladder=Ladder(widths=widths), formats=Formats(photo=formats, graphic=formats))
    return make_plan({"a.jpg": inspect_bytes(data)}, recipe).originals[0]


def runs() -> dict[str, dict[str, float]]:
    """Time the modes over the same originals, in turn, and count the bytes of AVIF."""
    spent = dict.fromkeys(MODES, 0.0)
    weights = dict.fromkeys(MODES, 0)
    fetched = dict.fromkeys(MODES, 0.0)
    for data in enlarged(3200)[:5]:
        for mode, formats in MODES.items():
            planned = _planned(data, formats, Ladder().widths)
            began = time.process_time()
            done = render(data, planned)
            spent[mode] += time.process_time() - began
            weights[mode] += sum(item.bytes for item in done if item.planned.format is ImageFormat.AVIF)
            fetched[mode] += _average_fetch(done)
    result = {}
    for mode in MODES:
        same_way = "fixed" if "target" not in mode else "target, effort 3"
        result[mode] = {
            "time / fixed": round(spent[mode] / spent["fixed"], 2),
            f"AVIF bytes / {same_way}": round(weights[mode] / weights[same_way], 3),
            f"bytes that a browser fetches / {same_way}": round(fetched[mode] / fetched[same_way], 3),
        }
    return result


def _average_fetch(done: Iterable[Rendered]) -> float:
    """Return what an average visit fetches of a picture in its smallest format."""
    averages: dict[ImageFormat, float] = defaultdict(float)
    for item in done:
        averages[item.planned.format] += item.bytes * item.planned.share
    return min(averages.values())


def find(data: bytes, name: str) -> float:
    """Search one format for one photograph; what a worker of the proof page does."""
    planned = _planned(data, MODES["balanced, fixed"], (1200,))
    bench = ProofBench(
        data, planned, WHOLE_FACET, max(r.size for r in planned.renditions), clock=time.perf_counter
    )
    return bench.search(candidate_of(name, MODES["balanced, fixed"].settings()), TARGET)[1]


def search() -> dict[str, float]:
    """Time the search for one photograph in three formats, two workers."""
    took = []
    # Spawned: libvips does not survive a fork.
    with ProcessPoolExecutor(2, multiprocessing.get_context("spawn")) as workers:
        photos = enlarged(1200)
        for data in (photos[0], *photos):  # the first only starts the workers
            began = time.perf_counter()
            waiting = [workers.submit(find, data, name) for name in ("avif-57", "jpeg-80", "webp-80")]
            for item in waiting:
                item.result()
            took.append(time.perf_counter() - began)
    return {
        "photographs": len(took) - 1,
        "seconds, median": round(statistics.median(took[1:]), 2),
        "seconds, most": round(max(took[1:]), 2),
    }


def saved() -> dict[str, dict[str, float]]:
    """Compare a target with the one fixed quality that guarantees it, by format."""
    result = {}
    images = [
        pyvips.Image.new_from_array(np.asarray(item)).copy(interpretation="srgb").copy_memory()
        for item in tiles(800)
    ]
    for settings in (Jpeg(), Webp(), Avif(), Avif(effort=4, tolerance=0.5)):
        done = []
        for pixels in images:
            rung = RungPixels(pixels, pixels, marked=False, grey=False)
            done.append(
                search_quality(
                    settings.model_copy(update={"target": TARGET}),
                    partial(encoded, pixels),
                    lambda file, rung=rung, settings=settings: scored(rung, settings, file),
                    original_bytes=0,
                )
            )
        most = max(item.quality for item in done if item.reached)
        guarantee = settings.model_copy(update={"quality": most})
        fixed = sum(len(encoded(pixels, guarantee)) for pixels in images)
        effort = f", effort {settings.chosen_effort}" if isinstance(settings, Avif) else ""
        result[f"{type(settings).__name__}{effort}"] = {
            "pictures": len(images),
            "bytes, target / fixed with the same guarantee": round(
                sum(len(item.data) for item in done) / fixed, 3
            ),
            "encodings a search": round(statistics.mean(item.encodings for item in done), 2),
            "lowest quality": min(item.quality for item in done),
            "highest quality": most,
            "not reached": sum(not item.reached for item in done),
        }
    return result


def main() -> None:
    """Print everything as JSON."""
    for name, part in (("score", speed), ("search", search), ("runs", runs), ("bytes", saved)):
        print(json.dumps({name: part()}, indent=1), flush=True)


if __name__ == "__main__":
    main()

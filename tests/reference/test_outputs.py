"""What a build delivers, read by other programs: Debian's webpinfo, avifdec and exiftool, and Pillow."""

from __future__ import annotations

import io
import json
import os
import re
import subprocess
import sys
from pathlib import Path

import numpy as np
import pytest
from PIL import Image

from tests.support import pictures
from tests.support.avif import small_avifs
from tests.support.builds import build
from tests.support.exiftool import exiftool
from young_prism.core.inspection.inspect import inspect_bytes
from young_prism.core.manifest.model import RenditionEntry
from young_prism.core.markup.delivered import Delivered
from young_prism.core.plan.make import make_plan
from young_prism.core.recipe.formats import AnimationFormats, Formats
from young_prism.core.recipe.ladder import Ladder
from young_prism.core.recipe.model import Recipe
from young_prism.core.render.render import render
from young_prism.core.types import ImageFormat, Outcome
from young_prism.engine.build.options import BuildOptions
from young_prism.engine.output.manifest_file import read_manifest

NO_PICTURES = {"multipage_rgb.tif": "64-bit floating-point planes: measurements, not a picture"}


@pytest.fixture(scope="module")
def outputs(tmp_path_factory: pytest.TempPathFactory) -> Path:
    base = tmp_path_factory.mktemp("outputs")
    build(pictures.small_source(base / "site"), base / "out", Recipe(ladder=Ladder(widths=(200, 400))))
    return base / "out"


def test_every_rendition_opens_elsewhere_at_the_size_that_the_manifest_says(
    outputs: Path, tmp_path: Path
) -> None:
    manifest = read_manifest(outputs / "manifest.json")
    assert manifest
    checked = set()
    for entry in (r for original in manifest.originals for r in original.renditions if r.format != "svg"):
        file = outputs / entry.path
        with Image.open(file) as image:
            image.load()
            assert image.size == (entry.width, entry.height)
            assert Image.MIME[image.format] == entry.type
        if entry.format == "webp":
            text = subprocess.run(["webpinfo", str(file)], capture_output=True, text=True, check=True).stdout
            assert "No error detected" in text
        if entry.format == "avif":
            subprocess.run(["avifdec", str(file), str(tmp_path / "a.png")], capture_output=True, check=True)
            with Image.open(tmp_path / "a.png") as image:
                assert image.size == (entry.width, entry.height)
        checked.add(entry.format)
    assert checked == {"avif", "webp", "jpeg", "png", "gif"}


def test_no_rendition_tells_of_place_camera_or_orientation(outputs: Path, tmp_path: Path) -> None:
    """Exiftool reads them all; the same question asked of the originals finds plenty, so it can fail."""
    question = [
        "-json",
        "-r",
        "-gps:all",
        "-Make",
        "-Model",
        "-Orientation",
        "-Artist",
        "-ICC_Profile:all",
        "-XMP:all",
    ]

    def answers(folder: Path) -> dict[str, set[str]]:
        result = json.loads(exiftool(*question, folder))
        return {item["SourceFile"]: set(item) - {"SourceFile"} for item in result}

    assert any(
        {"GPSLatitude", "Model", "Orientation"} <= tags for tags in answers(outputs.parent / "site").values()
    )
    assert not {name: tags for name, tags in answers(outputs).items() if tags}


def test_transparency_survives_in_every_format(outputs: Path) -> None:
    for ending in ("webp", "png"):
        with Image.open(outputs / f"clear-200w.{ending}") as image:
            alpha = np.asarray(image.convert("RGBA"))[..., 3]
        assert alpha.min() == 0 and alpha.max() == 255, ending


@pytest.mark.parametrize("size", [(1, 1), (1, 700), (900, 1), (3, 2), (90, 20_000)])
def test_odd_shapes_go_through(size: tuple[int, int], tmp_path: Path) -> None:
    source = tmp_path / "odd"
    source.mkdir()
    Image.effect_noise(size, 60).convert("RGB").save(source / "odd.jpg")
    result = build(
        source,
        tmp_path / "out",
        Recipe(ladder=Ladder(widths=(60, 400)), formats=pictures.QUICK),
        options=BuildOptions(jobs=1),
    )
    assert result.failures == []
    assert result.outcomes[Outcome.MADE] + result.outcomes[Outcome.KEPT] > 0
    for entry in read_manifest(tmp_path / "out/manifest.json").originals[0].renditions:
        with Image.open(tmp_path / "out" / entry.path) as image:
            assert image.size == (entry.width, entry.height)


def test_avif_of_every_small_size_decodes_elsewhere(tmp_path: Path) -> None:
    """By Debian's avifdec, which is libavif with libaom or dav1d, and by Pillow."""
    file, decoded = tmp_path / "a.avif", tmp_path / "a.png"
    for name, data, pixels in small_avifs():
        file.write_bytes(data)
        subprocess.run(["avifdec", str(file), str(decoded)], capture_output=True, check=True)
        for path in (file, decoded):
            with Image.open(path) as image:
                seen = np.asarray(image.convert("RGBA" if pixels.shape[2] == 4 else "RGB")).astype(int)
            assert seen.shape == pixels.shape, name
            # Half of a pixel's chroma is gone: only on average is it near.
            assert np.abs(seen - pixels).mean() < 12, name


POLICIES = """
import os, threading, time
from young_prism.engine.workers.environment import configure_codecs
configure_codecs()
import numpy as np
from young_prism.core.encode import avif
from young_prism.core.recipe.codecs import Avif
from young_prism.core.vips import pyvips

noise = np.random.default_rng(1).integers(0, 255, (600, 900, 3), dtype=np.uint8)
image = pyvips.Image.new_from_array(noise).copy(interpretation="srgb").copy_memory()
encoding = threading.Thread(target=lambda: avif.encode(image, Avif(effort=2)))
encoding.start()
policies, most = set(), 0
while encoding.is_alive():
    threads = os.listdir("/proc/self/task")
    most = max(most, len(threads))
    for thread in threads:
        try:
            policies.add(os.sched_getscheduler(int(thread)))
        except ProcessLookupError:
            pass  # it ended since
    time.sleep(0.01)
print(most > 6, policies | {os.sched_getscheduler(0)})
"""


def test_no_encoder_takes_real_time_priority() -> None:
    """SVT-AV1 does where it may, as root may: sched(7) says what that does to all other processes."""
    command = [sys.executable, "-c", POLICIES]
    printed = subprocess.run(command, capture_output=True, text=True, check=True, timeout=50).stdout
    assert printed.split(maxsplit=1) == ["True", f"{{{os.SCHED_OTHER}}}\n"]


def test_an_animation_is_passed_through_byte_for_byte(outputs: Path) -> None:
    assert (outputs / "moving.gif").read_bytes() == (outputs.parent / "site" / "moving.gif").read_bytes()


def test_real_pictures_go_through_whole(tmp_path: Path) -> None:
    """The photographs and graphics that scikit-image and scikit-learn carry."""
    source = tmp_path / "real"
    source.mkdir()
    for file in pictures.real_pictures():
        (source / file.name).write_bytes(file.read_bytes())
    result = build(source, tmp_path / "out", Recipe(ladder=Ladder(widths=(240,))))
    assert {failure.path for failure in result.failures} == set(NO_PICTURES)
    assert result.originals == len(list(source.iterdir())) - len(NO_PICTURES)
    assert result.outcomes[Outcome.MADE] > result.originals
    kinds = {entry.path: entry.kind for entry in read_manifest(tmp_path / "out/manifest.json").originals}
    photos = (
        "astronaut.png",
        "camera.png",
        "brick.png",
        "moon.png",
        "coffee.png",
        "china.jpg",
        "retina.jpg",
        "rocket.jpg",
    )
    assert {kinds[name] for name in photos} == {"photo"}
    assert {
        kinds[name] for name in ("horse.png", "phantom.png", "chessboard_GRAY.png", "chessboard_RGB.png")
    } == {"graphic"}


@pytest.mark.parametrize("loops", [None, 0, 2])
def test_an_animation_keeps_its_times_and_loops_as_webp(loops: int | None, tmp_path: Path) -> None:
    """Read back by Pillow, and by webpinfo, which prints each frame's duration and the loop count."""
    frames = [pictures.graphic(90, 60), pictures.photo(90, 60), pictures.graphic(90, 60).rotate(180)]
    options = {} if loops is None else {"loop": loops}
    source, file = tmp_path / "a.gif", tmp_path / "a.webp"
    frames[0].save(source, save_all=True, append_images=frames[1:], duration=[70, 130, 200], **options)
    data = source.read_bytes()
    only_webp = Recipe(formats=Formats(animation=AnimationFormats(avif=None)))
    moving, copied = render(data, make_plan({"a.gif": inspect_bytes(data)}, only_webp).originals[0])
    assert (copied.data, copied.outcome) == (data, Outcome.KEPT)
    assert moving.data and moving.outcome is Outcome.MADE and moving.bytes < len(data)
    file.write_bytes(moving.data)
    with Image.open(file) as webp:
        times = []
        for number in range(webp.n_frames):
            webp.seek(number)
            webp.load()
            times.append(webp.info["duration"])
        visible = np.asarray(webp.convert("RGB")).astype(int)
    assert times == [70, 130, 200]
    assert np.abs(visible - np.asarray(frames[2]).astype(int)).mean() < 8  # the last frame is the last frame
    text = subprocess.run(["webpinfo", file], capture_output=True, text=True, check=True).stdout
    assert re.findall(r"Duration: (\d+)", text) == ["70", "130", "200"]
    # A WebP's number is how often it plays (RFC 9649, 2.7.1.1), a GIF's how often again; without one it plays once.
    assert re.search(r"Loop count\s*:\s*(\d+)", text)[1] == {None: "1", 0: "0", 2: "3"}[loops]


def test_an_animation_in_avif_has_the_frames_and_times_that_browsers_show(tmp_path: Path) -> None:
    """Frame by frame against Pillow's reading of the GIF, whose frames cover only what changes, with each way of disposal."""
    ground = pictures.photo(120, 80).convert("RGB")
    frames = []
    for number in range(6):
        frame = ground.copy()
        frame.paste((200, 30 * number, 40), (10 * number, 20, 10 * number + 30, 50))
        frames.append(frame)
    source = tmp_path / "a.gif"
    times = [40, 90, 10, 200, 60, 120]
    frames[0].save(
        source,
        save_all=True,
        append_images=frames[1:],
        duration=times,
        loop=0,
        disposal=[1, 2, 1, 3, 1, 2],
        optimize=True,
    )
    data = source.read_bytes()
    plan = make_plan(
        {"a.gif": inspect_bytes(data)}, Recipe(formats=Formats(animation=AnimationFormats(poster=True)))
    )
    made = {
        (result.planned.format, result.planned.facet): result for result in render(data, plan.originals[0])
    }
    moving = made[ImageFormat.AVIF, "whole"]
    assert moving.data and len(moving.data) < len(data)
    with Image.open(source) as gif, Image.open(io.BytesIO(moving.data)) as avif:
        assert avif.n_frames == gif.n_frames == 6
        for number, time in enumerate(times):
            gif.seek(number)
            avif.seek(number)
            avif.load()
            assert avif.info["duration"] == (100 if time < 20 else time)  # as browsers show it
            before, after = (np.asarray(image.convert("RGB"), int) for image in (gif, avif))
            assert np.abs(before - after).mean() < 6
    posters = [result for (_, facet), result in made.items() if facet == "poster" and result.data]
    assert posters
    with Image.open(source) as gif, Image.open(io.BytesIO(posters[-1].data)) as poster:
        assert np.abs(np.asarray(gif.convert("RGB"), int) - np.asarray(poster.convert("RGB"), int)).mean() < 6


def test_markup_shows_the_poster_to_those_who_want_less_motion() -> None:
    entries = [
        RenditionEntry(
            path=f"a{facet and '-poster'}.{fmt}", format=fmt, type=f"image/{fmt}", width=80, height=40, bytes=9, sha256="",
            key="", facet=facet or None, outcome="made", reason="",
        )
        for fmt, facet in (("avif", ""), ("gif", ""), ("webp", "poster"))
    ]  # fmt: skip
    snippet = Delivered("a.gif", tuple(entries), Recipe().markup).html()
    first, second = re.findall(r"<source [^>]+>", snippet)
    assert 'media="(prefers-reduced-motion: reduce)"' in first and "a-poster.webp" in first
    assert "a.avif" in second and "media" not in second

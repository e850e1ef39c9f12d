"""Everyday jobs, each with one command, and what came out by Pillow and exiftool."""

from __future__ import annotations

import json
import re
from datetime import datetime
from pathlib import Path

import html5lib
import pytest
from PIL import Image

from tests.support import pictures
from tests.support.commands import command
from tests.support.exiftool import exiftool


@pytest.fixture
def site(tmp_path: Path) -> Path:
    folder = tmp_path / "site"
    folder.mkdir()
    for number in range(3):
        photo = pictures.jpeg(pictures.photo(800, 600, number))
        (folder / f"view-{number}.jpg").write_bytes(photo)
    exiftool("-overwrite_original", "-DateTimeOriginal=2026:05:01 10:00:00", folder / "view-1.jpg")
    (folder / "screen.png").write_bytes(pictures.png(pictures.graphic(640, 480)))
    return folder


def build(site: Path, recipe: str) -> dict[str, tuple[str, tuple[int, int], int]]:
    """Build with a recipe, and return the files by name, each with format, size and bytes."""
    (site.parent / "recipe.toml").write_text(recipe)
    out = site.parent / "out"
    done = command("build", "--source", site, "--recipe", site.parent / "recipe.toml", "--out", out)
    assert done.returncode == 0, done.stderr
    files = {}
    for file in sorted(out.iterdir()):
        if file.is_file() and file.name != "manifest.json":
            with Image.open(file) as image:
                image.load()
                files[file.name] = (str(image.format), image.size, file.stat().st_size)
    return files


def test_pictures_are_halved_with_date_name_and_serial_number(site: Path) -> None:
    recipe = (
        '[ladder]\npercents = [50]\n[names]\nrule = "{date:%Y%m%d}-{stem}-{counter:2}.{ext}"\n'
        "[formats.photo]\njpeg = {}\n[formats.graphic]\npng = {}\n"
    )
    files = build(site, recipe)
    assert {name: size for name, (_, size, _) in files.items()} == {
        "undated-screen-01.png": (320, 240),
        "undated-view-0-02.jpg": (400, 300),
        "20260501-view-1-03.jpg": (400, 300),
        "undated-view-2-04.jpg": (400, 300),
    }
    # A new picture gets the next number, and the others keep theirs, also where it comes first.
    (site / "arrived.jpg").write_bytes(pictures.jpeg(pictures.photo(800, 600, 9)))
    assert set(build(site, recipe)) == {*files, "undated-arrived-05.jpg"}


def test_photos_stay_jpeg_at_80_and_screenshots_lossless_under_their_names(site: Path) -> None:
    files = build(
        site,
        '[names]\nrule = "{stem}.{ext}"\n[ladder]\npercents = [100]\n'
        "[formats.by_type.jpeg]\njpeg = {quality = 80}\n[formats.by_type.png]\npng = {}\n",
    )
    assert {name: fmt for name, (fmt, _, _) in files.items()} == {
        "screen.png": "PNG",
        **{f"view-{number}.jpg": "JPEG" for number in range(3)},
    }
    with Image.open(site / "screen.png") as before, Image.open(site.parent / "out/screen.png") as after:
        assert before.convert("RGBA").tobytes() == after.convert("RGBA").tobytes()


def test_everything_has_at_most_so_many_bytes(site: Path) -> None:
    limit = 12_000
    formats = 'max_bytes = "12 kB"\nwebp = {}\njpeg = {}\n'
    files = build(site, f"[ladder]\nwidths = [800]\n[formats.photo]\n{formats}[formats.graphic]\n{formats}")
    assert {name.rpartition(".")[2] for name in files} == {"webp", "jpg"}
    assert all(size <= limit for _, _, size in files.values())
    manifest = json.loads((site.parent / "out/manifest.json").read_text())
    reasons = [r["reason"] for original in manifest["originals"] for r in original["renditions"]]
    assert any("for at most 12,000 bytes" in reason for reason in reasons)


def test_a_limit_that_nothing_can_meet_is_a_failure_and_not_a_file(site: Path) -> None:
    (site.parent / "recipe.toml").write_text(
        "[ladder]\nwidths = [800]\n[formats.photo]\njpeg = {max_bytes = 200}\n[formats.graphic]\nwebp = {}\n"
    )
    out = site.parent / "out"
    done = command("build", "--source", site, "--recipe", site.parent / "recipe.toml", "--out", out)
    assert done.returncode == 1
    assert re.search(r"view-0\.jpg: .*over the limit of 200", done.stderr)
    assert not list(out.glob("*.jpg")) and (out / "screen-640w.webp").exists()


def test_a_quality_sweep_is_kept_under_its_numbers(site: Path) -> None:
    out = site.parent / "sweep"
    qualities = [part for quality in (80, 50, 1) for part in ("--quality", quality)]
    done = command("convert", site / "view-0.jpg", *qualities, "--format", "webp", "--out", out)
    assert done.returncode == 0, done.stderr
    sizes = [(out / f"view-0-{quality}.webp").stat().st_size for quality in (80, 50, 1)]
    assert sizes == sorted(sizes, reverse=True) and len(list(out.iterdir())) == 3


def test_widths_are_chosen_by_what_a_sample_weighs(site: Path) -> None:
    done = command("ladder", "--sample", site / "view-0.jpg", "--step", "40%", "--smallest", 100, "--json")
    result = json.loads(done.stdout)
    assert result["widths"][-1] == 800 and len(result["measured"]) == 7
    assert command("ladder", "--sample", site / "view-0.jpg", "--step", "much").returncode == 2


def test_a_small_picture_links_to_the_large_one(site: Path) -> None:
    files = build(
        site,
        '[ladder]\nwidths = [400, 800]\n[names]\nrule = "{stem}.{ext}"\n'
        '[[names.special]]\nrung = "smallest"\nrule = "thumb-{stem}.{ext}"\n'
        "[formats.photo]\nwebp = {}\njpeg = {}\n",
    )
    out = site.parent / "out"
    done = command("snippet", "--manifest", out, "view-0.jpg", "--form", "thumbnail", "--alt", "A & B")
    link = html5lib.parse(done.stdout, namespaceHTMLElements=False).find(".//a")
    assert link is not None
    image = link.find(".//img")
    assert image is not None and image.get("alt") == "A & B" and image.get("src") == "thumb-view-0.jpg"
    assert files["thumb-view-0.jpg"][1] == (400, 300) == (int(image.get("width")), int(image.get("height")))
    large = (int(link.get("data-large-width")), int(link.get("data-large-height")))
    assert files[link.get("href")][1] == large == (800, 600)
    two = command("snippet", "--manifest", out, "view-0.jpg", "view-1.jpg", "--form", "gallery")
    items = html5lib.parse(two.stdout, namespaceHTMLElements=False).findall(".//ul/li/a")
    assert [item.get("href") for item in items] == ["view-0.jpg", "view-1.jpg"]


def test_a_snippet_of_a_facet_shows_that_cut(site: Path) -> None:
    build(
        site,
        '[ladder]\nwidths = [800]\n[[facets]]\nname = "square"\naspect = "1:1"\nmatch = "*.jpg"\n'
        "ladder = {widths = [200]}\n[formats.photo]\njpeg = {}\n",
    )
    out = site.parent / "out"
    done = command("snippet", "--manifest", out, "view-0.jpg", "--facet", "square", "--decorative")
    assert 'src="view-0-square-200w.jpg" width="200" height="200" alt=""' in done.stdout
    lacking = command("snippet", "--manifest", out, "screen.png", "--facet", "square", "--decorative")
    assert lacking.returncode == 2 and "no renditions of the facet “square”" in lacking.stderr


def test_a_run_writes_a_log_and_the_record_prints_it_again(site: Path) -> None:
    (site / "cut.jpg").write_bytes((site / "view-0.jpg").read_bytes()[:2000])
    (site.parent / "recipe.toml").write_text("[ladder]\nwidths = [200]\n[formats.photo]\njpeg = {}\n")
    lines = site.parent / "run.jsonl"
    data = ("--data", site.parent / "data")
    arguments = (
        "build",
        "--source",
        site,
        "--recipe",
        site.parent / "recipe.toml",
        "--out",
        site.parent / "out",
    )
    assert command(*arguments, "--log", lines, *data).returncode == 1
    written = [json.loads(line) for line in lines.read_text().splitlines()]
    failed = [line for line in written if line["outcome"] == "failed"]
    assert [line["original"] for line in failed] == ["cut.jpg"] and "ends in the middle" in failed[0][
        "reason"
    ]
    made = {line["file"]: line["bytes"] for line in written if line["outcome"] == "made"}
    assert made["view-0-200w.jpg"] == (site.parent / "out/view-0-200w.jpg").stat().st_size
    assert all(datetime.fromisoformat(line["time"]).tzinfo for line in written)
    [run] = json.loads(command("runs", "--json", *data).stdout)
    again = command("runs", run["run"], "--log", "--log-format", "jsonl", *data).stdout.splitlines()
    keys = ("outcome", "original", "file", "bytes", "reason")
    assert sorted([json.loads(line)[key] for key in keys] for line in again) == sorted(
        [line[key] for key in keys] for line in written
    )
    text = command("runs", run["run"], "--log", *data).stdout
    assert re.search(r"^\S+\tmade\t\d+\tview-0\.jpg\tview-0-200w\.jpg\t", text, re.MULTILINE)


def test_a_gif_becomes_the_smallest_moving_format_with_a_poster(site: Path) -> None:
    frames = [pictures.photo(200, 120).convert("RGB") for _ in range(5)]
    for number, frame in enumerate(frames):
        frame.paste((220, 40, 40), (30 * number, 40, 30 * number + 30, 80))
    gif = site / "ride.gif"
    frames[0].save(gif, save_all=True, append_images=frames[1:], duration=[60, 80, 100, 120, 140], loop=0)
    out = site.parent / "moving"
    done = command("convert", gif, "--poster", "--out", out)
    assert done.returncode == 0, done.stderr
    [moving, poster] = sorted(out.iterdir(), key=lambda file: "poster" in file.name)
    assert (moving.name, poster.name) == ("ride.avif", "ride-poster.jpg")
    with Image.open(moving) as image:
        assert image.n_frames == 5 and image.size == (200, 120) and moving.stat().st_size < gif.stat().st_size
    both = command(
        "convert", gif, "--format", "avif", "--format", "webp", "--width", 100, "--out", out / "small"
    )
    assert both.returncode == 0 and "5 frames" in both.stdout
    with Image.open(out / "small" / "ride.webp") as image:
        assert (image.n_frames, image.size) == (5, (100, 60))
        image.seek(2)
        image.load()
        assert image.info["duration"] == 100
    # A GIF says how often it plays again, a WebP how often it plays (RFC 9649, 2.7.1.1).
    frames[0].save(gif, save_all=True, append_images=frames[1:], duration=60, loop=2)
    command("convert", gif, "--out", out / "twice")
    with Image.open(out / "twice" / "ride.webp") as image:
        assert image.info["loop"] == 3


def test_files_are_squeezed_in_their_format_to_a_score_under_their_names(site: Path) -> None:
    pictures.photo(800, 600, 5).save(site / "web.webp", quality=98)
    pictures.photo(300, 200, 6).save(site / "photo.png")
    before = {file.name: file.stat().st_size for file in site.iterdir()}
    files = build(site, "[formats.squeeze]\ntarget = 80\n")
    assert set(files) == set(before)
    for name, (fmt, size, after) in files.items():
        with Image.open(site / name) as original:
            assert (fmt, size) == (original.format, original.size)
        assert after < (0.7 if name.startswith(("view", "web")) else 1) * before[name]
    manifest = json.loads((site.parent / "out/manifest.json").read_text())
    reasons = {original["path"]: original["renditions"][0]["reason"] for original in manifest["originals"]}
    scores = [float(match[1]) for text in reasons.values() if (match := re.search(r"score ([\d.]+)", text))]
    assert len(scores) >= 4 and min(scores) >= 80
    assert "a photo in PNG; WebP or JPEG would be far smaller" in reasons["photo.png"]


def test_a_folder_is_compared_on_one_sheet_the_worst_first(site: Path) -> None:
    (site / "flat.png").write_bytes(pictures.png(Image.new("RGB", (300, 200), (90, 120, 150))))
    sheet = site.parent / "sheet.html"
    arguments = ("proof", site, "-c", "webp-30", "--width", 300, "--sort", "score", "--html", sheet, "--json")
    done = command(*arguments)
    assert done.returncode == 0, done.stderr
    compared = json.loads(done.stdout)["pictures"]
    scores = [candidate["score"] for picture in compared for candidate in picture["candidates"]]
    assert len(scores) == 5 and scores == sorted(scores)
    assert sheet.read_text().count("data:image/webp") >= 5


def test_exported_files_are_squeezed_without_loss(site: Path) -> None:
    out = site.parent / "squeezed"
    names = ("view-0.jpg", "screen.png")
    done = command("convert", *(site / name for name in names), "--lossless", "--out", out)
    assert done.returncode == 0, done.stderr
    for name in names:
        assert (out / name).stat().st_size < (site / name).stat().st_size
        with Image.open(site / name) as before, Image.open(out / name) as after:
            assert before.convert("RGBA").tobytes() == after.convert("RGBA").tobytes()
    packed = command("convert", site / "view-0.jpg", "--lossless", "--format", "jxl", "--out", out)
    assert packed.returncode == 0 and "restored and compared" in packed.stdout
    refused = command("convert", site / "view-0.jpg", "--lossless", "--format", "avif", "--out", out)
    assert refused.returncode == 1 and "AVIF has no lossless mode" in refused.stderr
    assert command("convert", site / "view-0.jpg", "--lossless", "--quality", 5).returncode == 2


def test_a_limit_holds_also_where_the_original_s_own_pixels_would_do(site: Path) -> None:
    pictures.photo(300, 200, 8).save(site / "own.png")
    (site.parent / "recipe.toml").write_text(
        '[ladder]\nwidths = [4000]\n[formats.photo]\npng = {max_bytes = "2 kB"}\n[formats.graphic]\npng = {}\n'
    )
    out = site.parent / "out"
    arguments = ("build", "--source", site, "--recipe", site.parent / "recipe.toml", "--out", out)
    done = command(*arguments, "--only", "own.png")
    assert done.returncode == 1 and "over the limit of 2,000" in done.stderr
    assert not list(out.glob("own*"))


def test_an_animation_is_kept_without_loss_or_within_a_limit_and_never_silently_otherwise(site: Path) -> None:
    frames = [pictures.photo(120, 80, seed).convert("RGB").quantize(64) for seed in range(3)]
    gif = site / "ride.gif"
    frames[0].save(gif, save_all=True, append_images=frames[1:], duration=80, loop=0)
    out = site.parent / "moving"
    assert command("convert", gif, "--lossless", "--to", out / "exact").returncode == 0
    with Image.open(gif) as before, Image.open(out / "exact" / "ride.webp") as after:
        for number in range(3):
            before.seek(number)
            after.seek(number)
            assert before.convert("RGB").tobytes() == after.convert("RGB").tobytes()
    refused = command("convert", gif, "--lossless", "--format", "avif", "--to", out)
    assert refused.returncode == 1 and "AVIF has no lossless mode" in refused.stderr
    small = command("convert", gif, "--format", "webp", "--max-bytes", "2 kB", "--to", out / "small")
    assert small.returncode == 0 and "for at most 2.0 kB" in small.stdout
    assert (out / "small" / "ride.webp").stat().st_size <= 2000
    assert command("convert", gif, "--max-bytes", 40, "--to", out / "none").returncode == 1


def test_pages_keep_an_original_that_was_cropped_to_another_shape(site: Path) -> None:
    page = (
        '<!doctype html><img src="view-0.jpg" width="800" height="600" alt=""><img src="view-1.jpg" alt="">'
    )
    (site / "index.html").write_text(page)
    recipe, details, out = site.parent / "r.toml", site.parent / "d.toml", site / "pictures"
    recipe.write_text("[ladder]\nwidths = [333, 400]\n[formats.photo]\njpeg = {}\n")
    details.write_text(
        '["view-0.jpg"]\ngeometry = { turn = 90 }\n["view-1.jpg"]\ngeometry = { mirror = true }\n'
    )
    arguments = ("--source", site, "--out", out)
    assert command("build", *arguments, "--recipe", recipe, "--details", details).returncode == 0
    done = command("rewrite", *arguments, "--pages", site)
    assert "turned or cropped by hand" in done.stderr + done.stdout
    assert 'src="view-0.jpg" width="800"' in done.stdout.split("\n+")[1]
    assert "view-1-400w.jpg" in done.stdout

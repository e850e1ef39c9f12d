"""`young-prism convert`: pixels, bytes and names by Pillow, on real photographs, and what is refused."""

from __future__ import annotations

import io
import json
import subprocess
import sys
from pathlib import Path

import pytest
from PIL import Image

import young_prism
from tests.support import pictures
from tests.support.commands import command
from young_prism.core.conversion.names import ConvertedKind, converted_names
from young_prism.core.types import ImageFormat, Size


@pytest.fixture
def folder(tmp_path: Path) -> Path:
    (tmp_path / "photo.jpg").write_bytes(pictures.jpeg(pictures.photo(900, 600)))
    (tmp_path / "tall.png").write_bytes(pictures.png(pictures.graphic(300, 500)))
    return tmp_path


def opened(path: Path) -> tuple[str, tuple[int, int]]:
    with Image.open(path) as image:
        image.load()
        return str(image.format), image.size


def test_one_picture_to_a_width_and_a_format_is_one_command(folder: Path) -> None:
    out = folder / "out"
    done = command(
        "convert",
        folder / "photo.jpg",
        folder / "tall.png",
        "--width",
        400,
        "--format",
        "webp",
        "--quality",
        70,
        "--out",
        out,
    )
    assert done.returncode == 0, done.stderr
    assert {file.name: opened(file) for file in out.iterdir()} == {
        "photo.webp": ("WEBP", (400, 267)),
        "tall.webp": ("WEBP", (300, 500)),  # nothing is enlarged
    }
    assert "400 × 267, WebP, quality 70, score" in done.stdout and "smaller" in done.stdout
    assert "2 images → 2 files" in done.stderr


def test_sizes_formats_and_qualities_are_combined_and_tell_names_apart(folder: Path) -> None:
    out = folder / "out"
    done = command("convert", folder / "photo.jpg", "--percent", 50, "--longest-side", 300, "--quality", 80, "--quality", 50, "--quality", 1,
                   "--format", "webp", "--format", "png", "--out", out, "--json")  # fmt: skip
    files = {Path(each["file"]).name: each for each in json.loads(done.stdout)["files"]}
    expected = {f"photo-{width}w-{quality}.webp" for width in (300, 450) for quality in (80, 50, 1)}
    assert set(files) == expected | {"photo-300w.png", "photo-450w.png"}
    for name, each in files.items():
        assert opened(out / name)[1] == (each["width"], each["height"])
        assert (out / name).stat().st_size == each["bytes"]
    assert files["photo-450w-80.webp"]["score"] > files["photo-450w-1.webp"]["score"]
    assert files["photo-450w.png"]["quality"] is None


def test_a_byte_limit_and_a_target_decide_the_quality(folder: Path) -> None:
    limited = command(
        "convert", folder / "photo.jpg", "--max-bytes", "10 kB", "--out", folder / "a", "--json"
    )
    [small] = json.loads(limited.stdout)["files"]
    assert (
        9_000 < (folder / "a" / "photo.jpg").stat().st_size <= 10_000 and small["note"] == "for at most 10 kB"
    )
    aimed = command(
        "convert",
        folder / "photo.jpg",
        "--target",
        70,
        "--format",
        "webp",
        "--width",
        450,
        "--out",
        folder / "b",
        "--json",
    )
    [good] = json.loads(aimed.stdout)["files"]
    assert 70 <= good["score"] < 74
    refused = command(
        "convert",
        folder / "photo.jpg",
        folder / "tall.png",
        "--max-bytes",
        400,
        "--format",
        "jpeg",
        "--out",
        folder / "c",
    )
    assert (
        refused.returncode == 1
        and "No quality brings 900 × 600 px down to 400 B. Give a smaller size or a higher limit."
        in refused.stderr
    )
    assert not (folder / "c" / "photo.jpg").exists()


def test_no_picture_is_overwritten_and_no_file_without_being_asked_to(folder: Path) -> None:
    before = (folder / "photo.jpg").read_bytes()
    assert command("convert", folder / "photo.jpg", "--width", 90).returncode == 0
    assert (folder / "photo.jpg").read_bytes() == before and opened(folder / "photo-jpg.jpg")[1] == (90, 60)
    again = command("convert", folder / "photo.jpg", "--width", 90)
    assert (
        again.returncode == 1
        and "A file with this name already exists." in again.stderr
        and "--overwrite" in again.stderr
    )
    assert command("convert", folder / "photo.jpg", "--width", 90, "--overwrite").returncode == 0
    assert (folder / "photo.jpg").read_bytes() == before


def test_what_cannot_be_converted_is_said_and_the_others_are_done(folder: Path) -> None:
    (folder / "text.jpg").write_text("no picture")
    (folder / "logo.svg").write_text('<svg xmlns="http://www.w3.org/2000/svg" width="9" height="9"/>')
    names = ("text.jpg", "logo.svg", "gone.jpg", "tall.png")
    done = command("convert", *(folder / name for name in names), "--format", "jpeg", "--out", folder / "out")
    assert done.returncode == 1 and [file.name for file in (folder / "out").iterdir()] == ["tall.jpg"]
    assert [line.count(name) for name in names[:3] for line in done.stderr.splitlines() if name in line] == [
        1,
        1,
        1,
    ]
    assert "drawings cannot be converted" in done.stderr
    for wrong in (("--max-bytes", "ten"), ("--box", "10"), ("--quality", 5, "--target", 70)):
        assert command("convert", folder / "tall.png", *wrong).returncode == 2


def test_a_build_takes_one_original_and_leaves_the_others(folder: Path) -> None:
    out = folder / "out"
    done = command("build", "--source", folder / "photo.jpg", "--out", out, "--no-record", "--jobs", 1)
    assert done.returncode == 0 and "1 original → " in done.stderr
    assert {file.name[:6] for file in out.glob("[a-z]*.*") if file.name != "manifest.json"} == {"photo-"}
    refused = command("plan", "--source", folder / "photo.jpg", "--out", out)
    assert refused.returncode == 2 and "is a file" in refused.stderr


def test_a_picture_goes_through_a_pipe(folder: Path) -> None:
    run = [sys.executable, "-m", "young_prism", "convert", "-", "--box", "100x100", "--format", "png"]
    done = subprocess.run(
        run, input=(folder / "tall.png").read_bytes(), capture_output=True, timeout=60, check=True
    )
    with Image.open(io.BytesIO(done.stdout)) as image:
        assert (image.format, image.size) == ("PNG", (60, 100))


def test_scripts_convert_bytes_and_transparency_stays_where_a_format_has_it() -> None:
    data = pictures.png(pictures.graphic(200, 100, clear=True))
    webp, jpeg = young_prism.convert(data, widths=[100], formats=["webp", "jpeg"])
    assert (webp.size, webp.format) == (Size(100, 50), ImageFormat.WEBP)
    with Image.open(io.BytesIO(webp.data)) as image:
        assert image.convert("RGBA").getextrema()[3][0] < 20
    with Image.open(io.BytesIO(jpeg.data)) as image:
        assert image.mode == "RGB"
    assert jpeg.note == "on a matte of #ffffff"
    gif = io.BytesIO()
    pictures.graphic(60, 40, clear=True).save(gif, "GIF")
    [substitute] = young_prism.convert(gif.getvalue())
    assert substitute.format is ImageFormat.PNG  # a GIF cannot be written, and this one is transparent
    with pytest.raises(ValueError, match="bmp"):
        young_prism.convert(data, formats=["bmp"])
    with pytest.raises(young_prism.YoungPrismError, match="empty"):
        young_prism.convert(b"")


def test_a_name_has_only_what_tells_files_apart() -> None:
    small, large = (ConvertedKind(ImageFormat.WEBP, Size(width, 50), None) for width in (100, 200))
    tall = ConvertedKind(ImageFormat.WEBP, Size(100, 90), None)
    assert converted_names("a/b.jpg", [small]) == ["b.webp"]
    assert converted_names("b.jpg", [small, large]) == ["b-100w.webp", "b-200w.webp"]
    assert converted_names("b.jpg", [small, tall]) == ["b-100x50.webp", "b-100x90.webp"]
    assert converted_names("b.jpg", [small], ["B.webp"]) == ["b-jpg.webp"]
    assert converted_names("b.jpg", [small], ["b.webp", "b-jpg.webp"]) == ["b-2.webp"]


def test_a_jpeg_that_ends_its_library_costs_only_itself(
    tmp_path: Path, capfd: pytest.CaptureFixture[str]
) -> None:
    """A coefficient of it is out of range, for which libjpeg prints a line and ends its process; neither reaches the user."""
    fatal = (Path(__file__).parents[1] / "support" / "fatal.jpg").read_bytes()
    good = pictures.jpeg(pictures.photo(120, 80))
    for name, data in (("fatal.jpg", fatal), ("good.jpg", good)):
        (tmp_path / name).write_bytes(data)
    files = [tmp_path / "fatal.jpg", tmp_path / "good.jpg", tmp_path / "gone.jpg"]
    done = command("convert", *files, "--lossless", "--to", tmp_path / "out")
    assert done.returncode == 1 and "gone.jpg: The file cannot be read" in done.stderr
    assert "cannot be squeezed; unchanged" in done.stdout
    assert (tmp_path / "out/fatal.jpg").read_bytes() == fatal
    assert (tmp_path / "out/good.jpg").stat().st_size < len(good)
    assert "DCT" not in "".join([*capfd.readouterr(), done.stdout, done.stderr])


def test_a_folder_is_answered_with_the_command_to_use(tmp_path: Path) -> None:
    done = command("convert", tmp_path)
    assert done.returncode == 1 and "young-prism build --source" in done.stderr

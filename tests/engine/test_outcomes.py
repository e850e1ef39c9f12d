"""Counts and lists agree: what was skipped is one list with reasons, whichever way a build takes, and whatever prints it."""

from __future__ import annotations

import io
import json
import os
import re
import socket
import sys
from pathlib import Path

import pytest

from tests.support import pictures
from tests.support.builds import build
from tests.support.commands import command
from tests.support.processes import running
from young_prism.core.manifest.model import Manifest
from young_prism.core.recipe.codecs import Jpeg, Webp
from young_prism.core.recipe.formats import Formats, FormatSet, VectorFormats
from young_prism.core.recipe.ladder import Ladder
from young_prism.core.recipe.model import Names, Recipe
from young_prism.core.types import Outcome
from young_prism.engine.build.options import BuildOptions
from young_prism.engine.build.outcome import BuildOutcome
from young_prism.engine.events import PlanReady
from young_prism.engine.output.manifest_file import read_manifest

HEAVY_WEBP = Formats(photo=FormatSet(webp=Webp(effort=0, quality=100), jpeg=Jpeg(quality=20)))
RECIPE = Recipe(ladder=Ladder(widths=(60, 120)), formats=HEAVY_WEBP)


@pytest.fixture
def site(tmp_path: Path) -> Path:
    folder = tmp_path / "site"
    folder.mkdir()
    for name, seed in (("a.jpg", 1), ("b.jpg", 2), ("c.jpg", 3)):
        (folder / name).write_bytes(pictures.jpeg(pictures.photo(240, 160, seed)))
    (folder / "linked.jpg").symlink_to("a.jpg")
    (folder / "outside.jpg").symlink_to("/etc/hostname")
    (folder / "broken.jpg").write_bytes(b"\xff\xd8\xff")
    return folder


def agree(result: BuildOutcome) -> None:
    assert result.outcomes[Outcome.SKIPPED] == len(result.skipped)
    assert all(item.error.endswith(".") for item in result.skipped)


def test_what_is_skipped_is_one_list_with_reasons_on_every_way(site: Path, tmp_path: Path) -> None:
    out = tmp_path / "out"
    first = build(site, out, RECIPE, options=BuildOptions(jobs=2))
    agree(first)
    renditions = [item for item in first.skipped if item.rendition]
    assert len(renditions) == 8 and {item.path for item in first.skipped if not item.rendition} == {
        "outside.jpg"
    }
    unchanged = build(site, out, RECIPE, options=BuildOptions(jobs=2))
    agree(unchanged)
    assert unchanged.skipped == first.skipped
    os.utime(site / "a.jpg", ns=(10**18, 10**18))
    partly = build(site, out, RECIPE, options=BuildOptions(jobs=2))
    agree(partly)
    assert partly.skipped == first.skipped
    manifest = read_manifest(out / "manifest.json")
    assert manifest
    listed = {item.path for original in manifest.originals for item in original.skipped}
    assert listed == {rendition.rendition for rendition in renditions}


def test_text_and_json_say_skipped_and_list_what_they_count(site: Path, tmp_path: Path) -> None:
    (tmp_path / "r.toml").write_text(
        "[formats.photo]\nwebp = { effort = 0, quality = 100 }\njpeg = { quality = 20 }\n"
    )
    arguments = ("build", "--source", site, "--out", tmp_path / "out", "--recipe", tmp_path / "r.toml")
    done = command(*arguments, "--json")
    data = json.loads(done.stdout)
    assert data["outcomes"]["skipped"] == len(data["skipped"]) > 1
    assert {"original", "rendition", "error", "remedy"} == set(data["skipped"][0])
    text = command(*arguments)
    assert (
        re.search(
            r"Not delivered: \d+ WEBP of \d+ originals?, since a format that more browsers show", text.stderr
        )
        and "A phone that opens all images fetches" in text.stderr
        and "eft out" not in text.stderr
    )


def test_a_manifest_with_the_old_word_is_still_read(site: Path, tmp_path: Path) -> None:
    build(site, tmp_path / "out", RECIPE)
    text = (tmp_path / "out/manifest.json").read_text()
    old = json.loads(text)
    for original in old["originals"]:
        original["dropped"] = original.pop("skipped")
    assert Manifest.model_validate(old) == Manifest.model_validate_json(text)


def test_only_some_originals_are_counted_where_only_these_were_asked_for(site: Path, tmp_path: Path) -> None:
    events: list[PlanReady] = []
    build(
        site, tmp_path / "out", RECIPE, only="a.jpg".__eq__,
        on_event=lambda event: events.append(event) if isinstance(event, PlanReady) else None,
    )  # fmt: skip
    assert (events[0].originals, events[0].renditions, events[0].plan.renditions) == (1, 4, 16)
    done = command("build", "--source", site, "--out", tmp_path / "other", "--only", "a.jpg", "--no-record")
    assert "of 1 original" in done.stderr and "4 original" not in done.stderr


def test_a_link_to_nothing_counts_only_where_it_means_a_picture(site: Path, tmp_path: Path) -> None:
    (site / "x.css").symlink_to("nothing")
    (site / "y.jpg").symlink_to("nothing")
    result = build(site, tmp_path / "out", RECIPE)
    assert {failure.path for failure in result.failures} == {"broken.jpg", "y.jpg"}


# Names


def gif(frames: int = 3) -> bytes:
    buffer = io.BytesIO()
    first, *rest = [pictures.graphic(60 + number, 40).resize((60, 40)) for number in range(frames)]
    first.save(buffer, "GIF", save_all=True, append_images=rest, duration=100)
    return buffer.getvalue()


SVG = b'<svg xmlns="http://www.w3.org/2000/svg" width="9" height="9"><path d="M0 0h9v9z"/></svg>'


@pytest.mark.parametrize(
    ("rule", "expected"),
    [
        ("{stem}-{width}w.{ext}", {"move.gif", "move.webp", "logo.svg"}),
        ("px-{stem}-{width}x{height}.{ext}", {"px-move.gif", "px-move.webp", "px-logo.svg"}),
        ("{width}/{stem}.{ext}", {"move.gif", "move.webp", "logo.svg"}),
        ("{stem}/{width}.{ext}", {"move/image.gif", "move/image.webp", "logo/image.svg"}),
    ],
)
def test_the_name_rule_holds_for_animations_and_drawings(
    tmp_path: Path, rule: str, expected: set[str]
) -> None:
    (tmp_path / "site").mkdir()
    (tmp_path / "site/move.gif").write_bytes(gif())
    (tmp_path / "site/logo.svg").write_bytes(SVG)
    recipe = Recipe(names=Names(rule=rule), formats=Formats(vector=VectorFormats()))
    build(tmp_path / "site", tmp_path / "out", recipe)
    manifest = read_manifest(tmp_path / "out/manifest.json")
    assert manifest
    paths = {
        item.path for original in manifest.originals for item in (*original.renditions, *original.skipped)
    }
    assert paths == expected


def test_a_name_that_nobody_can_guess_holds_for_animations(tmp_path: Path) -> None:
    (tmp_path / "site").mkdir()
    (tmp_path / "site/move.gif").write_bytes(gif())
    names = Names(rule="{random:32}-{width}.{ext}", secret="a secret that nobody knows")  # noqa: S106
    build(tmp_path / "site", tmp_path / "out", Recipe(names=names))
    manifest = read_manifest(tmp_path / "out/manifest.json")
    assert manifest
    for rendition in manifest.originals[0].renditions:
        assert "move" not in rendition.path and len(Path(rendition.path).stem) == 32


# Damage that only a strict decoder sees


def test_an_animation_that_a_strict_decoder_refuses_is_not_delivered(tmp_path: Path) -> None:
    """Pillow is the strict one; libvips, which looks at originals, takes some files that end early or repeat a few bytes."""
    site = tmp_path / "site"
    site.mkdir()
    data = gif(6)
    for at in range(5400, 5500, 4):
        (site / f"cut-{at}.gif").write_bytes(data[:at])
    for at in range(7000, 7300, 9):
        (site / f"twice-{at}.gif").write_bytes(data[:at] + data[at - 9 : at] + data[at:])
    refused = {file.name for file in site.iterdir() if not pictures.has_all_frames(file)}
    assert len(refused) > 10
    result = build(site, tmp_path / "out", Recipe(ladder=Ladder(widths=(30,))))
    assert all(
        pictures.has_all_frames(file)
        for file in (tmp_path / "out").rglob("*.*")
        if file.suffix in (".gif", ".webp")
    )
    assert refused <= {failure.path for failure in result.failures}
    late = [failure for failure in result.failures if "not all of its frames" in failure.error]
    assert late and all("Export the file again" in item.remedy for item in late)


def test_a_damaged_heic_is_a_sentence_whatever_its_library_raises(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    import pillow_heif

    from young_prism.core.errors import DamagedError
    from young_prism.core.pixels.decode import open_image
    from young_prism.core.types import ImageFormat

    for error in (
        IndexError("list index out of range"),
        KeyError("x"),
        TypeError("x"),
        MemoryError(),
        AssertionError(),
    ):

        def fail(*_: object, error: BaseException = error, **__: object) -> None:
            raise error

        monkeypatch.setattr(pillow_heif, "open_heif", fail)
        with pytest.raises(DamagedError) as raised:
            open_image(b"x", ImageFormat.HEIC)
        assert "index" not in str(raised.value) and "unexpected" not in str(raised.value)


# Publishing


def test_a_storage_that_is_not_there_is_not_called_a_missing_bucket(
    site: Path, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    for name in ("AWS_ACCESS_KEY_ID", "AWS_SECRET_ACCESS_KEY"):
        monkeypatch.setenv(name, "any")
    build(site, tmp_path / "out", RECIPE)
    with socket.socket() as used:
        used.bind(("127.0.0.1", 0))  # and not listening: connections are refused
        port = used.getsockname()[1]
        done = command("publish", tmp_path / "out", "s3://bucket/x", "--endpoint", f"http://127.0.0.1:{port}")
    assert done.returncode == 2 and "cannot be reached" in done.stderr and "bucket bucket" not in done.stderr


@pytest.mark.skipif(os.name == "nt", reason="signals")
def test_ctrl_c_ends_a_command_with_130(site: Path, tmp_path: Path) -> None:
    build(site, tmp_path / "out", RECIPE)
    slow = (
        "import time, sys; from young_prism.engine.handoff import storage; "
        "storage.FolderStorage.write = lambda *a: (print('writing', flush=True), time.sleep(0.5)); "
        "from young_prism.cli.main import main; main(sys.argv[1:])"
    )
    line = [sys.executable, "-c", slow, "publish", tmp_path / "out", tmp_path / "www"]
    with running(line) as program:
        program.wait_for_line("writing")
        assert program.end() == 130 and "Traceback" not in program.text
    assert not (tmp_path / "www/manifest.json").exists()

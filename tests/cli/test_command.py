"""The command as a build script meets it: JSON, exit statuses, nothing written by a dry run."""

from __future__ import annotations

import json
import signal
import socket
import sys
import urllib.request
import zipfile
from importlib.metadata import version
from pathlib import Path

import pytest

from tests.support import faults, pictures
from tests.support.commands import command
from tests.support.limits import limit
from tests.support.processes import ignored_interrupt, running

RECIPE = "[ladder]\nwidths = [200]\n" + pictures.QUICK_FORMATS


@pytest.fixture
def recipe(tmp_path: Path) -> Path:
    (tmp_path / "site.toml").write_text(RECIPE)
    return tmp_path / "site.toml"


def test_plan_build_and_snippet_tell_one_story(source: Path, tmp_path: Path, recipe: Path) -> None:
    out = tmp_path / "out"
    planned = command("plan", "--source", source, "--out", out, "--recipe", recipe, "--json")
    assert planned.returncode == 0 and not out.exists()
    rows = json.loads(planned.stdout)["renditions"]
    assert set(rows[0]) == {
        "original",
        "path",
        "width",
        "height",
        "format",
        "facet",
        "state",
        "reason",
        "encoder",
    }
    assert {row["state"] for row in rows} == {"new"}

    built = command("build", "--source", source, "--out", out, "--recipe", recipe, "--jobs", 2, "--json")
    assert built.returncode == 0, built.stderr
    result = json.loads(built.stdout)
    assert set(result) >= {"originals", "renditions", "outcomes", "bytes", "seconds", "failures", "manifest"}
    assert set(result["outcomes"]) == {"made", "reused", "kept", "skipped", "failed"}
    on_disk = {
        str(p.relative_to(out)) for p in out.rglob("*.*") if p.is_file() and ".young-prism" not in p.parts
    }
    assert on_disk - {"manifest.json"} <= {row["path"] for row in rows}
    assert result["outcomes"]["made"] + result["outcomes"]["kept"] + result["outcomes"]["skipped"] == len(
        rows
    )

    again = json.loads(
        command("build", "--source", source, "--out", out, "--recipe", recipe, "--json").stdout
    )
    assert again["outcomes"]["made"] == 0
    assert again["outcomes"]["reused"] == again["renditions"] == result["renditions"]
    states = json.loads(
        command("plan", "--source", source, "--out", out, "--recipe", recipe, "--json").stdout
    )
    assert {row["state"] for row in states["renditions"]} <= {"unchanged", "skipped"}

    visible = ("snippet", "--manifest", out / "manifest.json", "deep/sideways, été.jpg")
    text = command(*visible, "--alt", "A tree", "--prefix", "/img/").stdout
    assert text.startswith("<picture>") and "/img/deep/sideways%2C%20%C3%A9t%C3%A9-200w.avif 200w" in text
    assert 'alt="A tree"' in text
    signs = {
        "preload": 'rel="preload" as="image"',
        "css": "image-set(",
        "markdown": "![](deep/",
        "json": '"sources": [',
        "jinja": "{%- macro picture",
    }
    for form, sign in signs.items():
        assert sign in command(*visible, "--form", form).stdout, form
    every = command("snippet", "--manifest", out, "--decorative", "--hero")
    assert every.stdout.count('alt=""') == every.stdout.count("<img") == 7 and not every.stderr
    assert every.stdout.count('fetchpriority="high"') == 1
    for server, sign in (("nginx", "try_files"), ("apache", "RewriteEngine On")):
        assert sign in command("server-rules", out, "--for", server, "--originals", "/img/").stdout
    unsaid = command(*visible)
    assert unsaid.returncode == 0 and " alt=" not in unsaid.stdout and "no alternative text;" in unsaid.stderr


def test_some_failed_is_1_and_wrong_use_is_2(source: Path, tmp_path: Path, recipe: Path) -> None:
    (source / "bad.jpg").write_bytes(b"")
    built = command("build", "--source", source, "--out", tmp_path / "out", "--recipe", recipe, "--json")
    assert built.returncode == 1
    [failure] = json.loads(built.stdout)["failures"]
    assert failure["original"] == "bad.jpg" and "empty" in failure["error"] and failure["remedy"]
    assert "bad.jpg: The file is empty. Copy it again" in built.stderr
    wrong = [
        command("build", "--source", tmp_path / "gone", "--out", tmp_path / "o"),
        command("build", "--source", source, "--out", source),
        command("build", "--source", source, "--out", source / "photo.jpg"),
        command("build", "--source", source),
        command("build", "--source", source, "--out", tmp_path / "o", "--recipe", tmp_path / "gone.toml"),
        command("buidl"),
    ]
    assert [result.returncode for result in wrong] == [2] * len(wrong)
    assert all(result.stderr.strip() and "Traceback" not in result.stderr for result in wrong)


def test_look_tells_what_is_there(source: Path) -> None:
    (source / "wrong.png").write_bytes(b"GIF is what this is not")
    looked = command("look", source, "--json")
    assert looked.returncode == 1
    result = {item["path"]: item for item in json.loads(looked.stdout)["originals"]}
    assert result["deep/sideways, été.jpg"]["size"] == [400, 600]
    assert result["IMG_1.HEIC"]["format"] == "heic"
    assert (result["clear.png"]["kind"], result["clear.png"]["transparent"]) == ("graphic", True)
    assert result["moving.gif"]["frames"] == 2
    assert "400 × 600" in command("look", source).stdout


def test_a_build_script_can_forbid_places(source: Path) -> None:
    refused = command("look", source, "--fail-on", "place,cmyk")
    assert refused.returncode == 1
    assert "photo.jpg has flags that --fail-on names: place." in refused.stderr
    assert command("look", source, "--fail-on", "cmyk").returncode == 0
    only = json.loads(command("look", source, "--flag", "sideways", "--json").stdout)["originals"]
    assert [item["path"] for item in only] == ["deep/sideways, été.jpg"]
    assert {flag["flag"] for flag in only[0]["flags"]} == {"place", "sideways", "web-name"}
    wrong = command("look", source, "--flag", "palce")
    assert wrong.returncode == 2
    assert "place" in wrong.stderr


def test_a_recipe_is_printed_in_full_and_read_back(tmp_path: Path) -> None:
    whole = command("recipe").stdout
    (tmp_path / "a.toml").write_text(whole)
    assert command("recipe", tmp_path / "a.toml").stdout == whole


def test_control_c_stops_and_the_same_command_goes_on(tmp_path: Path) -> None:
    source = faults.photos(tmp_path / "site", 12)
    recipe = tmp_path / "recipe.toml"
    arguments = ["build", "--source", source, "--out", tmp_path / "out", "--recipe", recipe, "--jobs", 1]
    with running([sys.executable, "-m", "young_prism", *arguments]) as program:
        program.wait_for_line("[1/")
        assert program.end() == 130, program.text
        assert "repeat the command to continue" in program.text
    done = command(*arguments, "--json")
    assert done.returncode == 0
    assert json.loads(done.stdout)["outcomes"]["reused"] > 0


@pytest.mark.parametrize("way", [signal.SIGINT, signal.SIGTERM])
def test_serve_says_a_taken_port_answers_and_ends_also_where_ctrl_c_was_ignored_when_it_began(
    tmp_path: Path, way: signal.Signals
) -> None:
    with socket.socket() as used:
        used.bind(("127.0.0.1", 0))
        used.listen()
        port = used.getsockname()[1]
        refused = command("serve", "--port", port, "--data", tmp_path / "data")
    assert refused.returncode == 2
    assert f"Port {port} is used by another program" in refused.stderr and "--port" in refused.stderr
    line = [sys.executable, "-m", "young_prism", "serve", "--port", 0, "--data", "data"]
    with running(line, cwd=tmp_path, preexec_fn=ignored_interrupt) as program:
        address = program.wait_for_line("http://").split()[4]
        with urllib.request.urlopen(address, timeout=limit(30)) as page:
            assert b"Add a local folder" in page.read()
        assert program.end(way) == 0, program.text
        assert "Traceback" not in program.text


def test_headers_alone_answer_what_needs_no_pixels(source: Path) -> None:
    quick = command("look", source, "--headers", "--fail-on", "place,cmyk", "--json")
    assert quick.returncode == 1 and "photo.jpg has flags that --fail-on names: place" in quick.stderr
    assert {item["kind"] for item in json.loads(quick.stdout)["originals"]} == {
        "not judged yet",
        "animation",
        "vector",
    }
    wrong = command("look", source, "--headers", "--flag", "duplicate")
    assert wrong.returncode == 2 and "duplicate needs pixels" in wrong.stderr


def test_patterns_and_pages_on_the_command_line(source: Path, tmp_path: Path, recipe: Path) -> None:
    (source.parent / "index.html").write_text('<img src="site/photo.jpg"><img src="site/gone.jpg">')
    looked = command(
        "look", source, "--pages", source.parent, "--exclude", "*.gif", "--fail-on", "missing", "--json"
    )
    result = json.loads(looked.stdout)
    assert looked.returncode == 1 and "site/gone.jpg has flags that --fail-on names: missing" in looked.stderr
    # The recipe that lies beside the page is searched for mentions too.
    assert result["pages_read"] == 2 and [entry["path"] for entry in result["missing"]] == ["site/gone.jpg"]
    assert "moving.gif" not in {item["path"] for item in result["originals"]}
    planned = command(
        "plan",
        "--source",
        source,
        "--out",
        tmp_path / "out",
        "--recipe",
        recipe,
        "--include",
        "deep/",
        "--json",
    )
    assert {row["original"].split("/")[0] for row in json.loads(planned.stdout)["renditions"]} == {"deep"}
    wrong = command("plan", "--source", source, "--out", tmp_path / "out", "--exclude", "!")
    assert wrong.returncode == 2 and "not a pattern" in wrong.stderr


def test_packed_jpegs_are_restored_byte_by_byte(tmp_path: Path) -> None:
    data = pictures.jpeg(pictures.photo(120, 80))
    (tmp_path / "site").mkdir()
    (tmp_path / "site" / "a.jpg").write_bytes(data)
    (tmp_path / "recipe.toml").write_text(
        'finishing = { metadata = "all" }\n[formats.squeeze]\njpeg_to_jxl = true\n'
    )
    out = tmp_path / "out"
    built = command(
        "build", "--source", tmp_path / "site", "--out", out, "--recipe", tmp_path / "recipe.toml"
    )
    assert built.returncode == 0 and "1 kept" in built.stderr, built.stderr
    done = command("unpack-jpeg", out / "a.jxl", "--to", tmp_path / "back")
    assert done.returncode == 0 and "1 JPEG restored, 0 failed" in done.stderr
    assert (tmp_path / "back" / "a.jpg").read_bytes() == data
    (out / "b.jxl").write_bytes(b"no picture")
    again = command(
        "unpack-jpeg", out / "a.jxl", out / "b.jxl", out / "no-such.jxl", "--to", tmp_path / "back"
    )
    assert again.returncode == 1 and "0 JPEGs restored, 3 failed" in again.stderr
    for sentence in (
        "file with this name already",
        "b.jxl: This is not a JPEG XL file",
        "no-such.jxl: The file cannot be read",
    ):
        assert sentence in again.stderr


def test_a_zip_is_unpacked_into_a_folder(tmp_path: Path) -> None:
    with zipfile.ZipFile(tmp_path / "a.zip", "w") as archive:
        archive.writestr("in/a.jpg", pictures.jpeg(pictures.photo(40, 30)))
        archive.writestr("../b.jpg", b"")
    done = command("unpack", tmp_path / "a.zip", tmp_path / "there", "--json")
    assert done.returncode == 1 and "../b.jpg" in done.stderr
    assert [file["path"] for file in json.loads(done.stdout)["files"]] == ["in/a.jpg"]
    assert [str(p.relative_to(tmp_path)) for p in (tmp_path / "there").rglob("*") if p.is_file()] == [
        "there/in/a.jpg"
    ]
    assert not (tmp_path / "b.jpg").exists()
    again = command("unpack", tmp_path / "a.zip", tmp_path / "there")
    assert "1 unchanged" in again.stderr
    assert command("unpack", tmp_path / "gone.zip", tmp_path / "there").returncode == 2


def test_a_layout_s_best_widths_are_told(tmp_path: Path) -> None:
    assert "one-column-blog" in command("recipe", "--list").stdout
    (tmp_path / "blog.toml").write_text(command("recipe", "--start", "one-column-blog").stdout)
    (tmp_path / "visits.csv").write_text("width,share\n390,3\n1280,1\n")
    lines = command(
        "ladder",
        tmp_path / "blog.toml",
        "--viewports",
        tmp_path / "visits.csv",
        "--against",
        "390,800",
        "--json",
    )
    result = json.loads(lines.stdout)
    assert result["ladders"]["best"] == {"widths": [390, 760, 780, 1520], "beyond": 0, "short": 0}
    assert result["ladders"]["against"]["short"] == 0.125  # 1520 px are needed by half of a quarter
    assert result["sizes"] == "min(100vw, 760px)"
    assert (
        "widths = [390, 760, 780, 1520]"
        in command("ladder", tmp_path / "blog.toml", "--viewports", tmp_path / "visits.csv").stdout
    )
    (tmp_path / "bad.csv").write_text("390,1\nzebra,1\n")
    wrong = [
        command("ladder", tmp_path / "blog.toml", "--viewports", tmp_path / "bad.csv"),
        command("ladder", tmp_path / "blog.toml", "--against", "a,b"),
        command("recipe", "--start", "zebra"),
    ]
    assert [item.returncode for item in wrong] == [2, 2, 2]
    assert "Line 2" in wrong[0].stderr and "choose one of" in wrong[2].stderr.lower()


def test_in_place_and_back_by_command(tmp_path: Path, recipe: Path) -> None:
    site = tmp_path / "site"
    site.mkdir()
    (site / "a.jpg").write_bytes(pictures.jpeg(pictures.photo(400, 300)))
    before = pictures.hashes(site)
    built = command("build", "--source", site, "--in-place", "--recipe", recipe, "--json")
    assert built.returncode == 0, built.stderr
    assert (site / "a.jpg").read_bytes()[:3] == b"\xff\xd8\xff" and pictures.hashes(site)["a.jpg"] != before[
        "a.jpg"
    ]
    back = command("restore", "--source", site, "--json")
    assert back.returncode == 0 and json.loads(back.stdout)["restored"] == ["a.jpg"]
    assert pictures.hashes(site)["a.jpg"] == before["a.jpg"]
    nothing = command("restore", "--source", tmp_path / "other")
    assert nothing.returncode == 2 and "--keep" in nothing.stderr
    assert "Give --out" in command("build", "--source", site, "--recipe", recipe).stderr


def test_a_build_is_on_record_and_its_report_is_one_file(source: Path, tmp_path: Path, recipe: Path) -> None:
    data, report = tmp_path / "data", tmp_path / "report.html"
    line = ["build", "--source", source, "--out", tmp_path / "out", "--recipe", recipe, "--data", data]
    assert command(*line, "--report", report, "--only", "*.jpg").returncode == 0
    assert "asked for" not in report.read_text() and "Renditions by format" in report.read_text()
    [run] = json.loads(command("runs", "--data", data, "--json").stdout)
    assert (run["origin"], run["state"]) == ("command", "done") and run["outcomes"]["made"] > 0
    assert command(*line, "--no-record").returncode == 0
    assert len(json.loads(command("runs", "--data", data, "--json").stdout)) == 1
    assert command(*line).returncode == 0
    pruned = command("runs", "--data", data, "--prune-keep", "1")
    assert "1 run deleted" in pruned.stderr and str(source) in pruned.stdout


def test_a_history_that_cannot_be_kept_stops_no_build(source: Path, tmp_path: Path, recipe: Path) -> None:
    (tmp_path / "data").write_text("a file where the folder should be")
    built = command(
        "build",
        "--source",
        source,
        "--out",
        tmp_path / "out",
        "--recipe",
        recipe,
        "--data",
        tmp_path / "data",
    )
    assert built.returncode == 0 and "not in the history" in built.stderr


def test_proof_prints_measured_candidates_finds_a_target_and_writes_one_file(
    source: Path, tmp_path: Path
) -> None:
    page = tmp_path / "sheet.html"
    request = ("-c", "webp-40", "-c", "jpeg-70", "--width", 300, "--html", page, "--json")
    done = command("proof", source / "photo.jpg", source / "notes.txt", *request)
    assert done.returncode == 1 and "notes.txt" in done.stderr
    photo, notes = json.loads(done.stdout)["pictures"]
    assert (photo["width"], photo["height"]) == (300, 200) and notes["candidates"] == [] and notes["remedy"]
    small, large = photo["candidates"]
    assert small["candidate"] == "webp-40" and 0 < small["bytes"] < large["bytes"] < photo["bytes"]
    assert 20 < small["score"] < large["score"] < 100 and 0.5 < small["ssim"] < 1
    text = page.read_text()
    assert (
        "WebP 40" in text
        and text.count("data:image/png") == 1
        and "http:" not in text.replace("http://www.w3.org", "")
    )
    result = command("proof", source / "photo.jpg", "--target", 70, "--width", 300)
    assert result.returncode == 0
    lines = [line.split() for line in result.stdout.splitlines()[1:]]
    assert [line[0] for line in lines] == ["AVIF", "WebP", "JPEG"]
    assert all(70 <= float(line[line.index("score") + 1]) <= 73 for line in lines)
    assert command("proof", source / "photo.jpg", "-c", "gif-3").returncode == 2


@pytest.mark.parametrize("line", [("--version", "--verbose"), ("--verbose", "--version")])
def test_the_version_names_the_codecs_on_request(line: tuple[str, ...]) -> None:
    short, long = command("--version").stdout, command(*line).stdout
    assert short.startswith("young-prism, version ") and long.startswith(short)
    assert len(short.splitlines()) == 1
    for name, number in (("libvips", "pyvips-binary"), ("oxipng", "pyoxipng"), ("PyAV", "av")):
        assert name in long and version(number) in long

"""A build from outside: what is made, what is left alone, and what happens to bad input."""

from __future__ import annotations

import json
import os
import shutil
import subprocess
import sys
from pathlib import Path

import jsonschema
import pytest

from tests.support import pictures
from tests.support.builds import build
from young_prism.core.errors import OutputError, SourceError
from young_prism.core.recipe.codecs import Avif, Jpeg, Webp
from young_prism.core.recipe.formats import Formats, FormatSet
from young_prism.core.recipe.ladder import Ladder
from young_prism.core.recipe.model import Recipe
from young_prism.core.types import Outcome
from young_prism.engine.build import executor as running_module
from young_prism.engine.build.options import BuildOptions
from young_prism.engine.build.outcome import BuildOutcome
from young_prism.engine.events import OriginalDone
from young_prism.engine.output.ledger import STATE_FOLDER, Ledger
from young_prism.engine.output.manifest_file import read_manifest
from young_prism.engine.source import inspection as looking_module
from young_prism.engine.source.walk import scan

RECIPE = Recipe(ladder=Ladder(widths=(200, 400)), formats=pictures.QUICK)
ROOT = Path(__file__).parents[2]


def run(source: Path, out: Path, **options: object) -> BuildOutcome:
    return build(source, out, RECIPE, options=BuildOptions(jobs=2), **options)


@pytest.fixture(scope="module")
def built(tmp_path_factory: pytest.TempPathFactory) -> tuple[Path, Path, BuildOutcome]:
    """One build that several tests look at; they must not change it."""
    base = tmp_path_factory.mktemp("built")
    source = pictures.small_source(base / "site")
    return source, base / "out", run(source, base / "out")


def copy_of(built: tuple[Path, Path, BuildOutcome], to: Path) -> tuple[Path, Path]:
    shutil.copytree(built[0], to / "site")
    shutil.copytree(built[1], to / "out")
    return to / "site", to / "out"


def test_every_original_becomes_its_renditions_and_is_counted(built) -> None:
    source, out, result = built
    manifest = read_manifest(out / "manifest.json")
    assert manifest is not None
    delivered = {r.path for original in manifest.originals for r in original.renditions}
    on_disk = {str(p.relative_to(out)) for p in out.rglob("*") if p.is_file() and STATE_FOLDER not in p.parts}
    assert on_disk == delivered | {"manifest.json"}
    assert {
        "photo-200w.avif",
        "deep/sideways, été-400w.jpg",
        "deep/er/chart.v2-200w.png",
        "mark.svg",
        "moving.gif",
    } <= delivered
    assert result.outcomes[Outcome.MADE] + result.outcomes[Outcome.KEPT] == len(delivered)
    assert result.bytes_renditions == sum((out / path).stat().st_size for path in delivered)
    assert result.bytes_originals == sum(
        p.stat().st_size for p in source.rglob("*") if p.is_file() and p.name != "notes.txt"
    )


def test_the_manifest_follows_its_published_schema_and_has_no_time_in_it(built, tmp_path: Path) -> None:
    data = (built[1] / "manifest.json").read_bytes()
    jsonschema.validate(json.loads(data), json.loads((ROOT / "docs/schema/manifest.schema.json").read_text()))
    again = run(built[0], tmp_path / "elsewhere")
    assert again.manifest.read_bytes() == data  # same input, same bytes, in other processes and another place


def test_a_second_build_makes_nothing_and_writes_nothing(built, tmp_path: Path, monkeypatch) -> None:
    source, out = copy_of(built, tmp_path)
    run(source, out)  # copying gave new times: the records settle
    before = pictures.hashes(out)
    monkeypatch.setattr(running_module, "render_file", None)
    result = run(source, out)
    assert result.outcomes[Outcome.MADE] == result.outcomes[Outcome.FAILED] == 0
    assert result.outcomes[Outcome.REUSED] == built[2].renditions
    after = pictures.hashes(out)
    assert {k: v for k, v in after.items() if STATE_FOLDER not in k} == {
        k: v for k, v in before.items() if STATE_FOLDER not in k
    }


def test_only_what_changed_is_made_again_and_what_is_gone_stays_known_as_ours(built, tmp_path: Path) -> None:
    source, out = copy_of(built, tmp_path)
    (source / "photo.jpg").write_bytes(pictures.jpeg(pictures.photo(700, 500, 9)))
    (source / "clear.png").unlink()
    (out / "deep/er/chart.v2-200w.png").unlink()
    made = []
    run(
        source,
        out,
        on_event=lambda e: made.append(e.original) if isinstance(e, OriginalDone) and e.work else None,
    )
    assert sorted(made) == ["deep/er/chart.v2.png", "photo.jpg"]
    manifest = read_manifest(out / "manifest.json")
    assert manifest is not None
    orphans = {orphan.path for orphan in manifest.orphaned}
    assert orphans and all(path.startswith("clear-") and (out / path).is_file() for path in orphans)


def test_what_is_worth_delivering_is_judged_anew_when_the_recipe_changes(tmp_path: Path) -> None:
    source, out = tmp_path / "site", tmp_path / "out"
    source.mkdir()
    (source / "a.jpg").write_bytes(pictures.jpeg(pictures.photo(400, 300)))

    def delivered(**formats: object) -> set[str]:
        recipe = Recipe(ladder=Ladder(widths=(200,)), formats=Formats(photo=FormatSet(**formats)))
        build(source, out, recipe, options=BuildOptions(jobs=1))
        [original] = read_manifest(out / "manifest.json").originals
        made = {entry.format for entry in original.renditions}
        assert not made & {entry.format for entry in original.skipped}
        assert all(f"a-200w.{fmt.replace('jpeg', 'jpg')}" in original.snippet for fmt in made)
        return made

    heavy, light = Avif(quality=95), Avif(quality=20)
    small, large = Webp(quality=20), Webp(quality=98)
    best, worst = Jpeg(quality=98), Jpeg(quality=10)
    assert delivered(avif=heavy, webp=small, jpeg=best) == {"webp", "jpeg"}
    assert delivered(avif=heavy, jpeg=best) == {
        "avif",
        "jpeg",
    }  # what had beaten AVIF is gone from the recipe
    assert delivered(avif=light, webp=large, jpeg=best) == {"avif", "webp", "jpeg"}
    # The WebP file still exists and is not used; AVIF is larger than so poor a JPEG.
    assert delivered(avif=light, webp=large, jpeg=worst) == {"jpeg"}
    assert (out / "a-200w.webp").is_file()


def test_a_file_that_is_not_ours_is_never_overwritten(source: Path, tmp_path: Path) -> None:
    out = tmp_path / "out"
    (out / "deep").mkdir(parents=True)
    (out / "photo-200w.avif").write_text("somebody's own")
    (out / "deep" / "er").symlink_to(tmp_path / "site")
    before = pictures.hashes(source)
    result = run(source, out)
    assert (out / "photo-200w.avif").read_text() == "somebody's own"
    assert pictures.hashes(source) == before  # a link in the output folder leads nobody into the source
    failed = {failure.error.partition(":")[0] for failure in result.failures}
    assert "photo-200w.avif" in failed
    assert any(path.startswith("deep/er/") for path in failed)
    assert (out / "photo-400w.avif").is_file()  # the others are done


def test_after_a_power_cut_what_lies_there_is_known_and_reused(built, tmp_path: Path) -> None:
    source, out = copy_of(built, tmp_path)
    originals = read_manifest(out / "manifest.json").originals
    lines = [o.model_dump(include={"renditions", "skipped"}) for o in originals]
    # As it is when the machine stops after the files and before the manifest: the journal alone knows them.
    (out / "manifest.json").unlink()
    (out / STATE_FOLDER / "stamps.jsonl").unlink()
    journal = "\n".join([*map(json.dumps, lines), '{"renditions": [{"path'])
    (out / STATE_FOLDER / "journal.jsonl").write_text(journal)
    (out / "deep" / ".young-prism-0123456789ab.part").write_bytes(b"half")
    result = run(source, out)
    assert result.outcomes[Outcome.REUSED] == built[2].renditions
    assert result.outcomes[Outcome.MADE] == result.outcomes[Outcome.FAILED] == 0
    assert (out / "manifest.json").read_bytes() == built[2].manifest.read_bytes()


def test_stopping_keeps_what_is_done_and_the_next_run_goes_on(source: Path, tmp_path: Path) -> None:
    out = tmp_path / "out"
    done: list[str] = []

    def listen(event: object) -> None:
        if isinstance(event, OriginalDone):
            done.append(event.original)

    first = run(source, out, on_event=listen, is_cancelled=lambda: bool(done))
    assert first.stopped and not (out / "manifest.json").exists()
    second = run(source, out)
    assert second.outcomes[Outcome.REUSED] == first.renditions > 0
    assert second.outcomes[Outcome.FAILED] == 0


def test_bad_input_costs_itself_only_and_is_said_clearly(tmp_path: Path) -> None:
    source = tmp_path / "site"
    source.mkdir()
    good = pictures.jpeg(pictures.photo(500, 300))
    bad = {
        "empty.jpg": (b"", "empty"),
        "text.jpg": (b"just words", "not a known image"),
        "truncated.jpg": (good[: len(good) // 2], "ends in the middle"),
        "checksum.png": (pictures.broken_checksum(pictures.png(pictures.graphic(300, 200))), "checksum"),
        "nothing.png": (pictures.png_of_size(0, 40), "without pixels"),
        "bomb.png": (pictures.png_of_size(60000, 60000), "limit of 200 megapixels"),
        "broken.svg": (b"<svg xmlns='http://www.w3.org/2000/svg'><g></svg>", "well-formed"),
        "tricks.svg": (b"<!DOCTYPE svg [<!ENTITY a 'a'>]><svg>&a;</svg>", "well-formed"),
        "short.heic": (b"\0\0\0\x18ftypheic\0\0\0\0mif1heic", "cannot be decoded"),
    }
    for name, (data, _) in bad.items():
        (source / name).write_bytes(data)
    (source / "good.jpg").write_bytes(good)
    (source / "really a png.jpg").write_bytes(pictures.png(pictures.graphic(300, 200)))
    outside = tmp_path / "outside"
    outside.mkdir()
    (outside / "secret.jpg").write_bytes(good)
    (source / "linked").symlink_to(outside)
    (source / "linked.jpg").symlink_to(outside / "secret.jpg")
    (source / "nowhere.jpg").symlink_to(outside / "gone.jpg")
    os.mkfifo(source / "pipe.jpg")
    before = pictures.hashes(source)
    result = run(source, tmp_path / "out")
    text = {failure.path: failure for failure in result.failures}
    assert set(text) == {*bad, "nowhere.jpg"}
    for name, (_, words) in bad.items():
        assert words in text[name].error, text[name].error
        assert text[name].remedy.endswith(".")
    assert {left.path for left in result.skipped if not left.rendition} == {
        "linked",
        "linked.jpg",
        "pipe.jpg",
    }
    assert result.originals == 2
    assert pictures.hashes(source) == before
    made = {p.name for p in (tmp_path / "out").iterdir() if p.is_file()}
    assert made >= {"good-400w.avif", "really a png-300w.png"}
    assert not any("secret" in name or "linked" in name for name in made)


def test_the_output_folder_is_no_source_and_the_source_no_output(source: Path) -> None:
    run(source, source / "out")
    assert not any(result.path.startswith("out") for result in scan(source, output=source / "out").originals)
    again = run(source, source / "out")
    assert again.outcomes[Outcome.MADE] == 0
    assert any("out/" in note for note in again.notes)
    with pytest.raises(OutputError, match="is the source folder"):
        run(source, source)
    with pytest.raises(SourceError, match="folder does not exist"):
        run(source / "gone", source / "out")


def test_two_builds_never_write_to_one_folder_at_once(source: Path, tmp_path: Path) -> None:
    def inside(event: object) -> None:
        if isinstance(event, OriginalDone):
            with pytest.raises(OutputError, match="Another run"):
                run(source, tmp_path / "out")

    run(source, tmp_path / "out", on_event=inside)


def test_a_worker_that_dies_costs_one_item(source: Path, tmp_path: Path, monkeypatch) -> None:
    monkeypatch.setattr(running_module, "render_file", die_on_photo)
    result = run(source, tmp_path / "out")
    assert [failure.path for failure in result.failures] == ["photo.jpg"]
    assert "worker process ended with status" in result.failures[0].error
    assert result.outcomes[Outcome.MADE] > 10


def test_a_look_that_kills_its_worker_costs_one_original(source: Path, tmp_path: Path, monkeypatch) -> None:
    for number in range(5):
        (source / f"more-{number}.jpg").write_bytes(pictures.jpeg(pictures.photo(80, 60, number)))
    (source / "killer.jpg").write_bytes(pictures.jpeg(pictures.photo(80, 60)))
    monkeypatch.setattr(looking_module, "inspect_files", dying_look_files)
    monkeypatch.setattr(looking_module, "inspect_file", dying_look_file)
    result = run(source, tmp_path / "out")
    assert [failure.path for failure in result.failures] == ["killer.jpg"]
    assert result.originals == 12


def dying_look_file(root: str, path: str, max_pixels: int, depth: object):
    from young_prism.engine.workers.tasks import inspect_file

    if path == "killer.jpg":
        os._exit(9)
    return inspect_file(root, path, max_pixels, depth)


def dying_look_files(root: str, paths: list[str], max_pixels: int, depth: object):
    return [dying_look_file(root, path, max_pixels, depth) for path in paths]


def die_on_photo(root: str, original, *rest):
    from young_prism.engine.workers.tasks import render_file

    if original.path == "photo.jpg":
        os._exit(9)
    return render_file(root, original, *rest)


def test_what_the_system_refuses_is_said_by_name(source: Path, tmp_path: Path) -> None:
    """Without root's right to read and write everything, where the tests run as root."""
    out = tmp_path / "out"
    out.mkdir()
    rights = "-dac_override,-dac_read_search"
    held = ["setpriv", f"--bounding-set={rights}", f"--inh-caps={rights}"] if os.getuid() == 0 else []
    build_it = [
        *held,
        sys.executable,
        "-m",
        "young_prism",
        "build",
        "--json",
        "--source",
        source,
        "--out",
        out,
        "--recipe",
        tmp_path / "recipe.toml",
    ]
    (tmp_path / "recipe.toml").write_text("[ladder]\nwidths = [400]\n" + pictures.QUICK_FORMATS)
    out.chmod(0o555)
    (source / "photo.jpg").chmod(0o000)
    (source / "deep").chmod(0o000)
    try:
        refused = subprocess.run(build_it, capture_output=True, text=True, check=False)
        out.chmod(0o755)
        done = subprocess.run(build_it, capture_output=True, text=True, check=False)
    finally:
        (source / "deep").chmod(0o755)
        (source / "photo.jpg").chmod(0o644)
    assert refused.returncode == 2, refused.stderr
    assert f"{out}: The file cannot be written" in refused.stderr
    assert done.returncode == 1, done.stderr
    failures = {failure["original"]: failure for failure in json.loads(done.stdout)["failures"]}
    assert set(failures) == {"photo.jpg", "deep"}
    assert all("permissions" in failure["remedy"] for failure in failures.values())
    assert (out / "IMG_1-400w.avif").is_file()


def test_the_ledger_of_nothing_is_empty(tmp_path: Path) -> None:
    (tmp_path / "manifest.json").write_text("{}")
    (tmp_path / STATE_FOLDER).mkdir()
    (tmp_path / STATE_FOLDER / "stamps.jsonl").write_text("[1, 2")
    ledger = Ledger.from_output(tmp_path)
    assert ledger.owned == {} == ledger.facts
    assert ledger.is_foreign("manifest.json")

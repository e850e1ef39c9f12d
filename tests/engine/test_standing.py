"""A build knows from sizes and times alone what is as it was, is never wrong about it, and the short way ends as the long one."""

from __future__ import annotations

import os
import shutil
from collections.abc import Callable
from pathlib import Path

import pytest

from tests.support import faults, pictures
from tests.support.builds import build
from young_prism.core.recipe.toml import read_recipe
from young_prism.core.selection.image_metadata import ImageMetadata
from young_prism.core.selection.scope import Scope
from young_prism.core.types import Outcome
from young_prism.engine import versions as versions_module
from young_prism.engine.build import pipeline as build_module
from young_prism.engine.build.options import BuildOptions
from young_prism.engine.build.outcome import BuildOutcome
from young_prism.engine.build.snapshot import inputs_fingerprint
from young_prism.engine.events import Event, OriginalDone, ReusedUnchanged

RECIPE = read_recipe(faults.RECIPE)


@pytest.fixture(scope="module")
def painted(tmp_path_factory: pytest.TempPathFactory) -> Path:
    base = tmp_path_factory.mktemp("standing")
    source = faults.photos(base / "site", 2)
    (source / "broken.jpg").write_bytes((source / "photo-0.jpg").read_bytes()[:5000])
    build(source, base / "out", RECIPE, options=BuildOptions(jobs=2))
    return base


@pytest.fixture
def built(painted: Path, tmp_path: Path) -> tuple[Path, Path]:
    shutil.copytree(painted, tmp_path / "copy")
    source, out = tmp_path / "copy" / "site", tmp_path / "copy" / "out"
    run(source, out)  # inodes are others in a copy
    return source, out


def run(source: Path, out: Path, **options: object) -> tuple[BuildOutcome, bool]:
    events: list[Event] = []
    result = build(source, out, RECIPE, options=BuildOptions(jobs=2), on_event=events.append, **options)
    return result, any(isinstance(event, ReusedUnchanged) and event.all for event in events)


def test_it_says_what_the_long_way_says_without_planning(
    built: tuple[Path, Path], monkeypatch: pytest.MonkeyPatch
) -> None:
    source, out = built
    (out / ".young-prism" / "standing").unlink()
    long_way, quick = run(source, out)
    assert not quick
    monkeypatch.setattr(build_module, "plan_source", None)
    short_way, quick = run(source, out)
    assert quick and long_way.renditions > 20
    first, second = long_way.as_dict(), short_way.as_dict()
    assert {**first, "seconds": 0} == {**second, "seconds": 0}
    assert [failure.path for failure in short_way.failures] == ["broken.jpg"]
    assert short_way.outcomes[Outcome.FAILED] == 1  # and the command's exit status says so


def test_a_run_that_goes_on_hears_of_each_rendition_also_where_nothing_is_left_to_do(
    built: tuple[Path, Path],
) -> None:
    source, out = built
    events: list[Event] = []
    build(source, out, RECIPE, options=BuildOptions(jobs=2, lists_all=True), on_event=events.append)
    done = [event for event in events if isinstance(event, OriginalDone)]
    assert len(done) == 2 and {item.outcome for event in done for item in event.items} == {Outcome.REUSED}
    assert not any(isinstance(event, ReusedUnchanged) for event in events)
    assert run(source, out)[1]  # and the next one is short again


def test_a_part_that_was_installed_meanwhile_is_seen(monkeypatch: pytest.MonkeyPatch) -> None:
    with_video = inputs_fingerprint(RECIPE, {})
    monkeypatch.setattr(versions_module, "has_video", lambda: False)
    assert inputs_fingerprint(RECIPE, {}) != with_video


def touched(source: Path, out: Path) -> None:
    os.utime(source / "photo-0.jpg", ns=(1, 1))


def added(source: Path, out: Path) -> None:
    (source / "new.jpg").write_bytes(pictures.jpeg(pictures.photo(90, 60, 5)))


def removed(source: Path, out: Path) -> None:
    (source / "photo-1.jpg").unlink()


def rendition_gone(source: Path, out: Path) -> None:
    next(out.rglob("*.webp")).unlink()


def rendition_changed(source: Path, out: Path) -> None:
    file = next(out.rglob("*.webp"))
    data, times = file.read_bytes(), file.stat().st_mtime_ns
    file.write_bytes(data[:-1] + b"?")
    os.utime(file, ns=(times, times + 1))


def manifest_gone(source: Path, out: Path) -> None:
    (out / "manifest.json").unlink()


def half_a_record(source: Path, out: Path) -> None:
    file = out / ".young-prism" / "standing"
    file.write_bytes(file.read_bytes()[: file.stat().st_size // 2])


def journal_left(source: Path, out: Path) -> None:
    (out / ".young-prism" / "journal.jsonl").write_text("")


@pytest.mark.parametrize(
    "change",
    [
        touched,
        added,
        removed,
        rendition_gone,
        rendition_changed,
        manifest_gone,
        half_a_record,
        journal_left,
    ],
)
def test_any_change_is_seen(built: tuple[Path, Path], change: Callable[[Path, Path], None]) -> None:
    change(*built)
    result, quick = run(*built)
    assert not quick
    # What is not known to be ours is somebody's own now, and tried again each time.
    if change not in (rendition_changed, manifest_gone):
        assert run(*built)[1]
        assert result.renditions > 0


def test_other_decisions_are_seen(built: tuple[Path, Path]) -> None:
    source, out = built
    text = {"photo-0.jpg": ImageMetadata(title="Summit")}
    assert not run(source, out, metadata=text)[1] and run(source, out, metadata=text)[1]
    assert not run(source, out)[1]
    assert not run(source, out, scope=Scope(exclude=("photo-1.jpg",)))[1]
    assert not run(source, out, only=lambda path: path == "photo-0.jpg")[1]
    result = build(
        source,
        out,
        read_recipe(faults.RECIPE.replace("jpeg = {}", "jpeg = { quality = 50 }")),
        options=BuildOptions(jobs=2),
    )
    assert result.outcomes[Outcome.MADE] > 0

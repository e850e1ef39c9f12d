"""A cache that several output folders share: it saves work, and no state of it can spoil a result."""

from __future__ import annotations

import os
import shutil
import time
from pathlib import Path

import pytest

from tests.support import faults, pictures
from tests.support.builds import build
from young_prism.core.recipe.toml import read_recipe
from young_prism.core.types import Outcome
from young_prism.engine.build.options import BuildOptions
from young_prism.engine.build.outcome import BuildOutcome
from young_prism.engine.output.cache import Cache
from young_prism.engine.output.lru import trim_folder

RECIPE = read_recipe(faults.RECIPE)


@pytest.fixture(scope="module")
def first(tmp_path_factory: pytest.TempPathFactory) -> tuple[Path, Path, dict[str, bytes]]:
    base = tmp_path_factory.mktemp("cached")
    source = faults.photos(base / "site", 3)
    build(source, base / "out", RECIPE, options=BuildOptions(jobs=2, cache=Cache(base / "cache")))
    return source, base / "cache", faults.results(base / "out")


@pytest.fixture
def cached(first: tuple[Path, Path, dict[str, bytes]], tmp_path: Path) -> tuple[Path, Path, dict[str, bytes]]:
    source, cache, expected = first
    return source, Path(shutil.copytree(cache, tmp_path / "cache")), expected


def run(source: Path, out: Path, cache: Cache) -> BuildOutcome:
    result = build(source, out, RECIPE, options=BuildOptions(jobs=2, cache=cache))
    assert result.outcomes[Outcome.FAILED] == 0
    return result


def test_another_output_folder_takes_all_from_the_cache(
    cached: tuple[Path, Path, dict[str, bytes]], tmp_path: Path
) -> None:
    source, cache, expected = cached
    result = run(source, tmp_path / "branch", Cache(cache))
    assert result.outcomes[Outcome.MADE] == 0 and result.outcomes[Outcome.REUSED] == len(expected) - 1
    assert faults.results(tmp_path / "branch") == expected


def test_what_is_damaged_or_gone_is_made_anew(
    cached: tuple[Path, Path, dict[str, bytes]], tmp_path: Path
) -> None:
    source, cache, expected = cached
    files = sorted(cache.rglob("*-*"))
    files[0].write_bytes(files[0].read_bytes()[:-1] + b"?")  # a byte of the picture
    files[1].write_bytes(b"no line of JSON")
    files[2].unlink()
    result = run(source, tmp_path / "out", Cache(cache))
    assert (
        1 <= result.outcomes[Outcome.MADE] <= 3
    )  # some of the three may have been records of what is not delivered
    assert faults.results(tmp_path / "out") == expected
    shutil.rmtree(cache)
    assert run(source, tmp_path / "other", Cache(cache)).outcomes[Outcome.REUSED] == 0
    assert faults.results(tmp_path / "other") == expected


def test_it_is_trimmed_to_its_limit_and_what_was_used_last_stays(
    cached: tuple[Path, Path, dict[str, bytes]], tmp_path: Path
) -> None:
    source, cache, _ = cached
    files = list(cache.rglob("*-*"))
    full = sum(file.stat().st_size for file in files)
    recent = {file.name for file in files if "-80x" in file.name}
    assert 0 < len(recent) < len(files)
    for file in files:
        os.utime(file, (2_000_000 if file.name in recent else 1_000_000,) * 2)
    (source.parent / "one").mkdir(exist_ok=True)
    (source.parent / "one" / "new.jpg").write_bytes(pictures.jpeg(pictures.photo(330, 250, 77)))
    run(source.parent / "one", tmp_path / "out", Cache(cache, full))
    left = {file.name for file in cache.rglob("*-*")}
    assert sum(file.stat().st_size for file in cache.rglob("*-*")) <= full
    assert recent < left and len({file.name for file in files} - left) > 0
    again = run(source.parent / "one", tmp_path / "again", Cache(cache, full))
    assert again.outcomes[Outcome.MADE] == 0  # what came last is there


def test_a_cache_that_cannot_be_written_is_left_alone(
    cached: tuple[Path, Path, dict[str, bytes]], tmp_path: Path
) -> None:
    source, _, expected = cached
    (tmp_path / "file").write_text("no folder")
    run(source, tmp_path / "out", Cache(tmp_path / "file"))
    assert faults.results(tmp_path / "out") == expected


def test_stale_temporary_files_are_removed_and_those_being_written_stay(tmp_path: Path) -> None:
    folder = tmp_path / "cache"
    (folder / "ab").mkdir(parents=True)
    stale, fresh, entry = (
        folder / "ab" / name for name in (".young-prism-1.part", ".young-prism-2.part", "k")
    )
    for file in (stale, fresh, entry):
        file.write_bytes(b"x")
    two_hours_ago = time.time() - 7200
    for file in (stale, entry):
        os.utime(file, (two_hours_ago, two_hours_ago))
    trim_folder(folder, 1000)
    assert not stale.exists() and fresh.exists() and entry.exists()
    fresh.unlink()

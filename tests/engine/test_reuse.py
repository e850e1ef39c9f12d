"""Nothing is made twice: what a change does not concern stays, and ends with the bytes of an undisturbed build."""

from __future__ import annotations

import os
import shutil
from collections.abc import Callable
from pathlib import Path

import pytest

from tests.support import pictures
from tests.support.builds import build
from tests.support.files import files
from young_prism.core.recipe.codecs import Avif, Jpeg, Png, Webp
from young_prism.core.recipe.finishing import Finishing
from young_prism.core.recipe.formats import Formats, FormatSet
from young_prism.core.recipe.ladder import Ladder
from young_prism.core.recipe.model import Facet, Names, Recipe
from young_prism.core.types import Outcome
from young_prism.engine.build.options import BuildOptions
from young_prism.engine.build.outcome import BuildOutcome


def recipe(webp: int = 70, widths: tuple[int, ...] = (60, 120), **parts: object) -> Recipe:
    formats = FormatSet(avif=Avif(effort=0), webp=Webp(effort=0, quality=webp), jpeg=Jpeg())
    clear = formats.model_copy(update={"jpeg": None, "png": Png(level=0)})
    kinds = Formats(photo=formats, graphic=clear, graphic_transparent=Formats().graphic_transparent)
    return Recipe(ladder=Ladder(widths=widths), formats=kinds, **parts)


def run(source: Path, out: Path, options: Recipe) -> BuildOutcome:
    result = build(source, out, options, options=BuildOptions(jobs=2))
    assert result.outcomes[Outcome.FAILED] == 0
    return result


@pytest.fixture
def built(tmp_path: Path) -> tuple[Path, Path]:
    source, out = tmp_path / "site", tmp_path / "out"
    (source / "deep").mkdir(parents=True)
    for name, seed in (("a.jpg", 1), ("b.jpg", 2), ("deep/c.jpg", 3)):
        (source / name).write_bytes(pictures.jpeg(pictures.photo(160, 100, seed)))
    (source / "chart.png").write_bytes(pictures.png(pictures.graphic(160, 100)))
    run(source, out, recipe())
    return source, out


def fresh(source: Path, options: Recipe, base: Path) -> dict[str, bytes]:
    run(source, base, options)
    return files(base)


def planned_now(source: Path, out: Path, options: Recipe, base: Path) -> None:
    """The output folder holds what an undisturbed build makes, byte for byte, beside what is orphaned."""
    expected = fresh(source, options, base)
    existing = files(out)
    assert {path: existing.get(path) for path in expected} == expected


def test_a_changed_quality_remakes_its_format_and_no_other(built: tuple[Path, Path], tmp_path: Path) -> None:
    source, out = built
    before = files(out)
    stamps = {path: (out / path).stat().st_mtime_ns for path in before}
    changed = recipe(webp=40)
    result = run(source, out, changed)
    webps = [path for path in before if path.endswith(".webp")]
    assert 0 < result.outcomes[Outcome.MADE] <= len(webps) + 2  # two that were not worth it may be now
    rest = [path for path in before if not path.endswith(".webp")]
    assert all((out / path).stat().st_mtime_ns == stamps[path] for path in rest if path in files(out))
    planned_now(source, out, changed, tmp_path / "fresh")


def test_a_changed_name_rule_encodes_nothing(built: tuple[Path, Path], tmp_path: Path) -> None:
    source, out = built
    changed = recipe(names=Names(rule="web-{stem}-{width:4}.{ext}", layout="flat"))
    result = run(source, out, changed)
    assert result.outcomes[Outcome.MADE] == result.outcomes[Outcome.KEPT] == 0
    assert result.outcomes[Outcome.REUSED] > 15
    planned_now(source, out, changed, tmp_path / "fresh")
    back = run(source, out, recipe())  # and what was orphaned by it is not made anew either
    assert back.outcomes[Outcome.MADE] == 0


def swap(source: Path) -> None:
    (source / "a.jpg").rename(source / "x.jpg")
    (source / "b.jpg").rename(source / "a.jpg")
    (source / "x.jpg").rename(source / "b.jpg")


def move(source: Path) -> None:
    (source / "deep/c.jpg").rename(source / "moved.jpg")


def copy(source: Path) -> None:
    shutil.copy(source / "a.jpg", source / "deep/copy.jpg")
    shutil.copy(source / "a.jpg", source / "another.jpg")


@pytest.mark.parametrize(("change", "encodes"), [(move, False), (copy, False), (swap, True)])
def test_an_original_that_is_moved_or_copied_costs_nothing(
    built: tuple[Path, Path], tmp_path: Path, change: Callable[[Path], None], encodes: bool
) -> None:
    source, out = built
    change(source)
    result = run(source, out, recipe())
    made = result.outcomes[Outcome.MADE] + result.outcomes[Outcome.KEPT]
    assert (made > 0) is encodes, "only where two change places, one of them overwrites the other"
    planned_now(source, out, recipe(), tmp_path / "fresh")


def test_copies_that_come_together_are_made_once(tmp_path: Path) -> None:
    source = tmp_path / "site"
    source.mkdir()
    data = pictures.jpeg(pictures.photo(160, 100))
    for name in ("a.jpg", "b.jpg", "c.jpg"):
        (source / name).write_bytes(data)
    result = run(source, tmp_path / "out", recipe())
    made = result.outcomes[Outcome.MADE]
    assert result.outcomes[Outcome.REUSED] == 2 * made and result.renditions == 3 * made


@pytest.mark.parametrize(
    "changed",
    [
        recipe(widths=(60, 90, 120)),
        recipe(widths=(60,)),
        recipe(widths=(60, 120, 140)),
        recipe(facets=(Facet(name="square", aspect="1:1"),)),
        recipe(finishing=Finishing(placeholder="blur")),
        recipe(finishing=Finishing(sharpen="mild")),
    ],
)
def test_after_any_change_the_bytes_are_those_of_an_undisturbed_build(
    built: tuple[Path, Path], tmp_path: Path, changed: Recipe
) -> None:
    source, out = built
    run(source, out, changed)
    planned_now(source, out, changed, tmp_path / "fresh")


def test_what_was_changed_by_hand_is_no_source_of_a_new_name(
    built: tuple[Path, Path], tmp_path: Path
) -> None:
    source, out = built
    spoilt = out / "a-120w.jpg"
    info = spoilt.stat()
    spoilt.write_bytes(b"x" * info.st_size)
    os.utime(spoilt, ns=(info.st_atime_ns, info.st_mtime_ns))  # nobody sees it by its stamp
    changed = recipe(names=Names(rule="{stem}.{width}.{ext}"))
    run(source, out, changed)
    planned_now(source, out, changed, tmp_path / "fresh")

"""What a recipe and a person decide, as the disk shows it: names, layouts, titles, focal points, watermarks."""

from __future__ import annotations

import json
import shutil
from pathlib import Path

import numpy as np
import pytest
from PIL import Image

from tests.support import pictures
from tests.support.builds import build
from tests.support.files import files
from young_prism.core.errors import OutputError, RecipeError
from young_prism.core.naming.collisions import casefold_key
from young_prism.core.recipe.codecs import Jpeg, Png, Webp
from young_prism.core.recipe.finishing import Finishing, Watermark
from young_prism.core.recipe.formats import Formats, FormatSet
from young_prism.core.recipe.ladder import Ladder
from young_prism.core.recipe.model import Facet, Names, Recipe
from young_prism.core.selection.image_metadata import ImageMetadata
from young_prism.core.types import Outcome
from young_prism.engine.build.options import BuildOptions
from young_prism.engine.build.outcome import BuildOutcome
from young_prism.engine.build.planning import plan_source
from young_prism.engine.build.request import BuildRequest
from young_prism.engine.source.watermarks import find_watermarks, load_watermarks
from young_prism.engine.workers.pool import lazy_pool

FORMATS = FormatSet(webp=Webp(effort=0), jpeg=Jpeg())
QUICK = Formats(photo=FORMATS, graphic=FORMATS)


def quick(**parts: object) -> Recipe:
    return Recipe(ladder=Ladder(widths=(60, 120)), formats=QUICK, **parts)


def site(folder: Path) -> Path:
    photo, chart = pictures.photo(160, 100), pictures.graphic(160, 100)
    for name, data in {
        "photo.jpg": pictures.jpeg(photo),
        "Photo.png": pictures.png(chart),
        "photo-60w.jpg": pictures.jpeg(photo),
        "fo ßen/é.jpg": pictures.jpeg(photo),
        "fo ßen/e\u0301.png": pictures.png(chart),
        "mark.svg": b'<svg xmlns="http://www.w3.org/2000/svg" width="9" height="9"><path d="M0 0h9v9z"/></svg>',
    }.items():
        file = folder / name
        file.parent.mkdir(parents=True, exist_ok=True)
        file.write_bytes(data)
    return folder


def run(source: Path, out: Path, recipe: Recipe, **options: object) -> BuildOutcome:
    return build(source, out, recipe, options=BuildOptions(jobs=2), **options)


@pytest.mark.parametrize(
    "names",
    [
        Names(),
        Names(layout="flat", case="lower", hyphens=True, ascii_only=True),
        Names(rule="{folder}-{counter:3}-{stem}-{height:4}.{format}.{ext}", layout="folder-per-original"),
        Names(rule="site-{stem}-{facet}-{density}x-{hash:6}.{ext}", case="lower"),
    ],
)
def test_the_plan_names_what_the_disk_shows_on_any_system(tmp_path: Path, names: Names) -> None:
    """Compared as a case-insensitive, Unicode-normalising file system compares names: nothing covers anything."""
    source, out = site(tmp_path / "site"), tmp_path / "out"
    recipe = quick(names=names, facets=(Facet(name="square", aspect="1:1"),))
    with lazy_pool(1) as pool:
        plan = plan_source(BuildRequest(source=source, out=out, recipe=recipe), pool).plan
    planned = [r.path for o in plan.originals for r in o.renditions]
    result = run(source, out, recipe)
    assert result.outcomes[Outcome.FAILED] == 0
    assert result.renditions + result.outcomes[Outcome.SKIPPED] == len(planned)
    assert len({casefold_key(path) for path in planned}) == len(planned)
    assert set(files(out)) <= set(planned) and len(files(out)) == result.renditions


def test_beside_their_originals_nothing_is_covered_and_nothing_of_ours_is_taken_for_an_original(
    tmp_path: Path,
) -> None:
    source = site(tmp_path / "site")
    before = files(source)
    recipe = quick(names=Names(layout="beside"))
    first = run(source, source, recipe)
    after = files(source)
    assert first.outcomes[Outcome.FAILED] == 0 and first.renditions == len(after) - len(before)
    assert {path: after[path] for path in before} == before
    assert "photo-jpg-60w.jpg" in after, "the plain name is an original's own"
    assert "mark-clean.svg" in after, "a drawing's clean copy gets a name of its own"

    again = run(source, source, recipe)
    assert again.originals == first.originals and again.outcomes[Outcome.MADE] == 0
    assert files(source) == after
    assert any("that Young Prism made left out" in note for note in again.notes)

    with pytest.raises(OutputError, match="next to their originals"):
        run(source, tmp_path / "elsewhere", recipe)
    with pytest.raises(OutputError, match="layout"):
        run(source, source, quick())


def test_a_title_names_and_a_focal_point_remakes_only_what_is_cut(tmp_path: Path) -> None:
    source, out = tmp_path / "site", tmp_path / "out"
    source.mkdir()
    (source / "DSC_0001.jpg").write_bytes(pictures.jpeg(pictures.photo(160, 100)))
    recipe = quick(facets=(Facet(name="square", aspect="1:1"),))
    text = {"DSC_0001.jpg": ImageMetadata((0.1, 0.5), "Summit café at dawn")}
    run(source, out, recipe, metadata=text)
    first = files(out)
    assert "summit-café-at-dawn-120w.webp" in first and "summit-café-at-dawn-square-100w.jpg" in first

    moved = run(
        source, out, recipe, metadata={"DSC_0001.jpg": text["DSC_0001.jpg"]._replace(focal=(0.9, 0.5))}
    )
    second = files(out)
    assert moved.outcomes[Outcome.FAILED] == 0 and set(first) == set(second)
    assert {path for path in first if first[path] != second[path]} == {p for p in first if "square" in p}


def test_a_watermark_is_found_read_and_never_silently_left_off(tmp_path: Path) -> None:
    source, out = tmp_path / "site", tmp_path / "out"
    source.mkdir()
    (source / "a.jpg").write_bytes(pictures.jpeg(pictures.photo(160, 100)))
    recipe = quick(finishing=Finishing(watermark=Watermark(file="marks/m.png", opacity=1)))

    without = run(source, out, recipe)
    assert without.outcomes[Outcome.FAILED] == 1 and not files(out)
    assert "marks/m.png" in without.failures[0].error

    with pytest.raises(RecipeError, match="watermark does not exist"):
        load_watermarks(recipe, source)
    adjacent = tmp_path / "rules"
    (adjacent / "marks").mkdir(parents=True)
    shutil.copy(source / "a.jpg", adjacent / "marks/m.png")
    with pytest.raises(RecipeError, match="PNG or an SVG"):
        load_watermarks(recipe, adjacent, source)
    outside = quick(finishing=Finishing(watermark=Watermark(file="../site/a.jpg")))
    assert find_watermarks(outside, [adjacent]).errors

    plain = run(source, tmp_path / "plain", quick())
    (adjacent / "marks/m.png").write_bytes(pictures.png(pictures.graphic(40, 20)))
    worn = run(source, out, recipe, watermarks=load_watermarks(recipe, adjacent, source))
    assert worn.outcomes[Outcome.FAILED] == 0 and worn.renditions == plain.renditions
    assert all(files(out)[path] != data for path, data in files(tmp_path / "plain").items())
    (adjacent / "marks/m.png").write_bytes(pictures.png(pictures.graphic(44, 20)))
    second = run(source, out, recipe, watermarks=load_watermarks(recipe, adjacent, source))
    assert second.outcomes[Outcome.MADE] == worn.renditions, "another mark is another picture"
    manifest = json.loads((out / "manifest.json").read_text())
    assert len(manifest["originals"][0]["renditions"]) == worn.renditions


def test_a_line_of_text_is_a_watermark_and_the_file_of_one_is_no_original(tmp_path: Path) -> None:
    source, out = tmp_path / "site", tmp_path / "out"
    source.mkdir()
    Image.new("RGB", (400, 300), (90, 90, 90)).save(source / "grey.png")
    png = FormatSet(png=Png())
    plain = Recipe(ladder=Ladder(widths=(400,)), formats=Formats(photo=png, graphic=png))
    run(source, out, plain)
    [before] = out.glob("grey-400w.png")
    unmarked = np.asarray(Image.open(before).convert("L"), int)
    mark = Watermark(text="© Ottermoor café", position="top-left", opacity=1, size=0.5)
    recipe = plain.model_copy(update={"finishing": Finishing(watermark=mark)})
    run(source, out, recipe, watermarks=load_watermarks(recipe, source))
    marked = np.asarray(Image.open(before).convert("L"), int)
    changed = np.argwhere(np.abs(marked - unmarked) > 20)
    top, left = changed.min(axis=0)
    bottom, right = changed.max(axis=0)
    assert left < 20 and top < 20 and 180 <= right - left <= 210 and bottom - top < 60
    assert marked.max() > 240 and marked.min() < 20  # letters and their outline
    unknown = plain.model_copy(update={"finishing": Finishing(watermark=Watermark(text="日本"))})
    with pytest.raises(RecipeError, match="no “日”"):
        load_watermarks(unknown, source)
    with pytest.raises(ValueError, match="either a file or a text"):
        Watermark(file="a.png", text="b")

    Image.new("RGBA", (40, 20), (255, 0, 0, 255)).save(source / "mark.png")
    by_file = plain.model_copy(update={"finishing": Finishing(watermark=Watermark(file="mark.png"))})
    result = run(source, out, by_file, watermarks=load_watermarks(by_file, source))
    assert [(left.path, left.error) for left in result.skipped if not left.rendition] == [
        ("mark.png", "This file is the watermark of the recipe.")
    ]

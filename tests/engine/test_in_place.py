"""In place: renditions take the names of originals, which are kept first and come back hash for hash."""

from __future__ import annotations

import os
from pathlib import Path

import pytest
from PIL import Image

from tests.support import pictures
from tests.support.builds import build
from young_prism.core.manifest.model import SITE_MANIFEST_NAME
from young_prism.core.recipe.codecs import Avif, Jpeg
from young_prism.core.recipe.formats import Formats, FormatSet, Squeeze
from young_prism.core.recipe.ladder import Ladder
from young_prism.core.recipe.model import Names, Recipe
from young_prism.core.types import Outcome
from young_prism.engine.build.options import BuildOptions
from young_prism.engine.build.outcome import BuildOutcome
from young_prism.engine.output.atomic import write_atomically
from young_prism.engine.output.originals_backup import OriginalsBackup

RECIPE = Recipe(
    names=Names(layout="in-place"),
    ladder=Ladder(widths=(60, 120)),
    formats=Formats(photo=FormatSet(avif=Avif(effort=0), jpeg=Jpeg())),
)


@pytest.fixture
def site(tmp_path: Path) -> Path:
    folder = tmp_path / "site"
    (folder / "img").mkdir(parents=True)
    for name, seed in (("a.jpg", 1), ("img/b.JPG", 2)):
        (folder / name).write_bytes(pictures.jpeg(pictures.photo(300, 200, seed)))
    (folder / "still.png").write_bytes(pictures.png(pictures.photo(200, 120, 3)))
    os.utime(folder / "a.jpg", ns=(10**18, 10**18))
    (folder / "img/b.JPG").chmod(0o640)
    return folder


def run(site: Path, recipe: Recipe = RECIPE) -> BuildOutcome:
    return build(site, site, recipe, options=BuildOptions(jobs=2))


def originals(site: Path) -> dict[str, bytes]:
    return {name: (site / name).read_bytes() for name in ("a.jpg", "img/b.JPG", "still.png")}


def test_renditions_take_the_names_and_restore_brings_the_originals_back(site: Path) -> None:
    before = originals(site)
    result = run(site)
    assert result.outcomes[Outcome.FAILED] == 0
    with Image.open(site / "a.jpg") as used, Image.open(site / "img/b.JPG") as second:
        assert used.size == second.size == (120, 80)
    assert (site / "still.png").read_bytes() == before["still.png"]  # its fallback is a JPEG: the file stays
    assert (site / "still-120w.jpg").is_file()
    keep = OriginalsBackup.from_site(site)
    assert keep.folder.parent == site.parent  # where no visitor is served it
    dated = [folder for folder in keep.folder.iterdir() if folder.name.startswith("20")]
    assert len(dated) == 1 and (dated[0] / "a.jpg").read_bytes() == before["a.jpg"]
    done = keep.restore(site)
    assert (
        sorted(done.restored) == ["a.jpg", "img/b.JPG"]
        and done.already_there == ["still.png"]
        and not done.refused
    )
    assert originals(site) == before
    assert (site / "a.jpg").stat().st_mtime_ns == 10**18
    assert (site / "img/b.JPG").stat().st_mode & 0o777 == 0o640


def test_a_second_build_is_made_from_the_originals_and_makes_nothing(site: Path) -> None:
    run(site)
    after = {path: path.read_bytes() for path in site.rglob("*.*") if ".young-prism" not in str(path)}
    again = run(site)
    assert again.outcomes[Outcome.MADE] == again.outcomes[Outcome.KEPT] == 0
    assert {path: path.read_bytes() for path in after} == after
    wider = RECIPE.model_copy(update={"ladder": Ladder(widths=(60, 240))})
    run(site, wider)
    with Image.open(site / "a.jpg") as used:
        assert used.size == (240, 160)  # which the 120 px rendition could not have given


def test_a_new_original_under_the_name_of_a_rendition_is_kept_as_well(site: Path) -> None:
    first = (site / "a.jpg").read_bytes()
    run(site)
    second = pictures.jpeg(pictures.photo(300, 200, 9))
    (site / "a.jpg").write_bytes(second)
    assert run(site).outcomes[Outcome.FAILED] == 0
    keep = OriginalsBackup.from_site(site)
    saved = sorted(file.read_bytes() for file in keep.folder.glob("20*/a.jpg"))
    assert saved == sorted([first, second])
    keep.restore(site)
    assert (site / "a.jpg").read_bytes() == second


def test_restore_removes_what_a_killed_one_left(site: Path) -> None:
    run(site)
    part = site / ".young-prism-0123456789ab.part"
    part.write_bytes(b"half an original")
    OriginalsBackup.from_site(site).restore(site)
    assert not part.exists()


def test_what_was_changed_since_is_not_overwritten_by_restore(site: Path) -> None:
    run(site)
    (site / "a.jpg").write_bytes(b"somebody's own")
    done = OriginalsBackup.from_site(site).restore(site)
    assert [path for path, _ in done.refused] == ["a.jpg"] and done.restored == ["img/b.JPG"]
    assert (site / "a.jpg").read_bytes() == b"somebody's own"


def test_nothing_is_overwritten_when_the_original_cannot_be_kept(
    site: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    before = originals(site)

    def no_room(target: Path, data: bytes) -> None:
        if "-originals" in str(target) and target.name == "b.JPG":
            raise OSError(28, "No space left on device")
        write_atomically(target, data)

    monkeypatch.setattr("young_prism.engine.output.originals_backup.write_atomically", no_room)
    with pytest.raises(Exception, match="disk is full"):
        run(site)
    assert originals(site) == before


def test_squeezing_in_place_keeps_every_name_and_pixel(site: Path) -> None:
    squeeze = RECIPE.model_copy(update={"formats": Formats(squeeze=Squeeze(level=1))})
    before = originals(site)
    result = run(site, squeeze)
    assert result.outcomes[Outcome.FAILED] == 0
    for name, data in before.items():
        with Image.open(site / name) as now:
            saved = next(OriginalsBackup.from_site(site).folder.glob(f"20*/{name}"))
            with Image.open(saved) as then:
                assert now.size == then.size and now.convert("RGB").tobytes() == (
                    then.convert("RGB").tobytes()
                )
        assert (site / name).stat().st_size <= len(data)
    names = {path.name for path in site.rglob("*") if path.is_file() and ".young-prism" not in str(path)}
    assert names == {"a.jpg", "b.JPG", "still.png", SITE_MANIFEST_NAME}

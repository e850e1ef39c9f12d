"""The short way against the long one: whatever happens to a site, both write the same bytes and count the same.

Two output folders of one source follow the same changes. From one of them the record of what stands is taken away before each
build, so that everything is read, looked at, planned and compared there.
"""

from __future__ import annotations

import json
import os
import random
import shutil
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import Any, NamedTuple

import pytest

from tests.support import faults, pictures
from tests.support.builds import build
from young_prism.core.recipe.model import Recipe
from young_prism.core.recipe.toml import read_recipe
from young_prism.core.selection.image_metadata import ImageMetadata
from young_prism.core.selection.scope import Scope
from young_prism.engine.build.options import BuildOptions
from young_prism.engine.build.outcome import FullPlanReason
from young_prism.engine.events import Event, OriginalDone, PlanReady, ReusedUnchanged
from young_prism.engine.output.ledger import Ledger
from young_prism.engine.workers.pool import Pool
from young_prism.services.runs.figures import RunFigures

RECIPE = """
[ladder]
widths = [30, 60]
[formats.photo]
webp = { effort = 0 }
jpeg = {}
[formats.graphic]
webp = { effort = 0 }
png = { level = 0 }
[[facets]]
name = "square"
aspect = "1:1"
"""
NAMES = {
    "folders": "",
    "flat": '[names]\nlayout = "flat"\ncase = "lower"\n',
    "by content": '[names]\nrule = "{stem}-{facet}-{hash:6}-{width}.{ext}"\n',
}


@pytest.fixture(scope="module")
def pool() -> Iterator[Pool]:
    pool = Pool(2)
    yield pool
    pool.close(now=True)


class Built(NamedTuple):
    """What a build left behind and said."""

    count: dict[str, Any]
    manifest: bytes
    files: dict[str, bytes]
    report: dict[str, Any]
    short: bool
    done: list[str]


class Site:
    """A source with two output folders, and what was said of its originals."""

    def __init__(self, root: Path, recipe: Recipe, pool: Pool) -> None:
        self.root, self.recipe, self.pool = root, recipe, pool
        self.source, self.outs = root / "site", (root / "quick", root / "thorough")
        self.details: dict[str, ImageMetadata] = {}
        self.out_of_scope: frozenset[str] = frozenset()
        self.random = random.Random(5)  # noqa: S311
        for path in ("a/one.jpg", "a/two.jpg", "b/two.jpg", "b/Ticket.jpg", "three.jpg", "four.jpg"):
            self.put(path, pictures.jpeg(pictures.photo(90, 60, seed=len(path))))
        self.put("b/graphic.png", pictures.png(pictures.graphic(90, 60)))
        self.put("broken.jpg", b"\xff\xd8\xff and no more")
        self.put("drawing.svg", b'<svg xmlns="http://www.w3.org/2000/svg" width="9" height="9"></svg>')

    def put(self, path: str, data: bytes) -> None:
        """Write an original."""
        (self.source / path).parent.mkdir(parents=True, exist_ok=True)
        (self.source / path).write_bytes(data)

    def fresh(self) -> bytes:
        """Paint another photograph."""
        seed = self.random.randrange(1000)
        return pictures.jpeg(pictures.photo(70 + seed % 40, 60, seed=seed))

    def paths(self) -> list[str]:
        """Return the paths of everything that may be an original."""
        return sorted(
            file.relative_to(self.source).as_posix() for file in self.source.rglob("*") if file.is_file()
        )

    def any_original(self) -> Path:
        """Return one of the photographs."""
        return self.random.choice(sorted(p for p in self.source.rglob("*.jpg") if p.is_file()))

    def build(self, out: Path, *, manifest: str = "manifest.json", **options: Any) -> Built:
        """Build into one of the folders."""
        figures = RunFigures(self.recipe, verify=True)
        events: list[Event] = []

        def listen(event: Event) -> None:
            events.append(event)
            match event:
                case PlanReady():
                    figures.planned(event)
                case ReusedUnchanged():
                    figures.unchanged(event)
                case OriginalDone():
                    figures.done(event)

        result = build(
            self.source,
            out,
            self.recipe,
            options=BuildOptions(pool=self.pool),
            on_event=listen,
            metadata=self.details,
            scope=Scope(out=self.out_of_scope),
            **options,
        )
        self.reason = result.full_plan_reason
        report = {**figures.summary.as_dict(), "slowest": [], "all": figures.outcomes}
        unchanged = [event for event in events if isinstance(event, ReusedUnchanged)]
        assert figures.outcomes == result.as_dict()["outcomes"]
        assert (figures.before, figures.after) == (result.bytes_originals, result.bytes_renditions)
        return Built(
            {**result.as_dict(), "seconds": 0, "manifest": ""},
            (out / manifest).read_bytes(),
            faults.results(out),
            report,
            bool(unchanged),
            [event.original for event in events if isinstance(event, OriginalDone)],
        )

    def both(self, **options: Any) -> Built:
        """Build both ways, and compare."""
        quick, thorough = self.outs
        (thorough / ".young-prism" / "standing").unlink(missing_ok=True)
        second = self.build(thorough, **options)
        first = self.build(quick, **options)
        assert not second.short
        assert json.loads(first.manifest) == json.loads(second.manifest)
        assert first.manifest == second.manifest
        for name, value in second.count.items():
            assert first.count[name] == value, name
        assert first.report == second.report
        assert first.files == second.files
        return first


def changed(site: Site) -> None:
    site.any_original().write_bytes(site.fresh())


def touched(site: Site) -> None:
    os.utime(site.any_original(), ns=(1, site.random.randrange(10**9)))


def added(site: Site) -> None:
    site.put(f"c/new-{site.random.randrange(99)}.jpg", site.fresh())


def added_with_a_name_that_is_there(site: Site) -> None:
    item = site.any_original()
    item.with_suffix(".png").write_bytes(pictures.png(pictures.photo(64, 48, seed=3)))


def removed(site: Site) -> None:
    site.any_original().unlink()


def one_of_two_names_removed(site: Site) -> None:
    pairs = [file for file in site.source.rglob("*.png") if file.with_suffix(".jpg").exists()]
    if pairs:
        site.random.choice(sorted(pairs)).with_suffix(".jpg").unlink()


def moved(site: Site) -> None:
    item = site.any_original()
    site.put(f"moved/{item.stem}-{site.random.randrange(99)}.jpg", item.read_bytes())
    item.unlink()


def copied(site: Site) -> None:
    site.put(f"copy-{site.random.randrange(99)}.jpg", site.any_original().read_bytes())


def another_kind(site: Site) -> None:
    site.any_original().write_bytes(pictures.png(pictures.graphic(90, 60)))


def broken(site: Site) -> None:
    site.any_original().write_bytes(b"\xff\xd8\xff cut off")


def a_link_to_nothing(site: Site) -> None:
    (site.source / f"link-{site.random.randrange(999)}.jpg").symlink_to("nowhere.jpg")


def described(site: Site) -> None:
    path = str(site.any_original().relative_to(site.source))
    focal = (site.random.random(), 0.5)
    site.details = {
        **site.details,
        path: ImageMetadata(title=f"Said {site.random.randrange(99)}", focal=focal),
    }


def out_of_scope(site: Site) -> None:
    site.out_of_scope ^= {str(site.any_original().relative_to(site.source))}


def rendition_gone(site: Site) -> None:
    files = sorted(faults.results(site.outs[0]))
    path = site.random.choice([file for file in files if file.endswith((".webp", ".jpg"))])
    for out in site.outs:
        (out / path).unlink()


def rendition_of_somebody_else(site: Site) -> None:
    files = sorted(faults.results(site.outs[0]))
    path = site.random.choice([file for file in files if file.endswith((".webp", ".jpg"))])
    for out in site.outs:
        (out / path).write_bytes(b"mine")


def nothing(site: Site) -> None:
    pass


CHANGES: list[Callable[[Site], None]] = [
    changed,
    touched,
    added,
    added_with_a_name_that_is_there,
    removed,
    one_of_two_names_removed,
    moved,
    copied,
    another_kind,
    broken,
    a_link_to_nothing,
    described,
    out_of_scope,
    rendition_gone,
    rendition_of_somebody_else,
    nothing,
]


@pytest.mark.parametrize("names", NAMES)
def test_whatever_happens_the_short_way_ends_as_the_long_one(tmp_path: Path, pool: Pool, names: str) -> None:
    site = Site(tmp_path, read_recipe(RECIPE + NAMES[names]), pool)
    site.both()
    order = [*CHANGES, changed, added, moved, copied, described, rendition_gone]
    site.random.shuffle(order)
    short = 0
    for change in order:
        change(site)
        short += site.both().short
    assert short > len(order) / 2, "most of them must not take the long way"


@pytest.mark.parametrize("names", NAMES)
def test_a_build_of_chosen_originals_is_an_increment_that_ends_as_the_long_way(
    tmp_path: Path, pool: Pool, names: str
) -> None:
    """What was not asked for stays as it is, and is made by the next build of everything."""
    site = Site(tmp_path, read_recipe(RECIPE + NAMES[names]), pool)
    site.both()
    order = list(CHANGES)
    site.random.shuffle(order)
    short = 0
    for number, change in enumerate(order):
        change(site)
        chosen = {path for path in site.paths() if site.random.random() < 0.6}
        short += site.both(only=chosen.__contains__).short
        if number % 3 == 2:
            site.both()
    assert short > len(order) / 3, "many of them must not take the long way"
    site.both()


def test_an_upload_is_an_increment_of_one(tmp_path: Path, pool: Pool) -> None:
    site = Site(tmp_path, read_recipe(RECIPE), pool)
    site.both()
    for number in range(3):
        path = f"upload-{number}.jpg"
        site.put(path, site.fresh())
        built = site.both(only={path}.__contains__)
        assert built.short and built.done == [path] and site.reason is None
        assert built.count["originals"] == 1 and built.count["outcomes"]["reused"] == 0
    assert site.both().done == [], "and then there is nothing left to do"


def test_a_short_way_that_was_stopped_goes_on_and_forgets_nothing(tmp_path: Path, pool: Pool) -> None:
    site = Site(tmp_path, read_recipe(RECIPE), pool)
    before = site.both()
    quick, thorough = site.outs
    looked_at = set(Ledger.from_output(quick).facts)
    changed = ("a/one.jpg", "a/two.jpg", "three.jpg", "four.jpg")
    for path in changed:
        site.put(path, site.fresh())
    done: list[str] = []
    stopped = build(
        site.source,
        quick,
        site.recipe,
        options=BuildOptions(jobs=1),
        on_event=lambda event: done.append(event.original) if isinstance(event, OriginalDone) else None,
        is_cancelled=lambda: bool(done),
    )
    assert stopped.stopped and 0 < len(done) < len(changed)
    assert stopped.originals == before.count["originals"] - len(changed) + len(done), (
        "what stands counts as well"
    )
    assert (quick / "manifest.json").read_bytes() == before.manifest
    assert set(Ledger.from_output(quick).facts) >= looked_at, (
        "a part of the records never stands for the whole"
    )
    last = site.build(quick)
    assert not last.short and last.count["outcomes"]["made"] > 0
    assert last.count["outcomes"]["made"] < site.build(thorough).count["outcomes"]["made"]
    assert site.both().files == last.files


def test_names_that_hang_on_all_originals_take_the_long_way(tmp_path: Path, pool: Pool) -> None:
    counted = '[names]\nrule = "{counter:3}-{facet}-{width}.{ext}"\n'
    site = Site(tmp_path, read_recipe(RECIPE + counted), pool)
    site.both()
    site.put("a/first.jpg", site.fresh())
    assert not site.both().short and site.reason is FullPlanReason.COUNTER
    assert site.both().done == [], "nothing to do is still known at once"


def test_each_reason_for_a_full_plan_is_said(tmp_path: Path, pool: Pool) -> None:
    site = Site(tmp_path, read_recipe(RECIPE), pool)
    quick = site.outs[0]
    site.build(quick)
    assert site.reason is FullPlanReason.NO_SNAPSHOT
    for path in site.paths():
        os.utime(site.source / path, ns=(1, 1))
    site.build(quick)
    assert site.reason is FullPlanReason.MOSTLY_CHANGED
    (site.source / "b" / "two.png").write_bytes(pictures.png(pictures.photo(64, 48, seed=3)))
    site.build(quick)
    assert site.reason is FullPlanReason.NAMES_DEPEND
    site.recipe = read_recipe(RECIPE + '[names]\nlayout = "beside"\n')
    shutil.copytree(site.source, tmp_path / "beside")
    site.source = tmp_path / "beside"
    site.build(site.source, manifest="young-prism-manifest.json")
    site.put("late.jpg", site.fresh())
    site.build(site.source, manifest="young-prism-manifest.json")
    assert site.reason is FullPlanReason.BESIDE_ORIGINALS

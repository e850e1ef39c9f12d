"""Looking: headers first and quickly, nothing twice, scope, pages; and what a walk says of what it leaves out."""

from __future__ import annotations

import os
import shutil
from pathlib import Path

import pytest

from young_prism.core.audit.flags import Flag, flags_of
from young_prism.core.recipe.model import Recipe
from young_prism.core.selection.scope import Scope
from young_prism.core.types import Kind
from young_prism.engine.build.planning import plan_source
from young_prism.engine.build.request import BuildRequest
from young_prism.engine.events import OriginalInspected
from young_prism.engine.source import inspection as looking_module
from young_prism.engine.source.inspection import InspectionResult, inspect_folder
from young_prism.engine.source.pages import SiteReader, pages_folder
from young_prism.engine.source.walk import scan
from young_prism.engine.workers.pool import Pool, lazy_pool


def no_pool() -> Pool:
    raise AssertionError("no worker is needed for this")


def looked(source: Path, **options: object) -> InspectionResult:
    with lazy_pool(2) as pool:
        return inspect_folder(source, pool, **options)


def test_a_first_look_needs_no_worker_and_decodes_nothing(source: Path, monkeypatch) -> None:
    (source / "IMG_1.HEIC").unlink()  # its header is read by a library, and so in a worker
    broken = (source / "photo.jpg").read_bytes()
    (source / "cut.jpg").write_bytes(broken[: len(broken) // 2])
    monkeypatch.setattr(looking_module, "inspect_file", None)
    events: list[OriginalInspected] = []
    looks = inspect_folder(source, no_pool, full=False, on_event=events.append)
    assert len(looks.facts) == 7 and not looks.left_out
    assert not any(facts.seen for facts in looks.facts.values())
    assert {facts.kind for facts in looks.facts.values()} == {Kind.UNKNOWN, Kind.ANIMATION, Kind.VECTOR}
    assert (events[-1].done, events[-1].total) == (7, 7)
    # The closer look finds what only all the bytes tell.
    closer = looked(source, known_facts=lambda result: looks.facts.get(result.path))
    assert [left.path for left in closer.left_out] == ["cut.jpg"]
    assert all(facts.seen and facts.sha256 for facts in closer.facts.values())


def test_headers_that_libraries_read_are_read_by_a_worker(source: Path) -> None:
    looks = looked(source, full=False)
    assert tuple(looks.facts["IMG_1.HEIC"].size) == (480, 360)
    assert "place" in looks.facts["IMG_1.HEIC"].metadata


def test_a_second_look_reads_nothing_even_of_what_was_moved(source: Path) -> None:
    first = looked(source)
    (source / "elsewhere").mkdir()
    shutil.move(source / "photo.jpg", source / "elsewhere" / "renamed.jpg")
    by_stamp = {result.stamp: facts for result, facts in first.by_path.values()}
    again = inspect_folder(source, no_pool, known_facts=lambda result: by_stamp.get(result.stamp))
    assert "elsewhere/renamed.jpg" in again.facts and "photo.jpg" not in again.facts


def test_what_is_left_out_is_said_and_counted(source: Path) -> None:
    for folder in ("vendor", ".cache", "uploads/deep", "old"):
        (source / folder).mkdir(parents=True)
        (source / folder / "a.jpg").write_bytes((source / "photo.jpg").read_bytes())
    (source / ".hidden.jpg").write_bytes(b"")
    whole = scan(source)
    assert len(whole.originals) == 9
    assert "vendor/ holds other people's files and is left out." in whole.notes
    assert "2 hidden files and folders left out." in whole.notes
    scope = Scope(exclude=("uploads/", "*.gif", "!vendor/"), include=("*.jpg", "*.gif"))
    result = scan(source, scope=scope, count_excluded=True)
    assert [original.path for original in result.originals] == [
        "deep/sideways, été.jpg", "old/a.jpg", "photo.jpg", "vendor/a.jpg",
    ]  # fmt: skip
    assert result.pattern_hits == {"*.jpg": 4, "*.gif": 1, "uploads/": 1}
    assert result.not_included == 4
    assert {original.path for original in scan(source, scope=scope).originals} == {
        original.path for original in result.originals
    }


def test_what_was_taken_out_by_hand_is_not_planned_and_says_so(source: Path, tmp_path: Path) -> None:
    with lazy_pool(2) as pool:
        scope = Scope(out=frozenset({"photo.jpg"}))
        request = BuildRequest(source=source, out=tmp_path / "out", recipe=Recipe(), scope=scope)
        prepared = plan_source(request, pool)
    assert "photo.jpg" not in {original.path for original in prepared.plan.originals}
    [left] = [left for left in prepared.plan.left_out if left.path == "photo.jpg"]
    assert not left.failed and "is excluded" in left.error


@pytest.fixture
def site(source: Path) -> Path:
    """The small source as `images` of a site with a page and a stylesheet; one picture is not used."""
    site = source.parent / "whole site"
    site.mkdir()
    source.rename(site / "images")
    (site / "index.html").write_text(
        '<img src="images/photo.jpg" width="1200"><img src="images/gone.jpg"><img src="images/mark.svg" width="99">'
    )
    (site / "css").mkdir()
    (site / "css" / "a.css").write_text('.a { background: url("../images/deep/sideways%2C%20été.jpg") }')
    (site / "node_modules").mkdir()
    (site / "node_modules" / "b.html").write_text('<img src="other.jpg">')
    return site


def test_pages_tell_what_is_used_how_large_and_what_is_missing(site: Path) -> None:
    folder = pages_folder(site / "images", [site])
    assert folder == site
    looks = looked(site / "images", full=False, site=SiteReader(site, {}))
    assert looks.references.read == 2
    flags = flags_of(looks.facts, Recipe(), (), looks.references)
    raised = {path: {flagged.flag for flagged in result} for path, result in flags.items()}
    assert Flag.SMALL in raised["photo.jpg"] and Flag.UNUSED in raised["clear.png"]
    assert "mark.svg" not in raised  # a drawing is never too small
    assert Flag.UNUSED not in raised["deep/sideways, été.jpg"]
    assert raised["images/gone.jpg"] == {Flag.MISSING}


def test_pages_are_read_once_and_nothing_above_a_root_is(site: Path, monkeypatch) -> None:
    assert pages_folder(site / "images", [site / "images"]) is None
    assert pages_folder(site / "images" / "deep", [site]) == site
    first = SiteReader(site, {}).read()
    (site / "index.html").touch()
    os.utime(site / "css" / "a.css", ns=(1, 1))
    known = {page: (stamp, ()) for page, (stamp, _) in first.pages.items()}
    again = SiteReader(site, known).read()
    assert again.pages["css/a.css"][1] and again.pages["index.html"][1]  # both have a new stamp
    third = SiteReader(site, {page: (stamp, ()) for page, (stamp, _) in again.pages.items()}).read()
    assert not any(refs for _, refs in third.pages.values())  # taken from what was known

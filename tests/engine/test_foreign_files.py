"""What is not ours stays: foreign manifests, paths in records that lead out, links out of a site, odd files in a walk."""

from __future__ import annotations

import hashlib
import json
import os
import shutil
import stat
import subprocess
import sys
import zipfile
from pathlib import Path

import pytest

from tests.support import pictures
from tests.support.builds import build
from tests.support.commands import command
from tests.support.limits import limit
from young_prism.core.errors import OutputError, PublishError
from young_prism.core.html.rewrite.changes import Concern
from young_prism.core.html.rewrite.options import RewriteOptions
from young_prism.core.manifest.model import MANIFEST_NAME, SITE_MANIFEST_NAME
from young_prism.core.paths import relative_path_problem
from young_prism.core.recipe.ladder import Ladder
from young_prism.core.recipe.model import Markup, Names, Recipe
from young_prism.engine.build.orphans import remove_orphans
from young_prism.engine.handoff.deploy import plan_deploy
from young_prism.engine.handoff.package import Package
from young_prism.engine.handoff.storage import storage_at
from young_prism.engine.output.manifest_file import (
    manifest_file,
    read_manifest,
    require_manifest,
)
from young_prism.engine.output.originals_backup import OriginalsBackup
from young_prism.engine.site.page_backup import undo_rewrite, write_rewrite
from young_prism.engine.site.rewrite import SitePages
from young_prism.serving.build import load_build

WEB_APP = b'{"name": "Ottermoor Hill Railway", "icons": [], "start_url": "/"}\n'
"""A web app manifest (W3C), which usually has this very name."""
RECIPE = Recipe(ladder=Ladder(widths=(60,)), formats=pictures.QUICK)
IN_PLACE = RECIPE.model_copy(update={"names": Names(layout="in-place")})
OUTSIDE = (
    "/etc/x",
    "../x",
    "a/../../x",
    "a/..",
    "",
    ".",
    "./a",
    "a//b",
    "a\0b",
    "C:/x",
    "c:x",
    "..\\x",
    "\\x",
    "a\\..\\x",
)


@pytest.fixture
def site(tmp_path: Path) -> Path:
    folder = tmp_path / "site"
    folder.mkdir()
    (folder / "a.jpg").write_bytes(pictures.jpeg(pictures.photo(120, 80)))
    return folder


def tree(folder: Path) -> dict[str, bytes]:
    return {str(p.relative_to(folder)): p.read_bytes() for p in folder.rglob("*") if p.is_file()}


def edit_manifest(out: Path, **changes: object) -> None:
    file = manifest_file(out)
    file.write_text(json.dumps(json.loads(file.read_bytes()) | changes))


@pytest.mark.parametrize("path", OUTSIDE)
def test_a_path_that_may_lead_out_of_its_folder_is_named_with_its_reason(path: str) -> None:
    assert relative_path_problem(path)


def test_usable_paths_have_no_problem() -> None:
    usable = ("a", "a/b.jpg", "..a/b..", "a b/é.jpg", "a\\b", ".hidden", "ab:c")
    assert [relative_path_problem(path) for path in usable] == [""] * len(usable)


@pytest.mark.parametrize("content", [WEB_APP, b"", b"{}", b"\xff\xfe", b'{"kind": "another manifest"}'])
def test_a_build_stops_at_a_manifest_that_is_not_ours_before_anything_is_written(
    site: Path, tmp_path: Path, content: bytes
) -> None:
    out = tmp_path / "static"
    out.mkdir()
    (out / MANIFEST_NAME).write_bytes(content)
    done = command("build", "--source", str(site), "--out", str(out))
    assert done.returncode == 2 and "did not write" in done.stderr and "Choose another" in done.stderr
    assert tree(out) == {MANIFEST_NAME: content}


def test_a_build_into_a_site_leaves_its_web_app_manifest_alone_and_restore_leaves_no_trace(
    site: Path,
) -> None:
    (site / MANIFEST_NAME).write_bytes(WEB_APP)
    before = tree(site)
    result = build(site, site, IN_PLACE)
    assert result.manifest == site / SITE_MANIFEST_NAME and read_manifest(result.manifest)
    assert (site / MANIFEST_NAME).read_bytes() == WEB_APP
    assert build(site, site, IN_PLACE).manifest == result.manifest
    served = load_build(site)
    assert served and served.manifest.originals, "it is served by the manifest's other name too"
    assert not OriginalsBackup.from_site(site).restore(site).refused
    assert tree(site) == before and not (site / ".young-prism").exists()


def test_a_manifest_of_ours_under_the_old_name_is_still_used_even_when_damaged(site: Path) -> None:
    build(site, site, IN_PLACE)
    old = site / MANIFEST_NAME
    (site / SITE_MANIFEST_NAME).rename(old)
    assert build(site, site, IN_PLACE).manifest == old
    old.write_bytes(old.read_bytes()[:300])  # cut off, and still recognised by its head
    assert build(site, site, IN_PLACE).manifest == old and read_manifest(old)
    assert not (site / SITE_MANIFEST_NAME).exists()


@pytest.fixture
def victim(tmp_path: Path) -> Path:
    file = tmp_path / "victim" / "v.txt"
    file.parent.mkdir()
    file.write_bytes(b"not yours")
    return file


@pytest.mark.parametrize("link", [False, True])
def test_orphans_outside_the_folder_are_never_deleted(
    site: Path, tmp_path: Path, victim: Path, link: bool
) -> None:
    out = tmp_path / "out"
    build(site, out, RECIPE)
    path = "../victim/v.txt"
    if link:
        (out / "sub").symlink_to(victim.parent)
        path = "sub/v.txt"
    row = {"path": path, "bytes": 9, "sha256": hashlib.sha256(b"not yours").hexdigest()}
    edit_manifest(out, orphaned=[row])
    with pytest.raises(OutputError):
        remove_orphans(out)
    assert victim.read_bytes() == b"not yours"


def test_a_rendition_outside_the_folder_is_neither_packed_nor_published(
    site: Path, tmp_path: Path, victim: Path
) -> None:
    out = tmp_path / "out"
    build(site, out, RECIPE)
    originals = json.loads(manifest_file(out).read_bytes())["originals"]
    originals[0]["renditions"][0] |= {"path": "../victim/v.txt", "bytes": 9}
    edit_manifest(out, originals=originals)
    with pytest.raises(OutputError):
        Package.from_output(out)
    with pytest.raises(OutputError):
        plan_deploy(out, storage_at(str(tmp_path / "www")))


@pytest.mark.parametrize(
    "change", [{"path": "../victim/v.txt"}, {"date": "../../victim"}, {"path": "/etc/x"}]
)
def test_a_backup_index_cannot_lead_restore_outside(site: Path, victim: Path, change: dict[str, str]) -> None:
    build(site, site, IN_PLACE)
    keep = OriginalsBackup.from_site(site)
    index = keep.folder / "kept.jsonl"
    row = json.loads(index.read_text())
    victim.unlink()
    index.write_text(json.dumps(row | change) + "\n")
    with pytest.raises(OutputError, match="no kept originals"):
        keep.restore(site)
    assert not victim.exists()


def test_restore_gives_permissions_and_never_setuid(site: Path) -> None:
    build(site, site, IN_PLACE)
    keep = OriginalsBackup.from_site(site)
    index = keep.folder / "kept.jsonl"
    index.write_text(json.dumps(json.loads(index.read_text()) | {"mode": 0o104755}) + "\n")
    keep.restore(site)
    assert stat.S_IMODE((site / "a.jpg").stat().st_mode) == 0o755


def test_restore_does_not_follow_a_link_out_of_the_site(site: Path, victim: Path) -> None:
    (site / "img").mkdir()
    (site / "a.jpg").rename(site / "img/a.jpg")
    build(site, site, IN_PLACE)
    shutil.rmtree(site / "img")
    (site / "img").symlink_to(victim.parent)
    done = OriginalsBackup.from_site(site).restore(site)
    assert [path for path, _ in done.refused] == ["img/a.jpg"] and not (victim.parent / "a.jpg").exists()


PAGE = b'<img src="img/a.jpg">\n'


@pytest.fixture
def pages(site: Path) -> Path:
    (site / "img").mkdir()
    (site / "a.jpg").rename(site / "img/a.jpg")
    (site / "index.html").write_bytes(PAGE)
    build(site / "img", site / "pictures", RECIPE)
    return site


def rewritings(site: Path):
    manifest = require_manifest(manifest_file(site / "pictures"))
    return SitePages.from_manifest(site, site / "img", site / "pictures", manifest).rewrite(RewriteOptions())


def test_links_are_listed_and_not_followed_and_each_page_counts_once(pages: Path, victim: Path) -> None:
    outside = victim.with_name("page.html")
    outside.write_bytes(PAGE)
    (pages / "out.html").symlink_to(outside)
    (pages / "again.html").symlink_to("index.html")
    (pages / "loop.html").symlink_to("loop.html")
    result = rewritings(pages)
    assert [file.path for file in result.files] == ["index.html"]
    assert result.links == ("again.html", "loop.html", "out.html")
    assert {path for path, left in result.remarks(Concern.HARMLESS) if "link" in left.why} == set(
        result.links
    )
    written = write_rewrite(result)
    assert written.done == ["index.html"] and not written.refused
    assert outside.read_bytes() == PAGE and (pages / "out.html").is_symlink()
    done = command("rewrite", "--source", str(pages / "img"), "--out", str(pages / "pictures"), "--write")
    assert done.returncode == 0, done.stderr


@pytest.mark.parametrize("path", ["../victim/v.txt", "/etc/hostname", "a\0b"])
def test_a_record_of_a_rewriting_cannot_lead_undo_outside(pages: Path, victim: Path, path: str) -> None:
    written = write_rewrite(rewritings(pages))
    assert written.backup
    record = written.backup / "rewritten.json"
    data = json.loads(record.read_bytes())
    data["files"][0]["path"] = path
    record.write_text(json.dumps(data))
    with pytest.raises(OutputError, match="damaged, or names paths outside"):
        undo_rewrite(pages)
    assert victim.read_bytes() == b"not yours"


DEEP = b"[" * 100_000
DAMAGED = (DEEP, b"[]", b"null", b"{}", b"\xff\xfe\0", b'{"files": {"path": 1}}', b"9" * 5000, b"")


@pytest.mark.parametrize("damage", DAMAGED)
def test_damaged_state_files_cost_time_and_nothing_else(site: Path, tmp_path: Path, damage: bytes) -> None:
    out = tmp_path / "out"
    build(site, out, RECIPE)
    before = tree(out)
    for name in ("journal.jsonl", "stamps.jsonl", "standing", "packed.json"):
        (out / ".young-prism" / name).write_bytes(damage)
    assert build(site, out, RECIPE).renditions
    assert {k: v for k, v in tree(out).items() if ".young-prism" not in k} == {
        k: v for k, v in before.items() if ".young-prism" not in k
    }


def test_only_folders_and_s3_can_be_published_to(tmp_path: Path) -> None:
    for address in (
        "local://../../x",
        "memory://x",
        "ftp://h/x",
        "zip://x",
        "github://a:b@/x",
        "s3n://b/x",
        "LOCAL://x",
    ):
        with pytest.raises(PublishError, match=address.partition(":")[0]):
            storage_at(address)
    assert storage_at(f"file://{tmp_path}").name == storage_at(str(tmp_path)).name


def test_look_passes_over_fifos_devices_links_out_and_loops(site: Path, victim: Path) -> None:
    (site / "index.html").write_bytes(b'<img src="a.jpg">')
    os.mkfifo(site / "p.html")
    (site / "z.css").symlink_to("/dev/zero")
    (site / "l").symlink_to(site / "l")
    (site / "x.css").symlink_to("nothing")
    (victim.parent / "out.html").write_bytes(b'<img src="elsewhere.jpg">')
    (site / "out.html").symlink_to(victim.parent / "out.html")
    done = command("look", site, "--json")
    assert done.returncode == 0, done.stderr
    data = json.loads(done.stdout)
    assert [item["path"] for item in data["originals"]] == ["a.jpg"]
    assert data["failures"] == []
    assert "elsewhere" not in done.stdout


def test_folders_nested_deeper_than_python_calls_are_walked(site: Path) -> None:
    deep = site
    for _ in range(1100):
        deep = deep / "d"
    subprocess.run(["mkdir", "-p", str(deep)], check=True)
    (deep / "b.jpg").write_bytes((site / "a.jpg").read_bytes())
    try:
        done = command("look", site, "--json")
    finally:
        subprocess.run(["rm", "-rf", str(site / "d")], check=True)  # deeper than pytest can delete
    assert done.returncode == 0, done.stderr
    assert len(json.loads(done.stdout)["originals"]) == 2


def test_too_few_file_handles_end_in_a_sentence(site: Path, tmp_path: Path) -> None:
    line = f"ulimit -n 12; {sys.executable} -m young_prism build --source {site} --out {tmp_path / 'out'} --no-record"
    done = subprocess.run(["sh", "-c", line], capture_output=True, text=True, timeout=limit(50), check=False)
    assert done.returncode and "Traceback" not in done.stderr and "ulimit" in done.stderr, done.stderr[-500:]


def test_a_link_in_the_place_of_a_rendition_is_not_packed(site: Path, tmp_path: Path, victim: Path) -> None:
    out = tmp_path / "out"
    build(site, out, RECIPE)
    file = next(out.glob("*.jpg"))
    victim.write_bytes(bytes(file.stat().st_size))
    file.unlink()
    file.symlink_to(victim)
    with pytest.raises(OutputError, match="changed after it was built"):
        Package.from_output(out)


def test_the_zip_of_an_ordinary_build_still_holds_everything(site: Path, tmp_path: Path) -> None:
    out = tmp_path / "out"
    build(site, out, RECIPE.model_copy(update={"markup": Markup(prefix="/p")}))
    names = zipfile.ZipFile(io_of(Package.from_output(out))).namelist()
    assert {"a-60w.jpg", MANIFEST_NAME} <= set(names)


def io_of(package: Package):
    import io

    return io.BytesIO(b"".join(package.stream()))

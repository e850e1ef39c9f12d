"""Pages rewritten on the disk: written with the old files kept, taken back, as a patch that git applies."""

from __future__ import annotations

import shutil
import stat
import subprocess
from pathlib import Path

import pytest

from tests.support import pictures
from tests.support.builds import build
from tests.support.commands import command
from young_prism.core.errors import OutputError
from young_prism.core.html.rewrite.options import RewriteOptions
from young_prism.core.manifest.model import MANIFEST_NAME
from young_prism.core.recipe.model import Ladder, Markup, Names, Recipe
from young_prism.engine.output.manifest_file import require_manifest
from young_prism.engine.site.page_backup import backup_folder, undo_rewrite, write_rewrite
from young_prism.engine.site.rewrite import SitePages, SiteRewrite, as_patch

PAGES = {
    "index.html": b'<!doctype html>\n<p>One\n<img src="img/a.jpg" alt="x">\n<p>Two\n<p>Three\n<p>Four\n<p>Five\n<p>Six\n<p>Seven\n<p>Eight\n<p>Nine\n<img src="img/b.jpg">',
    "deep/a b\u00e9.html": b'<img src="../img/a.jpg">\r\n<p>\xe9\r\n',
    "wide.html": "<p>x<img src='img/a.jpg'>\n".encode("utf-16"),
    "css/site.css": b".a {\n  background: url(../img/a.jpg) 0 / cover;\n}\n",
    "plain.html": b"<p>nothing here\n",
}  # fmt: skip


@pytest.fixture(scope="module")
def made(tmp_path_factory: pytest.TempPathFactory) -> Path:
    root = tmp_path_factory.mktemp("made") / "site"
    (root / "img").mkdir(parents=True)
    for name in ("a.jpg", "b.jpg"):
        (root / "img" / name).write_bytes(pictures.jpeg(pictures.photo(500, 300, seed=ord(name[0]))))
    for path, data in PAGES.items():
        (root / path).parent.mkdir(exist_ok=True)
        (root / path).write_bytes(data)
    build(root / "img", root / "pictures", Recipe(ladder=Ladder(widths=(200, 400)), formats=pictures.QUICK))
    return root


@pytest.fixture
def root(made: Path, tmp_path: Path) -> Path:
    return Path(shutil.copytree(made, tmp_path / "site"))


def rewrite_of(root: Path) -> SiteRewrite:
    manifest = require_manifest(root / "pictures" / MANIFEST_NAME)
    return SitePages.from_manifest(root, root / "img", root / "pictures", manifest).rewrite(RewriteOptions())


def pages(root: Path) -> dict[str, bytes]:
    return {path: (root / path).read_bytes() for path in PAGES}


def test_what_is_written_can_be_taken_back_byte_for_byte(root: Path) -> None:
    (root / "index.html").chmod(0o640)
    first = rewrite_of(root)
    assert first.changes == 5 and {file.path for file in first.changed} == set(PAGES) - {"plain.html"}
    written = write_rewrite(first)
    assert sorted(written.done) == sorted(set(PAGES) - {"plain.html"}) and not written.refused
    assert stat.S_IMODE((root / "index.html").stat().st_mode) == 0o640
    assert rewrite_of(root).changes == 0
    assert backup_folder(root).parent == root.parent
    assert undo_rewrite(root).refused == [] and pages(root) == PAGES
    with pytest.raises(OutputError, match="no rewrite to undo"):
        undo_rewrite(root)


def test_the_next_rewriting_removes_what_a_killed_one_left_among_the_kept_files(root: Path) -> None:
    backup_part = backup_folder(root) / "2026-01-01T000000" / ".young-prism-0123456789ab.part"
    beside_page = root / ".young-prism-page-0123456789ab.part"
    of_a_build = root / ".young-prism-0123456789ab.part"
    backup_part.parent.mkdir(parents=True)
    for write in (lambda: write_rewrite(rewrite_of(root)), lambda: undo_rewrite(root)):
        for part in (backup_part, beside_page, of_a_build):
            part.write_bytes(b"half a page")
        write()
        assert not backup_part.exists() and not beside_page.exists()
        assert of_a_build.exists()  # the build may be running
    of_a_build.unlink()


def test_what_somebody_changed_meanwhile_is_not_touched(root: Path) -> None:
    first = rewrite_of(root)
    (root / "index.html").write_bytes(b"<p>mine")
    assert [path for path, _ in write_rewrite(first).refused] == ["index.html"]
    (root / "css/site.css").write_bytes(b"mine")
    undone = undo_rewrite(root)
    assert [path for path, _ in undone.refused] == ["css/site.css", "index.html"]
    assert (root / "css/site.css").read_bytes() == b"mine" and (root / "wide.html").read_bytes() == PAGES[
        "wide.html"
    ]


@pytest.mark.parametrize("some", [False, True])
def test_git_applies_the_patch_and_its_reverse(root: Path, some: bool) -> None:
    """Debian's git, an implementation of its own."""
    first = rewrite_of(root)
    index = next(file for file in first.files if file.path == "index.html")
    keys = {"index.html": {index.rewriting.changes[1].key}} if some else None
    patch = root.parent / "pages.patch"
    patch.write_bytes(as_patch(first.changed, keys))
    for option in ("--check", "--verbose"):
        subprocess.run(["git", "apply", option, patch], cwd=root, check=True, capture_output=True)
    expected = {
        file.path: file.rewritten(None if keys is None else keys.get(file.path, ()))
        for file in first.files
        if file.path != "wide.html"
    }
    assert {path: data for path, data in pages(root).items() if path != "wide.html"} == expected
    assert (expected["index.html"] != PAGES["index.html"]) and (
        (expected["css/site.css"] == PAGES["css/site.css"]) is some
    )
    subprocess.run(["git", "apply", "--reverse", patch], cwd=root, check=True, capture_output=True)
    assert pages(root) == PAGES


def test_renditions_out_of_reach_need_an_address_and_a_source_elsewhere_is_refused(
    root: Path, tmp_path: Path
) -> None:
    manifest = require_manifest(root / "pictures" / MANIFEST_NAME)
    with pytest.raises(OutputError, match="no address is given for them"):
        SitePages.from_manifest(root, root / "img", tmp_path / "far", manifest)
    with pytest.raises(OutputError, match="is outside this folder"):
        SitePages.from_manifest(root / "css", root / "img", root / "pictures", manifest)
    served = manifest.model_copy(update={"recipe": Recipe(markup=Markup(prefix="/p/"))})
    away = SitePages.from_manifest(root, root / "img", tmp_path / "far", served).rewrite(RewriteOptions())
    assert (
        b'src="/p/a-400w.jpg"' in next(file for file in away.files if file.path == "index.html").rewritten()
    )


def test_a_build_fails_while_a_page_loads_an_original_and_renamed_renditions_are_found_again(
    root: Path,
) -> None:
    options = ("rewrite", "--source", root / "img", "--out", root / "pictures")
    checked = command(*options, "--check")
    assert checked.returncode == 1 and "index.html:3: a.jpg its renditions are not used" in checked.stderr
    assert pages(root) == PAGES
    assert command(*options, "--patch", root.parent / "p").returncode == 0
    assert (root.parent / "p").read_bytes() == as_patch(rewrite_of(root).changed)
    assert command(*options, "--write").returncode == 0
    assert command(*options, "--check").returncode == 0
    renamed = Recipe(
        ladder=Ladder(widths=(200, 400)), formats=pictures.QUICK, names=Names(rule="{stem}_{width}.{ext}")
    )
    build(root / "img", root / "pictures", renamed)
    assert rewrite_of(root).changes == 5
    write_rewrite(rewrite_of(root))
    assert b"pictures/a_400.jpg" in (root / "index.html").read_bytes() and rewrite_of(root).changes == 0
    assert command(*options, "--undo").returncode == command(*options, "--undo").returncode == 0
    assert pages(root) == PAGES


def test_only_the_chosen_pages_are_rewritten(root: Path) -> None:
    options = ("rewrite", "--source", root / "img", "--out", root / "pictures", "--write")
    before = pages(root)
    assert command(*options, "--only", "*.css").returncode == 0
    changed = {path for path, data in pages(root).items() if data != before[path]}
    assert changed and all(path.endswith(".css") for path in changed)
    refused = command(*options, "--only", "blgo/")
    assert refused.returncode == 2 and "blgo/: No page or stylesheet" in refused.stderr
    assert command(*options[:-1], "--undo", "--only", "*.css").returncode == 2

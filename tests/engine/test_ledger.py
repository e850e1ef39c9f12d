"""The records of an output folder and the snapshot of a build, without a build."""

from __future__ import annotations

import hashlib
import json
import os
from dataclasses import replace
from pathlib import Path

import pytest

from tests.support.plans import planned
from young_prism.core.manifest.model import RenditionEntry, SkippedEntry
from young_prism.core.plan.model import PlannedOriginal, PlannedRendition
from young_prism.core.types import Outcome
from young_prism.engine.build.snapshot import BuildSnapshot, OriginalSnapshot, left_out_hash, updated_snapshot
from young_prism.engine.build.work import RemainingWork, split_duplicates
from young_prism.engine.files import STATE_FOLDER, SourceFile, file_stamp
from young_prism.engine.output.ledger import JOURNAL, STAMPS, Ledger, owned_paths
from young_prism.engine.source.walk import Scan

WEBP_AND_JPEG = "webp = {}\njpeg = {}"


@pytest.fixture
def out(tmp_path: Path) -> Path:
    (tmp_path / "out" / STATE_FOLDER).mkdir(parents=True)
    return tmp_path / "out"


def made(out: Path, rendition: PlannedRendition, content: bytes = b"made") -> RenditionEntry:
    """Write the file of a rendition; return its entry."""
    (out / rendition.path).write_bytes(content)
    return RenditionEntry(
        path=rendition.path, format=rendition.format.value, type="image/x", width=1, height=1, bytes=len(content),
        sha256=hashlib.sha256(content).hexdigest(), key=rendition.key, outcome="made", reason="",
    )  # fmt: skip


def skipped(rendition: PlannedRendition, size: int = 900) -> SkippedEntry:
    return SkippedEntry(
        path=rendition.path,
        format=rendition.format.value,
        width=1,
        height=1,
        bytes=size,
        key=rendition.key,
        reason="",
    )


def journal_of(out: Path, original: PlannedOriginal) -> Ledger:
    """Record every rendition of an original as made."""
    ledger = Ledger(out)
    ledger.append_to_journal([made(out, rendition) for rendition in original.renditions], [])
    return ledger


def test_what_is_in_the_journal_is_reused_after_a_power_cut_up_to_the_torn_line(out: Path) -> None:
    first, second = planned("a.jpg"), planned("b.jpg", sha256="1" * 64)
    journal_of(out, first)
    with (out / STATE_FOLDER / JOURNAL).open("a") as journal:
        journal.write('{"renditions": [{"path": "b-100w')
    ledger = Ledger.from_output(out)
    assert ledger.is_done(first) and not ledger.is_done(second)
    assert owned_paths(out) == {rendition.path for rendition in first.renditions}


def test_a_line_with_a_path_out_of_the_folder_is_no_record(out: Path, tmp_path: Path) -> None:
    original = planned()
    journal_of(out, original)
    text = (out / STATE_FOLDER / JOURNAL).read_text()
    (out / STATE_FOLDER / JOURNAL).write_text(text.replace(original.renditions[0].path, "../outside.jpg"))
    assert Ledger.from_output(out).owned == {}


def test_a_file_is_ours_only_with_the_bytes_that_we_wrote(out: Path) -> None:
    original = planned()
    journal_of(out, original)
    ledger, path = Ledger.from_output(out), original.renditions[0].path
    assert ledger.is_ours(path) and not ledger.is_foreign(path)
    (out / path).write_bytes(b"somebody's own")
    ledger.invalidate(path)
    assert ledger.is_foreign(path) and not ledger.is_ours(path) and not ledger.is_done(original)
    (out / path).unlink()
    ledger.invalidate(path)
    assert not ledger.is_foreign(path) and not ledger.is_ours(path)
    (out / path).symlink_to("gone")
    assert ledger.is_foreign(path)


def test_an_unchanged_file_is_not_read_again_and_a_changed_one_is(out: Path) -> None:
    original = planned()
    ledger = journal_of(out, original)
    for rendition in original.renditions:
        assert ledger.hash_on_disk(rendition.path)
    ledger.save_stamps({})
    path = out / original.renditions[0].path
    stamp = path.stat()
    path.write_bytes(b"othr")  # as long, and with the time of before: only a read could tell
    os.utime(path, ns=(stamp.st_atime_ns, stamp.st_mtime_ns))
    assert Ledger.from_output(out).is_done(original)
    os.utime(path, ns=(1, 1))
    assert not Ledger.from_output(out).is_done(original)
    (out / STATE_FOLDER / STAMPS).write_bytes(b'{"version": 1}\n[]\nnot json\n')
    assert not Ledger.from_output(out).is_done(original)  # without stamps all is hashed


def test_a_rendition_left_out_is_judged_again_by_its_recorded_bytes(out: Path) -> None:
    original = planned(formats=WEBP_AND_JPEG)
    webp = [rendition for rendition in original.renditions if rendition.path.endswith("webp")]
    jpeg = [rendition for rendition in original.renditions if rendition not in webp]
    ledger = Ledger(out)
    ledger.append_to_journal(
        [made(out, rendition) for rendition in jpeg], [skipped(rendition) for rendition in webp]
    )
    assert ledger.is_done(original)
    left = RemainingWork.from_ledger(original, ledger)
    assert left.work == 0.0
    done = left.without_encoding()
    assert done and {item.planned.path for item in done} == {rendition.path for rendition in webp}
    assert all(item.outcome is Outcome.SKIPPED for item in done)
    # Without the JPEG that it lost against, the WebP is worth delivering and must be encoded.
    alone = replace(original, renditions=tuple(webp))
    assert not ledger.is_done(alone) and RemainingWork.from_ledger(alone, ledger).without_encoding() is None


def test_a_rendition_under_another_name_is_reused_and_never_after_it_was_changed(out: Path) -> None:
    before, after = planned("a.jpg"), planned("renamed.jpg")
    ledger = journal_of(out, before)
    left = RemainingWork.from_ledger(after, ledger)
    assert set(left.elsewhere) == {rendition.path for rendition in after.renditions} and left.work == 0.0
    (out / before.renditions[0].path).write_bytes(b"touched")
    left = RemainingWork.from_ledger(after, Ledger.from_output(out))
    assert set(left.elsewhere) == {rendition.path for rendition in after.renditions[1:]}
    assert left.work == pytest.approx(after.renditions[0].work + after.decoding)


def test_originals_with_equal_renditions_are_made_once() -> None:
    todo = [
        RemainingWork(planned(path, sha256=digit * 64), {}, {})
        for path, digit in (("a.jpg", "1"), ("b.jpg", "2"), ("c.jpg", "1"))
    ]
    first, copies = split_duplicates(todo)
    assert [work.original.path for work in first] == ["a.jpg", "b.jpg"]
    assert [work.original.path for work in copies] == ["c.jpg"]


# The snapshot of a build that ended


def scan_of(*paths: str, time: int = 1) -> Scan:
    return Scan(tuple(SourceFile(path, 10, time, 3) for path in paths), (), (), {}, 0)


def snapshot_of(out: Path, scan: Scan) -> BuildSnapshot:
    """Write a snapshot with one delivered file for each original."""
    (out / "manifest.json").write_text("{}")
    originals = []
    for file in scan.originals:
        target = out / f"{file.path}.webp"
        target.write_bytes(b"webp")
        originals.append(
            OriginalSnapshot(file.path, file.stamp, "", files=((target.name, *file_stamp(target)),))
        )
    snapshot = updated_snapshot(BuildSnapshot.empty(out, "recipe 1"), [], originals, scan, {})
    snapshot.write()
    return snapshot


def test_a_snapshot_comes_back_as_it_was_written(out: Path) -> None:
    written = snapshot_of(out, scan_of("a.jpg", "b.jpg"))
    read = BuildSnapshot.from_output(out, "recipe 1")
    assert read and json.dumps(read.originals) == json.dumps(written.originals)
    assert read.left_out == left_out_hash(scan_of())
    assert read.owned == {"a.jpg.webp", "b.jpg.webp"}
    assert read.changes(scan_of("a.jpg", "b.jpg"), lambda _: "").is_empty


@pytest.mark.parametrize("damage", ["recipe", "manifest", "journal", "torn", "lines", "gone"])
def test_a_snapshot_that_may_be_wrong_is_none(out: Path, damage: str) -> None:
    snapshot_of(out, scan_of("a.jpg", "b.jpg"))
    file = out / STATE_FOLDER / "standing"
    match damage:
        case "manifest":
            (out / "manifest.json").write_text("{ }")
        case "journal":
            (out / STATE_FOLDER / JOURNAL).write_text("")
        case "torn":
            file.write_bytes(file.read_bytes()[:-9])
        case "lines":
            file.write_bytes(file.read_bytes().rpartition(b"\n")[0])
        case "gone":
            file.unlink()
    assert BuildSnapshot.from_output(out, "recipe 2" if damage == "recipe" else "recipe 1") is None


@pytest.mark.parametrize(
    ("happens", "unchanged", "changed", "previous"),
    [
        ("touched", ["b.jpg"], ["a.jpg"], ["a.jpg"]),
        ("added", ["a.jpg", "b.jpg"], ["c.jpg"], []),
        ("removed", ["a.jpg"], [], ["b.jpg"]),
        ("described", ["a.jpg"], ["b.jpg"], ["b.jpg"]),
        ("rendition deleted", ["b.jpg"], ["a.jpg"], ["a.jpg"]),
        ("rendition edited", ["b.jpg"], ["a.jpg"], ["a.jpg"]),
    ],
)
def test_what_changed_since_a_snapshot_is_found_by_stamps_alone(
    out: Path, happens: str, unchanged: list[str], changed: list[str], previous: list[str]
) -> None:
    snapshot = snapshot_of(out, scan_of("a.jpg", "b.jpg"))
    scan = scan_of("a.jpg", "b.jpg")
    match happens:
        case "touched":
            touched = scan_of("a.jpg", time=2).originals
            scan = replace(scan, originals=(*touched, *scan.originals[1:]))
        case "added":
            scan = scan_of("a.jpg", "b.jpg", "c.jpg")
        case "removed":
            scan = scan_of("a.jpg")
        case "rendition deleted":
            (out / "a.jpg.webp").unlink()
        case "rendition edited":
            (out / "a.jpg.webp").write_bytes(b"longer")
    result = snapshot.changes(scan, lambda path: "new" if happens == "described" and path == "b.jpg" else "")
    assert [item.path for item in result.unchanged] == unchanged
    assert [item.path for item in result.changed] == changed
    assert [item.path for item in result.previous] == previous
    assert not result.other_changes and not result.is_empty

"""Files that are brought in, and zips nobody has to trust: whole or not at all, and nothing outside the folder."""

from __future__ import annotations

import errno
import hashlib
import io
import stat
import threading
import warnings
import zipfile
from pathlib import Path
from types import SimpleNamespace

import pytest

from tests.support import pictures
from young_prism.core.errors import DiskFullError, IncomingError, IncomingKindError, IncomingTooLargeError
from young_prism.engine.intake import inbox as incoming_module
from young_prism.engine.intake.archive import unpack
from young_prism.engine.intake.inbox import (
    Inbox,
    Limits,
    PlacementOutcome,
)

PHOTO = pictures.jpeg(pictures.photo(60, 40))
OTHER = pictures.jpeg(pictures.photo(60, 40, 2))


@pytest.fixture
def inbox(tmp_path: Path) -> Inbox:
    box = Inbox(
        tmp_path / "box" / "originals", tmp_path / "box" / "waiting", Limits(file_bytes=100_000, files=50)
    )
    box.open()
    return box


def files(inbox: Inbox) -> dict[str, bytes]:
    return {
        str(path.relative_to(inbox.originals)): path.read_bytes()
        for path in sorted(inbox.originals.rglob("*"))
        if path.is_file()
    }


def nothing_waits(inbox: Inbox) -> bool:
    return not any(inbox.waiting.iterdir())


def test_an_entry_without_a_name_is_refused_alone(tmp_path: Path) -> None:
    """A zip whose entry's name has no bytes (found by fuzzing): in both headers the name's length becomes the extra field's."""
    buffer = io.BytesIO()
    with zipfile.ZipFile(buffer, "w") as packed:
        packed.writestr("QQ", b"x")
        packed.writestr("a.jpg", pictures.jpeg(pictures.photo(40, 30)))
    data = bytearray(buffer.getvalue())
    for at, name in ((data.index(b"PK\x03\x04"), 26), (data.index(b"PK\x01\x02"), 28)):
        data[at + name : at + name + 4] = b"\0\0\x02\0"
    inbox = Inbox(tmp_path / "originals", tmp_path / "waiting")
    inbox.open()
    result = unpack(io.BytesIO(bytes(data)), inbox, name="z.zip")
    assert [placed.path for placed in result.placed] == ["a.jpg"] and len(result.refused) == 1


def test_a_file_is_taken_whole_under_its_name(inbox: Inbox) -> None:
    digest = hashlib.sha256(PHOTO).hexdigest()
    placed = inbox.receive("a/b.jpg", io.BytesIO(PHOTO), length=len(PHOTO), sha256=digest)
    assert (placed.path, placed.outcome, placed.note) == ("a/b.jpg", PlacementOutcome.NEW, "")
    assert inbox.find_existing("a/b.jpg", digest) == "a/b.jpg"
    assert (
        inbox.find_existing("a/b.jpg", "0" * 64) is None and inbox.find_existing("../b.jpg", digest) is None
    )
    assert inbox.receive("a/b.jpg", io.BytesIO(PHOTO)).outcome is PlacementOutcome.ALREADY
    adjacent = inbox.receive("a/b.jpg", io.BytesIO(OTHER))
    assert (adjacent.path, adjacent.outcome) == (
        "a/b-2.jpg",
        PlacementOutcome.KEPT_UNDER_NEW_NAME,
    ) and "a/b.jpg" in adjacent.note
    assert (
        inbox.receive("a/b.jpg", io.BytesIO(OTHER)).path == "a/b-2.jpg"
    )  # sent again after all: found again
    assert files(inbox) == {"a/b.jpg": PHOTO, "a/b-2.jpg": OTHER}
    assert nothing_waits(inbox)


@pytest.mark.parametrize(
    ("name", "data", "options", "kind", "word"),
    [
        ("a.jpg", PHOTO[:-100], {"length": len(PHOTO)}, IncomingError, "arrived"),
        ("a.jpg", PHOTO[:-1], {"sha256": hashlib.sha256(PHOTO).hexdigest()}, IncomingError, "damaged"),
        ("a.jpg", b"", {}, IncomingError, "empty"),
        ("a.jpg", bytes(200_000), {"length": 200_000}, IncomingTooLargeError, "limit"),
        ("a.jpg", PHOTO + bytes(200_000), {}, IncomingTooLargeError, "limit"),  # nobody said how long it is
        ("a.pdf", b"%PDF-1.4", {}, IncomingKindError, "PDF"),
        ("a.jpg", b"only words", {}, IncomingKindError, "not a known image"),
        ("a.exe.html", b"MZ\0\1", {}, IncomingKindError, "not a known image"),
        ("a.png", pictures.png_of_size(60_000, 60_000), {}, IncomingTooLargeError, "megapixels"),
        ("../a.jpg", PHOTO, {}, IncomingError, "leads out"),
    ],
)  # fmt: skip
def test_what_cannot_be_taken_leaves_nothing_behind(
    inbox: Inbox, name: str, data: bytes, options: dict, kind: type, word: str
) -> None:
    with pytest.raises(kind, match=word) as caught:
        inbox.receive(name, io.BytesIO(data), **options)
    assert caught.value.remedy and caught.value.file
    assert files(inbox) == {} and nothing_waits(inbox)


def test_pages_are_taken_since_they_tell_what_is_used(inbox: Inbox) -> None:
    assert inbox.receive("site/index.html", io.BytesIO(b"<img src=a.jpg>")).outcome is PlacementOutcome.NEW


def test_two_of_one_name_at_once_are_both_kept(inbox: Inbox) -> None:
    many = [pictures.jpeg(pictures.photo(40, 30, seed)) for seed in range(8)]
    gate = threading.Barrier(len(many))

    def send(data: bytes) -> None:
        gate.wait()
        inbox.receive("same.jpg", io.BytesIO(data))

    threads = [threading.Thread(target=send, args=(data,)) for data in many]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join()
    assert sorted(files(inbox).values()) == sorted(many)


def test_a_full_disk_is_said_and_what_has_arrived_stays(inbox: Inbox, monkeypatch) -> None:
    inbox.receive("first.jpg", io.BytesIO(PHOTO))

    def full(_file: int) -> None:
        raise OSError(errno.ENOSPC, "No space left on device")

    monkeypatch.setattr(incoming_module.os, "fsync", full)
    with pytest.raises(DiskFullError, match="disk is full"):
        inbox.receive("second.jpg", io.BytesIO(OTHER))
    monkeypatch.undo()
    monkeypatch.setattr(incoming_module.shutil, "disk_usage", lambda _path: SimpleNamespace(free=1000))
    with pytest.raises(DiskFullError):  # seen before a byte is written
        inbox.receive("third.jpg", io.BytesIO(OTHER), length=len(OTHER))
    assert files(inbox) == {"first.jpg": PHOTO} and nothing_waits(inbox)


def zipped(entries: list[tuple[zipfile.ZipInfo | str, bytes]], **options: int) -> io.BytesIO:
    buffer = io.BytesIO()
    with warnings.catch_warnings(), zipfile.ZipFile(buffer, "w", **options) as archive:
        warnings.simplefilter("ignore")  # two entries of one name are what some zips have
        for name, data in entries:
            archive.writestr(name, data)
    buffer.seek(0)
    return buffer


def test_a_zip_gives_its_pictures_and_refuses_the_rest_one_by_one(inbox: Inbox, tmp_path: Path) -> None:
    link = zipfile.ZipInfo("link.jpg")
    link.external_attr = (stat.S_IFLNK | 0o777) << 16
    odd = "line\nbreak \u202egpj.jpg"
    archive = zipped(
        [
            ("a/b.jpg", PHOTO),
            ("a/", b""),
            ("../up.jpg", PHOTO),
            ("a/../../up.jpg", PHOTO),
            ("/etc/abs.jpg", PHOTO),
            ("C:\\abs.jpg", PHOTO),
            (link, b"/etc/passwd"),
            (odd, OTHER),
            ("n" * 300 + ".jpg", OTHER),
            ("notes.txt", b"hello"),
            ("a/B.jpg", OTHER),
            ("a/b.jpg", OTHER),
        ]
    )
    result = unpack(archive, inbox, name="x.zip")
    reasons = sorted(error.what.split(":")[0].split(".")[0] for error in result.refused)
    assert len(result.refused) == 6, reasons
    assert {placed.path for placed in result.placed} >= {
        "a/b.jpg",
        "a/b-2.jpg",
        "a/B.jpg",
        "linebreak gpj.jpg",
    }
    assert set(files(inbox).values()) == {PHOTO, OTHER}
    assert all(len(path.encode()) < 255 for path in files(inbox))
    assert sorted(path.name for path in tmp_path.iterdir()) == ["box"]


def test_a_zip_that_says_too_much_is_not_touched(inbox: Inbox) -> None:
    many = zipped([(f"{number}.jpg", b"x") for number in range(51)])
    with pytest.raises(IncomingTooLargeError, match="51 files"):
        unpack(many, inbox, name="many.zip")
    small = Inbox(inbox.originals, inbox.waiting, Limits(unpacked_bytes=1_000_000))
    bomb = zipped([("a.bmp", bytes(2_000_000))], compression=zipfile.ZIP_DEFLATED)
    assert len(bomb.getvalue()) < 5000
    with pytest.raises(IncomingTooLargeError, match=r"declares 2\.0 MB"):
        unpack(bomb, small, name="bomb.zip")
    assert files(inbox) == {}


def test_an_entry_that_lies_about_its_size_is_stopped_at_the_limit(inbox: Inbox) -> None:
    """A bomb that declares little: the central directory is changed, and what comes out is what counts."""
    data = bytearray(zipped([("a.bmp", bytes(5_000_000))], compression=zipfile.ZIP_DEFLATED).getvalue())
    at = data.index(b"PK\1\2")
    data[at + 24 : at + 28] = (1000).to_bytes(4, "little")
    result = unpack(io.BytesIO(bytes(data)), inbox, name="liar.zip")
    assert len(result.refused) == 1 and files(inbox) == {} and nothing_waits(inbox)


def test_encrypted_damaged_and_foreign_zips_are_said_so(inbox: Inbox) -> None:
    data = bytearray(zipped([("a.jpg", PHOTO), ("b.jpg", OTHER)]).getvalue())
    locked = bytearray(data)
    for mark, offset in ((b"PK\3\4", 6), (b"PK\1\2", 8)):
        locked[locked.index(mark) + offset] |= 1  # bit 0: encrypted (APPNOTE 4.4.4), on the first entry
    result = unpack(io.BytesIO(bytes(locked)), inbox, name="locked.zip")
    assert [error.what for error in result.refused] == ["The file is encrypted."] and set(files(inbox)) == {
        "b.jpg"
    }
    data[data.index(PHOTO) + 50] ^= 255  # its checksum does not fit any more
    assert len(unpack(io.BytesIO(bytes(data)), inbox, name="damaged.zip").refused) == 1
    for junk in (b"not a readable zip at all", b"", bytes(data[: len(data) // 2])):
        with pytest.raises(IncomingError, match="not a readable zip"):
            unpack(io.BytesIO(junk), inbox, name="junk.zip")

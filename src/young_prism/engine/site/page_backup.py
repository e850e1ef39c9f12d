"""A rewriting written with the old files kept, and taken back.

What is kept lies outside the site, so that no visitor is served it::

    site-pages/
        2026-11-26T101500/
            rewritten.json       the site, and for each file its path and the sha256 before and after
            index.html           as it was
"""

from __future__ import annotations

import hashlib
import os
import stat
from collections.abc import Collection, Iterator, Mapping
from contextlib import suppress
from dataclasses import dataclass, field
from datetime import UTC, datetime
from pathlib import Path
from typing import Literal

from pydantic import BaseModel, ValidationError

from young_prism.core.errors import OutputError
from young_prism.core.paths import RelativePath
from young_prism.engine.files import path_inside, read_regular_file
from young_prism.engine.output.atomic import (
    output_error,
    remove_leftovers,
    remove_leftovers_of,
    sync_folder,
    write_atomically,
)
from young_prism.engine.site.rewrite import LARGEST_PAGE, LINK, SiteRewrite
from young_prism.engine.site.written_sizes import record_sizes
from young_prism.messages.pages import NOTHING_TO_UNDO, RECORD_DAMAGED, TOO_MANY_REWRITES

_INDEX = "rewritten.json"
_PAGE = "page-"
"""The purpose of temporary files that become pages."""


class _RewrittenFile(BaseModel):
    """One file of a rewriting, with the sha256 of its bytes before and after; before is empty for a new file."""

    path: RelativePath
    before: str
    after: str


class _RewriteRecord(BaseModel):
    """What a rewriting changed. It may come from another machine: each path is validated."""

    kind: Literal["young-prism rewritten pages"] = "young-prism rewritten pages"
    site: str
    files: tuple[_RewrittenFile, ...]


@dataclass(frozen=True, slots=True)
class WriteResult:
    """Result of writing or undoing a rewrite: the paths that are done, and those that were not touched, with the reason."""

    done: list[str] = field(default_factory=list)
    refused: list[tuple[str, str]] = field(default_factory=list)
    backup: Path | None = None


def backup_folder(folder: Path) -> Path:
    """Return the folder for the old files of a site's pages: next to the site, under its name and `-pages`."""
    real = Path(os.path.realpath(folder))
    return real.parent / f"{real.name}-pages"


def write_rewrite(
    rewrite: SiteRewrite, keep: Path | None = None, keys: Mapping[str, Collection[str]] | None = None
) -> WriteResult:
    """Write the changes of all files, or those that `keys` names by path; the old files are kept first.

    A page that is not as it was read any more is not touched. Raises `OutputError` where the old files cannot be kept.
    """
    keep = keep or backup_folder(rewrite.folder)
    remove_leftovers(keep)
    remove_leftovers_of(_PAGE, ((rewrite.folder / file.path).parent for file in rewrite.files))
    chosen = [file for file in rewrite.changed if keys is None or file.has(keys.get(file.path, ()))]
    stale = sorted(set(keys or ()) - {file.path for file in chosen})
    refused = [(path, "It was changed since it was shown; look at it again.") for path in stale]
    if not chosen:
        return WriteResult(refused=refused)
    store = _new_folder(keep)
    written = WriteResult(backup=store, refused=refused)
    entries = []
    for file in chosen:
        after = file.rewritten(None if keys is None else keys[file.path])
        if not file.is_new:
            write_atomically(store / file.path, file.data)
        before = "" if file.is_new else _hash(file.data)
        entries.append(_RewrittenFile(path=file.path, before=before, after=_hash(after)))
    record = _RewriteRecord(site=str(rewrite.folder), files=tuple(entries))
    write_atomically(store / _INDEX, (record.model_dump_json(indent=1) + "\n").encode())
    if rewrite.out is not None:
        record_sizes(rewrite.out, rewrite.sizes)
    for file in chosen:
        after = file.rewritten(None if keys is None else keys[file.path])
        if _bytes(rewrite.folder / file.path) != (None if file.is_new else file.data):
            written.refused.append((file.path, "It was changed since it was read; look at it again."))
            continue
        _replace(rewrite.folder, file.path, after, written)
    return written


def undo_rewrite(folder: Path, keep: Path | None = None) -> WriteResult:
    """Bring back the files of the newest rewriting of a site, byte for byte, as far as nobody has changed them since.

    Raises `OutputError` where there is none.
    """
    keep = keep or backup_folder(folder)
    remove_leftovers(keep)
    store = newest_rewrite(folder, keep)
    if store is None:
        raise OutputError.of(NOTHING_TO_UNDO, file=str(keep))
    root = Path(os.path.realpath(folder))
    written = WriteResult(backup=store)
    entries = _record(store).files
    remove_leftovers_of(_PAGE, ((root / entry.path).parent for entry in entries))
    for entry in entries:
        path, now = entry.path, _bytes(root / entry.path)
        before = _bytes(store / path)
        if not entry.before:
            _remove_new(root, entry, now, written)
        elif before is None or _hash(before) != entry.before:
            written.refused.append((path, "What was kept of it is damaged."))
        elif now is not None and _hash(now) == entry.before:
            written.done.append(path)
        elif now is None or _hash(now) != entry.after:
            written.refused.append((path, f"It was changed since; as it was before it lies in {store}."))
        else:
            _replace(root, path, before, written)
    if not written.refused:
        (store / _INDEX).rename(store / f"{_INDEX}.undone")
        sync_folder(store)
    return written


def _remove_new(root: Path, entry: _RewrittenFile, now: bytes | None, written: WriteResult) -> None:
    """Remove a file that the rewriting added, if nobody has changed it since."""
    if now is not None and _hash(now) != entry.after:
        written.refused.append((entry.path, "It was changed since it was added."))
        return
    path_inside(root, entry.path).unlink(missing_ok=True)
    written.done.append(entry.path)


def newest_rewrite(folder: Path, keep: Path | None = None) -> Path | None:
    """Return the folder of the newest rewriting that can be taken back.

    Raises `OutputError` for a record that is damaged or names paths outside the site.
    """
    store = keep or backup_folder(folder)
    root = os.path.realpath(folder)
    return next(
        (record for record in sorted(_in_backup(store), reverse=True) if _record(record).site == root), None
    )


def _in_backup(store: Path) -> Iterator[Path]:
    with suppress(OSError):
        yield from (entry for entry in store.iterdir() if (entry / _INDEX).is_file())


def _record(store: Path) -> _RewriteRecord:
    try:
        return _RewriteRecord.model_validate_json((store / _INDEX).read_bytes())
    except (OSError, ValidationError) as error:
        raise OutputError.of(RECORD_DAMAGED, file=str(store / _INDEX)) from error


def _new_folder(keep: Path) -> Path:
    name = datetime.now(UTC).strftime("%Y-%m-%dT%H%M%S")
    for number in range(1000):
        new_folder = keep / (f"{name}-{number:03d}" if number else name)
        try:
            new_folder.mkdir(parents=True)
        except FileExistsError:
            continue
        except OSError as error:
            raise output_error(error, new_folder) from error
        return new_folder
    raise OutputError.of(TOO_MANY_REWRITES, file=str(keep))


def _replace(root: Path, path: str, data: bytes, written: WriteResult) -> None:
    """Write new bytes under a file's name, with the permissions it had; refuse a link and what is outside the site."""
    try:
        target = path_inside(root, path)
    except OutputError as error:
        written.refused.append((path, error.what))
        return
    info = target.lstat() if os.path.lexists(target) else None
    if info is not None and not stat.S_ISREG(info.st_mode):
        written.refused.append((path, LINK.why))
        return
    write_atomically(target, data, purpose=_PAGE)
    if info is not None:
        target.chmod(stat.S_IMODE(info.st_mode))
    written.done.append(path)


def _bytes(path: Path) -> bytes | None:
    try:
        return read_regular_file(path, LARGEST_PAGE)
    except OSError:
        return None


def _hash(data: bytes) -> str:
    return hashlib.sha256(data).hexdigest()

"""Publishing a build: only what changed, pictures before the manifest, and nothing deleted that is not proven ours.

Published files are judged by the manifest that was published before, and by our own journal of a publishing that did not end.
A file that neither knows belongs to others: it is never overwritten unless that is asked for.
"""

from __future__ import annotations

import hashlib
import json
from collections.abc import Callable, Iterator, Mapping
from concurrent.futures import Future, ThreadPoolExecutor, as_completed
from contextlib import suppress
from dataclasses import dataclass, field
from pathlib import Path
from typing import TextIO

from pydantic import ValidationError
from pydantic_core import from_json

from young_prism.core.errors import OutputError, PublishError, YoungPrismError
from young_prism.core.manifest.model import MANIFEST_NAME, Manifest, RenditionEntry
from young_prism.core.markup.server_rules import ServedFiles
from young_prism.engine.files import STATE_FOLDER
from young_prism.engine.handoff.package import hashes_of
from young_prism.engine.handoff.storage import USUAL_ACCESS, ObjectAccess, ObjectHeaders, Storage
from young_prism.engine.output.manifest_file import manifest_file, require_manifest
from young_prism.messages.publishing import (
    BUILD_FILE_CHANGED,
    build_file_unreadable,
    foreign_files,
    foreign_manifest,
)

_MAX_PARALLEL = 8
_FOR_THE_MANIFEST = ObjectHeaders("application/json", "no-cache")


@dataclass(frozen=True, slots=True)
class DeployPlan:
    """What a publishing would do: files to send, those that are there already, those to delete, and those that are not ours."""

    out: Path
    store: Storage
    manifest: Manifest
    send: tuple[RenditionEntry, ...]
    same: int
    remove: tuple[str, ...]
    foreign: tuple[str, ...]
    manifest_differs: bool
    replaced: frozenset[str] = frozenset()
    """Paths of `send` that have another content there now."""

    @property
    def bytes(self) -> int:
        """What is to be sent."""
        return sum(rendition.bytes for rendition in self.send)

    @property
    def nothing_to_do(self) -> bool:
        """Whether all is there as it should be."""
        return not (self.send or self.remove or self.manifest_differs)


@dataclass(slots=True)
class DeployResult:
    """What came of it."""

    sent: int = 0
    removed: int = 0
    failures: list[YoungPrismError] = field(default_factory=list)
    stopped: bool = False


Progress = Callable[[int, int], None]
"""Called with how many files are sent, and how many there are to send."""


def plan_deploy(out: Path, store: Storage, *, delete: bool = False, overwrite: bool = False) -> DeployPlan:
    """Compare a build with what is published. Nothing is written.

    `delete` also takes away what an earlier manifest there proves ours and this build has not; `overwrite` takes names that
    other files have. Raises `OutputError` or `PublishError`.
    """
    manifest = require_manifest(manifest_file(out))
    existing = store.listing()
    before = _published_paths(store, existing, overwrite=overwrite)
    known = {**(hashes_of(before) if before else {}), **_journal(out, store)}
    owned_hashes = {**({orphan.path: orphan.sha256 for orphan in before.orphaned} if before else {}), **known}
    sizes = _sizes(before)
    send: list[RenditionEntry] = []
    foreign: list[str] = []
    same = 0
    renditions = [rendition for original in manifest.originals for rendition in original.renditions]
    for entry in renditions:
        if entry.path not in existing:
            send.append(entry)
        elif existing[entry.path] == entry.bytes and known.get(entry.path) == entry.sha256:
            same += 1
        elif entry.path in owned_hashes or overwrite:
            send.append(entry)
        elif existing[entry.path] == entry.bytes and store.holds(entry.path, _bytes(out, entry)):
            same += 1
        else:
            foreign.append(entry.path)
    paths = {rendition.path for rendition in renditions}
    removed_paths = [path for path, size in sizes.items() if path not in paths and existing.get(path) == size]
    differs = before is None or before != manifest
    return DeployPlan(
        out,
        store,
        manifest,
        tuple(send),
        same,
        tuple(sorted(removed_paths)) if delete else (),
        tuple(foreign),
        differs,
        frozenset(entry.path for entry in send if entry.path in existing),
    )


def _sizes(before: Manifest | None) -> dict[str, int]:
    """Return the bytes of all that a published manifest proves ours."""
    if before is None:
        return {}
    sizes = {
        rendition.path: rendition.bytes for original in before.originals for rendition in original.renditions
    }
    return {**{orphan.path: orphan.bytes for orphan in before.orphaned}, **sizes}


def _published_paths(store: Storage, existing: Mapping[str, int], *, overwrite: bool) -> Manifest | None:
    if MANIFEST_NAME not in existing:
        return None
    data = store.read(MANIFEST_NAME)
    try:
        return Manifest.model_validate_json(data or b"")
    except ValidationError as error:
        if overwrite:
            return None
        raise PublishError.of(foreign_manifest(MANIFEST_NAME), file=store.name) from error


def deploy(
    plan: DeployPlan,
    *,
    access: ObjectAccess = USUAL_ACCESS,
    progress: Progress | None = None,
    is_cancelled: Callable[[], bool] = lambda: False,
) -> DeployResult:
    """Send what differs, then the manifest, then delete. What fails is said, and the manifest is not sent then.

    `access` says how the files are served where the storage knows that.

    Raises `PublishError` where names are taken by files that are not ours.
    """
    if plan.foreign:
        more = f" and {len(plan.foreign) - 3} more" if len(plan.foreign) > 3 else ""
        names = f"{', '.join(plan.foreign[:3])}{more}"
        raise PublishError.of(foreign_files(names), file=plan.store.name)
    result = DeployResult()
    usual = ServedFiles.from_manifest(plan.manifest, "/").cache
    access = access._replace(cache_control=access.cache_control or usual)
    journal = _journal_file(plan.out, plan.store)
    journal.parent.mkdir(parents=True, exist_ok=True)
    plan.store.remove_leftovers()
    with journal.open("a", encoding="utf-8") as log, ThreadPoolExecutor(_MAX_PARALLEL) as pool:
        sending = {
            pool.submit(_send, plan, rendition, access, is_cancelled): rendition for rendition in plan.send
        }
        try:
            for done in as_completed(sending):
                _on_sent(sending[done], done, result, log)
                if progress and result.sent:
                    progress(result.sent, len(plan.send))
        except BaseException:  # Ctrl-C above all: what waits is not sent, what is sent is in the journal
            pool.shutdown(wait=False, cancel_futures=True)
            raise
    result.stopped = result.sent + len(result.failures) < len(plan.send)
    if result.failures or result.stopped:
        return result
    plan.store.write(MANIFEST_NAME, plan.manifest.as_json().encode(), _FOR_THE_MANIFEST)
    journal.unlink()
    for path in plan.remove:
        plan.store.remove(path)
        result.removed += 1
    return result


def _on_sent(rendition: RenditionEntry, done: Future[bool], result: DeployResult, log: TextIO) -> None:
    """Note that a file was sent, or why not. Raises what is not a `YoungPrismError`."""
    error = done.exception()
    if isinstance(error, YoungPrismError):
        result.failures.append(error)
    elif error:
        raise error
    elif done.result():
        log.write(json.dumps([rendition.path, rendition.sha256]) + "\n")
        log.flush()
        result.sent += 1


def _send(
    plan: DeployPlan, rendition: RenditionEntry, access: ObjectAccess, stopped: Callable[[], bool]
) -> bool:
    if stopped():
        return False
    headers = ObjectHeaders(rendition.type, access.cache_control, access.is_public)
    plan.store.write(rendition.path, _bytes(plan.out, rendition), headers)
    return True


def _bytes(out: Path, rendition: RenditionEntry) -> bytes:
    """Return a rendition's bytes, sure that they are what was made. Raises `OutputError`."""
    try:
        data = (out / rendition.path).read_bytes()
    except OSError as error:
        raise OutputError.of(build_file_unreadable(error.strerror), file=str(out / rendition.path)) from error
    if hashlib.sha256(data).hexdigest() != rendition.sha256:
        raise OutputError.of(BUILD_FILE_CHANGED, file=str(out / rendition.path))
    return data


def _journal_file(out: Path, store: Storage) -> Path:
    name = hashlib.sha256(store.name.encode()).hexdigest()[:16]
    return out / STATE_FOLDER / f"publishing-{name}.jsonl"


def _journal(out: Path, store: Storage) -> dict[str, str]:
    """Return what a publishing that did not end has sent; a damaged last line is passed over."""
    return dict(_lines(_journal_file(out, store)))


def _lines(file: Path) -> Iterator[tuple[str, str]]:
    try:
        lines = file.read_text(encoding="utf-8").splitlines()
    except OSError:
        return
    for line in lines:
        with suppress(ValueError, TypeError):
            path, digest = from_json(line)
            yield path, digest

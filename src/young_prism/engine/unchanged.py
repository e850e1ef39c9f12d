"""Is there anything to do at all? Answered from sizes, times and inodes, without a plan, a manifest or a single byte read.

At the end of a build that left nothing to do, what it was made from (recipe, versions, what was said of originals, the
originals' stamps) is written down as one hash, and what it delivered as a line each with its stamp. The next build
walks the source, asks the system for each of those files, and where all is the same, it has the same result.
"""

from __future__ import annotations

import hashlib
import json
import os
from collections import Counter
from collections.abc import Iterable, Mapping
from contextlib import suppress
from pathlib import Path
from typing import Any

from young_prism.core.errors import OutputError
from young_prism.core.manifest.model import MANIFEST_NAME
from young_prism.core.originals.details import Details
from young_prism.core.originals.facts import FACTS_VERSION
from young_prism.core.originals.scope import Scope
from young_prism.core.plan.keys import PIXELS_VERSION
from young_prism.core.plan.model import LeftOut, Mark
from young_prism.core.recipe.model import Recipe
from young_prism.core.values import Outcome
from young_prism.engine.delivery import BuildResult
from young_prism.engine.ledger import JOURNAL, Stamp
from young_prism.engine.publish import write_atomically
from young_prism.engine.scan import STATE_FOLDER, Found
from young_prism.engine.versions import versions

_FILE = "unchanged"
_VERSION = 1


def asked(recipe: Recipe, details: Details, marks: Mapping[str, Mark], scope: Scope) -> str:
    """Return a hash of all that a build's result hangs on beside the originals."""
    parts = [
        _VERSION,
        FACTS_VERSION,
        PIXELS_VERSION,
        versions(),
        recipe.model_dump(mode="json"),
        sorted((path, detail) for path, detail in details.items()),
        sorted((file, mark.sha256) for file, mark in marks.items()),
        [scope.include, scope.exclude, sorted(scope.out)],
    ]
    return hashlib.sha256(json.dumps(parts).encode()).hexdigest()


def same_as_before(out: Path, context: str, originals: Iterable[Found]) -> BuildResult | None:
    """Return the result of the last build where nothing has changed since, else None."""
    try:
        head, *lines = _lines(out)
        known = json.loads(head)
    except (OSError, ValueError):
        return None
    journal = out / STATE_FOLDER / JOURNAL
    if not isinstance(known, dict) or known.get("context") != context or journal.exists():
        return None
    if known.get("originals") != _originals(originals) or not _all_there(out, lines):
        return None
    with suppress(KeyError, TypeError, ValueError):
        return _result(out, known["result"])
    return None


def remembered(out: Path) -> frozenset[str]:
    """Return the paths of what the last build delivered, where that is written down: they are no originals."""
    with suppress(OSError, ValueError):
        return frozenset(line.split(" ", 3)[3] for line in _lines(out)[1:])
    return frozenset()


def _lines(out: Path) -> list[str]:
    return (out / STATE_FOLDER / _FILE).read_bytes().decode(errors="surrogateescape").split("\n")


def _all_there(out: Path, lines: list[str]) -> bool:
    """Whether every file has the stamp that its line says."""
    base = f"{out}/"
    lstat = os.lstat
    try:
        for line in lines:
            size, mtime_ns, inode, path = line.split(" ", 3)
            info = lstat(base + path)
            if (info.st_size, info.st_mtime_ns, info.st_ino) != (int(size), int(mtime_ns), int(inode)):
                return False
    except (OSError, ValueError):
        return False
    return True


def remember(
    out: Path,
    context: str,
    originals: Iterable[Found],
    delivered: Iterable[tuple[str, Stamp]],
    result: BuildResult,
) -> None:
    """Write down what a build that left nothing to do was made from, and what it delivered. What fails is left unsaid."""
    with suppress(OSError, OutputError):
        manifest = (out / MANIFEST_NAME).lstat()
        stamps = [*delivered, (MANIFEST_NAME, (manifest.st_size, manifest.st_mtime_ns, manifest.st_ino))]
        head = {"context": context, "originals": _originals(originals), "result": _as_dict(result)}
        lines = [json.dumps(head), *(f"{s} {m} {i} {path}" for path, (s, m, i) in stamps)]
        text = "\n".join(lines).encode(errors="surrogateescape")
        write_atomically(out / STATE_FOLDER / _FILE, text, durable=False)


def _originals(originals: Iterable[Found]) -> str:
    digest = hashlib.sha256()
    for found in originals:
        digest.update(f"{found.bytes} {found.mtime_ns} {found.inode} {found.path}\n".encode())
    return digest.hexdigest()


def _as_dict(result: BuildResult) -> dict[str, Any]:
    left = {"failures": result.failures, "skipped": result.skipped}
    return {
        "reused": result.renditions,
        "skipped_items": result.outcomes[Outcome.SKIPPED],
        "failed_items": result.outcomes[Outcome.FAILED],
        "bytes": [result.bytes_originals, result.bytes_renditions],
        "originals": result.originals,
        "warnings": result.warnings,
        **{name: [[one.path, one.error, one.remedy] for one in rows] for name, rows in left.items()},
    }


def _result(out: Path, known: Mapping[str, Any]) -> BuildResult:
    result = BuildResult(out / MANIFEST_NAME)
    result.outcomes = Counter(
        {
            Outcome.REUSED: known["reused"],
            Outcome.SKIPPED: known["skipped_items"],
            Outcome.FAILED: known["failed_items"],
        }
    )
    result.bytes_originals, result.bytes_renditions = known["bytes"]
    result.originals = known["originals"]
    result.warnings = [(path, remark) for path, remark in known["warnings"]]
    result.failures, result.skipped = (
        [LeftOut(path=path, error=error, remedy=remedy, failed=failed) for path, error, remedy in known[name]]
        for name, failed in (("failures", True), ("skipped", False))
    )
    return result

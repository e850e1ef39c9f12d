"""The days and numbers that names are made of: from the clock, the files of originals, and earlier builds."""

from __future__ import annotations

import os
from collections.abc import Iterable
from datetime import UTC, date, datetime
from pathlib import Path

from young_prism.core.naming.context import NO_NAME_CONTEXT, NameContext
from young_prism.core.recipe.model import Names
from young_prism.engine.output.ledger import Ledger


def name_context(names: Names, ledger: Ledger, source: Path, paths: Iterable[str]) -> NameContext:
    """Return what the names of a plan need; nothing where the rules do not ask for it.

    Args:
        names: How renditions are called.
        ledger: The records of the output folder.
        source: The folder of the originals.
        paths: Paths of originals below it.
    """
    if not (names.remembers or names.uses("modified")):
        return NO_NAME_CONTEXT
    entries = ledger.previous_entries
    modified = {}
    if names.uses("modified"):
        modified = {path: day for path in paths if (day := _day_of(source / path))}
    return NameContext(
        build_day=build_day().isoformat(),
        modified=modified,
        numbers={path: entry.number for path, entry in entries.items() if entry.number is not None},
        first_built={path: entry.first_built for path, entry in entries.items() if entry.first_built},
    )


def build_day() -> date:
    """Return the day of a build: today, or that of `SOURCE_DATE_EPOCH` (reproducible-builds.org) in UTC."""
    epoch = os.environ.get("SOURCE_DATE_EPOCH", "")
    if epoch.isdecimal():
        return datetime.fromtimestamp(int(epoch), UTC).date()
    return date.today()  # noqa: DTZ011  (the day of the person who builds)


def _day_of(file: Path) -> str:
    try:
        modified = file.stat().st_mtime
    except OSError:
        return ""
    return datetime.fromtimestamp(modified).date().isoformat()  # noqa: DTZ006  (the day of that person)

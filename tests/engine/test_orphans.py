"""What an earlier recipe made: found after a build with another one, and removed only where it is ours and untouched."""

from __future__ import annotations

from pathlib import Path

import pytest

from tests.support import pictures
from tests.support.builds import build
from young_prism.core.errors import OutputError
from young_prism.core.recipe.ladder import Ladder
from young_prism.core.recipe.model import Names, Recipe
from young_prism.engine.build.options import BuildOptions
from young_prism.engine.build.orphans import find_orphans, remove_orphans
from young_prism.engine.events import Event, ReusedUnchanged
from young_prism.engine.output.lock import output_lock
from young_prism.engine.output.manifest_file import read_manifest

FIRST = Recipe(
    ladder=Ladder(widths=(200,)), formats=pictures.QUICK, names=Names(rule="old/{stem}-{width}.{ext}")
)
SECOND = Recipe(ladder=Ladder(widths=(220,)), formats=pictures.QUICK)


def test_only_what_nothing_plans_and_nobody_touched_goes(source: Path, tmp_path: Path) -> None:
    out = tmp_path / "out"
    with pytest.raises(OutputError, match="no manifest"):
        find_orphans(out)
    build(source, out, FIRST, options=BuildOptions(jobs=2))
    assert not find_orphans(out).owned
    before = pictures.hashes(source)
    build(source, out, SECOND, options=BuildOptions(jobs=2))
    (out / "old" / "photo-200.avif").write_bytes(b"mine now")
    (out / "old" / "notes.txt").write_text("not yours")
    planned = {
        r.path for original in read_manifest(out / "manifest.json").originals for r in original.renditions
    }
    result = find_orphans(out)
    assert "old/photo-200.avif" in result.changed and "old/photo-200.jpg" in {o.path for o in result.owned}
    assert find_orphans(out) == result  # looking changes nothing
    removed = remove_orphans(out)
    assert removed == result and removed.bytes > 0
    assert not any((out / orphan.path).exists() for orphan in removed.owned)
    assert {p.name for p in (out / "old").iterdir()} == {"photo-200.avif", "notes.txt"}
    assert not (out / "deep" / "old").exists()  # a folder that is left empty goes too
    assert all((out / path).is_file() for path in planned)
    assert pictures.hashes(source) == before
    events: list[Event] = []
    again = build(source, out, SECOND, options=BuildOptions(jobs=2), on_event=events.append)
    assert again.outcomes["made"] == 0 and not find_orphans(out).owned
    assert any(isinstance(event, ReusedUnchanged) for event in events), "what stands is known as before"
    with output_lock(out), pytest.raises(OutputError, match="Another run"):
        remove_orphans(out)

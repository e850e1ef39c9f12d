"""A short run of `bench.fuzz`: mutated input is accepted, or refused with a sentence; nothing else happens."""

from __future__ import annotations

import random
import time
from pathlib import Path

import pytest
from bench import fuzz

SHORT = {
    "pictures": 120,
    "TOML": 400,
    "pages": 120,
    "zips": 60,
    "drawings": 200,
    "records": 20,
    "metadata bombs": 12,
    "patterns": 400,
    "settings": 20,
    "SVG animations": 60,
}


@pytest.mark.parametrize("part", SHORT)
def test_no_input_ends_in_a_fault(part: str, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(fuzz, "WORK", tmp_path)
    run, _ = fuzz.PARTS[part]
    outcomes = run(SHORT[part], random.Random(7), time.monotonic() + 300)  # noqa: S311
    assert not outcomes.faults, "\n".join(outcomes.faults)
    assert outcomes.counts["accepted"] and outcomes.counts["refused"]


def test_a_fault_is_noticed() -> None:
    outcomes = fuzz.Outcomes()
    outcomes.call(lambda: 1 / 0, "a division")
    assert outcomes.counts["fault"] == 1 and "ZeroDivisionError" in outcomes.faults[0]

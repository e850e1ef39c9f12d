"""A few kills of `bench.kills`: nothing is lost, and the same bytes are there at the end. `make bench-kills` takes a thousand."""

from __future__ import annotations

import random
from pathlib import Path

import pytest
from bench.kills import Kills, builds, server

from tests.support.commands import command


@pytest.fixture
def kills(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Kills:
    monkeypatch.setenv("YOUNG_PRISM_DATA", str(tmp_path / "history"))
    return Kills(random.Random(3), tmp_path / "here", command)  # noqa: S311


def test_commands_that_are_killed_lose_nothing(kills: Kills) -> None:
    builds(kills, 1)
    assert sum(kills.killed.values()) >= 5


def test_a_server_that_is_killed_loses_nothing_that_it_said_was_saved(kills: Kills) -> None:
    server(kills, 1)
    assert kills.killed

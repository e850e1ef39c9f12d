"""States and their transitions: the tables are complete, and the store keeps to them."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path

import pytest

from tests.support.apps import new_store
from young_prism.store.states import (
    ACTIVE_RUN_STATES,
    DELIVERY_TRANSITIONS,
    RUN_TRANSITIONS,
    UPLOAD_TRANSITIONS,
    DeliveryState,
    RunState,
    UploadState,
)
from young_prism.store.store import Store


@pytest.fixture
def store(tmp_path: Path) -> Iterator[Store]:
    store = new_store(tmp_path / "a.sqlite3")
    store.sources.add("Site", tmp_path, None, tmp_path)
    yield store
    store.close()


def test_every_state_has_a_row_in_its_table() -> None:
    assert set(RUN_TRANSITIONS) == set(RunState)
    assert set(UPLOAD_TRANSITIONS) == set(UploadState)
    assert set(DELIVERY_TRANSITIONS) == set(DeliveryState)


def test_from_every_state_of_a_run_its_end_can_be_reached_and_a_finished_run_never_starts_again() -> None:
    for state in RunState:
        reached, before = {state}, set()
        while reached != before:
            before = set(reached)
            reached |= {later for earlier in before for later in RUN_TRANSITIONS[earlier]}
        assert RunState.DONE in reached, state
    assert not RUN_TRANSITIONS[RunState.DONE]
    assert all(RunState.STOPPED in RUN_TRANSITIONS[state] for state in ACTIVE_RUN_STATES)


@pytest.mark.parametrize("before", RunState)
@pytest.mark.parametrize("after", RunState)
def test_a_run_changes_its_state_only_by_the_table(store: Store, before: RunState, after: RunState) -> None:
    run = store.runs.add(1, origin="page", owner="server", recipe="", version="1", state=before)
    allowed = after is before or after in RUN_TRANSITIONS[before]
    assert store.runs.change(run, state=after) is allowed
    assert store.runs.get(run).state is (after if allowed else before)


def test_a_recorder_does_not_start_a_run_again_that_somebody_stopped(store: Store) -> None:
    run = store.runs.add(1, origin="page", owner="server", recipe="", version="1", state=RunState.STOPPING)
    assert store.runs.add_items(run, [], state=RunState.RUNNING, planned=3) is RunState.STOPPING
    assert store.runs.get(run).state is RunState.STOPPING and store.runs.get(run).planned == 3
    assert store.runs.add_items(99, []) is None


@pytest.mark.parametrize("before", UploadState)
@pytest.mark.parametrize("after", UploadState)
def test_an_upload_changes_its_state_only_by_the_table(
    store: Store, before: UploadState, after: UploadState
) -> None:
    upload = store.uploads.add(1, "a.jpg", "a.jpg", "api")
    path = {UploadState.WORKING: (), UploadState.DONE: (UploadState.DONE,)}.get(before, (before,))
    for state in path:
        store.uploads.change(upload.id, state=state)
    allowed = after is before or after in UPLOAD_TRANSITIONS[before]
    changed = store.uploads.change(upload.id, state=after, error="why")
    assert changed.state is (after if allowed else before)
    assert (changed.error == "why") is allowed

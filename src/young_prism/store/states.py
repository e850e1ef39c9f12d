"""States of runs, uploads and webhook deliveries, and the transitions between them.

The values are stored and appear in the API, so they change only with a migration.
"""

from __future__ import annotations

from collections.abc import Mapping
from enum import StrEnum


class RunState(StrEnum):
    """State of a run."""

    WAITING = "waiting"
    """In the queue: new, resumed, or preempted by a quick run."""
    INSPECTING = "looking"
    RUNNING = "running"
    STOPPING = "stopping"
    """Somebody asked it to stop; items under way are finished first."""
    PAUSING = "pausing"
    PAUSED = "paused"
    STOPPED = "stopped"
    INTERRUPTED = "interrupted"
    """Its process ended without finishing it."""
    FAILED = "failed"
    DONE = "done"

    @property
    def is_active(self) -> bool:
        """Whether a process works on the run or will do so."""
        return self in ACTIVE_RUN_STATES

    @property
    def is_stop_requested(self) -> bool:
        """Whether the run is to stop or to pause."""
        return self in (RunState.STOPPING, RunState.PAUSING)


class UploadState(StrEnum):
    """State of an upload."""

    WORKING = "working"
    DONE = "done"
    FAILED = "failed"
    WITHDRAWN = "withdrawn"


class DeliveryState(StrEnum):
    """State of a message to a webhook."""

    WAITING = "waiting"
    SENT = "sent"
    GIVEN_UP = "given up"


ACTIVE_RUN_STATES = (
    RunState.WAITING,
    RunState.INSPECTING,
    RunState.RUNNING,
    RunState.STOPPING,
    RunState.PAUSING,
)

_ENDED = frozenset({RunState.DONE, RunState.FAILED, RunState.STOPPED, RunState.PAUSED, RunState.INTERRUPTED})

RUN_TRANSITIONS: Mapping[RunState, frozenset[RunState]] = {
    RunState.WAITING: _ENDED - {RunState.DONE} | {RunState.INSPECTING, RunState.STOPPING, RunState.PAUSING},
    RunState.INSPECTING: _ENDED | {RunState.RUNNING, RunState.STOPPING, RunState.PAUSING, RunState.WAITING},
    RunState.RUNNING: _ENDED | {RunState.STOPPING, RunState.PAUSING, RunState.WAITING},
    # It may be done, or fail, before it notices the request.
    RunState.STOPPING: _ENDED - {RunState.PAUSED, RunState.INTERRUPTED},
    RunState.PAUSING: _ENDED - {RunState.INTERRUPTED} | {RunState.STOPPING},
    RunState.PAUSED: frozenset({RunState.WAITING, RunState.STOPPED}),
    RunState.STOPPED: frozenset({RunState.WAITING}),
    RunState.FAILED: frozenset({RunState.WAITING}),
    # A process that was suspended for long counts as gone, and may come back.
    RunState.INTERRUPTED: _ENDED - {RunState.INTERRUPTED} | {RunState.WAITING, RunState.RUNNING},
    RunState.DONE: frozenset(),
}
"""State -> the states that may follow it. Every change of a run's state goes through this table."""

UPLOAD_TRANSITIONS: Mapping[UploadState, frozenset[UploadState]] = {
    UploadState.WORKING: frozenset({UploadState.DONE, UploadState.FAILED, UploadState.WITHDRAWN}),
    UploadState.DONE: frozenset({UploadState.WORKING, UploadState.WITHDRAWN, UploadState.FAILED}),
    UploadState.FAILED: frozenset({UploadState.WORKING, UploadState.DONE, UploadState.WITHDRAWN}),
    UploadState.WITHDRAWN: frozenset({UploadState.WORKING}),
}

DELIVERY_TRANSITIONS: Mapping[DeliveryState, frozenset[DeliveryState]] = {
    DeliveryState.WAITING: frozenset({DeliveryState.SENT, DeliveryState.GIVEN_UP}),
    DeliveryState.SENT: frozenset(),
    DeliveryState.GIVEN_UP: frozenset(),
}


def run_states_before(state: RunState) -> list[str]:
    """Return the values of the states from which a run may change to `state`; a state may always stay as it is."""
    return [before.value for before in RunState if before is state or state in RUN_TRANSITIONS[before]]


def upload_states_before(state: UploadState) -> list[str]:
    """Return the values of the states from which an upload may change to `state`, itself included."""
    return [before.value for before in UploadState if before is state or state in UPLOAD_TRANSITIONS[before]]

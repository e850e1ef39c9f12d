"""Problems of worker processes, on this machine and on others."""

from young_prism.messages.message import Message

TRY_ALONE = "Try it alone. If it fails again, leave it out or export it again, and report it."

CLUSTER_NOT_INSTALLED = Message(
    "Builds on several machines need the package distributed.",
    'Install it with: pip install "young-prism[cluster]".',
)
NO_SCHEDULER = Message(
    "No scheduler answers at this address.",
    "Start one with `dask scheduler`, and give the address that it prints.",
)
NO_WORKERS = Message(
    "The scheduler has no workers.",
    "Start some with `dask worker ADDRESS --nthreads 1`, one for each core of each machine.",
)
OUT_OF_MEMORY = Message(
    "The image needs more memory than a worker may use.", "Reduce it first, or allow more with --memory."
)
SCHEDULER_LOST = Message(
    "The connection to the scheduler was lost.",
    "Start it and its workers, then run again; finished renditions are kept.",
)


def version_differs(*, difference: str, version: str) -> Message:
    return Message(
        f"This worker would produce different bytes: {difference}.",
        f"Install young-prism[cluster] {version} and the same wheels on every machine.",
    )


def version_unknown(*, kind: str, reason: object, version: str) -> Message:
    return Message(
        f"A worker does not report its version ({kind}: {reason}).",
        f"Install young-prism[cluster] {version} on every machine.",
    )


NO_PROCESS = Message("No worker process can be started.", TRY_ALONE)
TIMED_OUT = Message("The image took longer than the time limit.", TRY_ALONE)
SERVER_BUSY = Message("The server is busy.", "Try again in a moment.")


def worker_died(exit_status: int) -> Message:
    return Message(f"The worker process ended with status {exit_status}.", TRY_ALONE)


def unexpected(*, kind: str, reason: object) -> Message:
    return Message(f"An unexpected error occurred ({kind}: {reason}).", TRY_ALONE)

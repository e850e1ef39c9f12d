"""What ended an item, as an error for people."""

from __future__ import annotations

from concurrent.futures import CancelledError
from concurrent.futures.process import BrokenProcessPool

from pebble import ProcessExpired

from young_prism.core.errors import DamagedError, YoungPrismError
from young_prism.engine.workers.process import MEMORY_EXIT

_REMEDY = "Try it alone; if it fails again, take it out and report it."


def describe_failure(error: BaseException) -> YoungPrismError:
    """Say what ended an item."""
    if isinstance(error, YoungPrismError):
        return error
    if isinstance(error, MemoryError) or (
        isinstance(error, ProcessExpired) and error.exitcode == MEMORY_EXIT
    ):
        return DamagedError(
            "It needs more memory than workers may take.",
            remedy="Reduce it first, or allow more with --memory.",
        )
    if isinstance(error, ProcessExpired):
        text = f"Its worker process died (exit {error.exitcode}), tried alone as well."
    elif isinstance(error, (TimeoutError, CancelledError)):
        text = "It took longer than its time limit, tried alone as well."
    elif isinstance(error, BrokenProcessPool):
        text = "No worker process can be started."
    else:
        text = f"Something unforeseen happened ({type(error).__name__}: {error})."
    return DamagedError(text, remedy=_REMEDY)

"""Limits of time, longer on a machine that is busy with other work, so that they tell of a hang and not of the machine."""

from __future__ import annotations

import time
from functools import cache

TEST_S = 60.0
"""The limit of a test on a machine that has nothing else to do."""
_SAMPLE_S = 0.2
_MOST = 10.0


@cache
def slowness() -> float:
    """Return how many seconds pass while this process gets one second of a processor, from 1 to 10, measured once."""
    wall, processor = time.monotonic(), time.process_time()
    while time.process_time() - processor < _SAMPLE_S:
        sum(range(1000))
    return min(_MOST, max(1.0, (time.monotonic() - wall) / _SAMPLE_S))


def limit(seconds: float) -> float:
    """Return a limit that was meant for a machine with nothing else to do, as this one needs it."""
    return seconds * slowness()

"""Limits of time, longer on a machine that is busy with other work, so that they tell of a hang and not of the machine."""

from __future__ import annotations

import time
from functools import cache
from pathlib import Path

TEST_S = 60.0
"""The limit of a test on a machine that has nothing else to do."""
_SAMPLE_S = 0.2
_MOST = 10.0
_SHARED = 3.0
"""At least this where a host takes processors away: it does so for seconds or minutes, of which a sample may see nothing."""


@cache
def slowness() -> float:
    """Return how many seconds pass while this process gets one second of a processor, from 1 to 10, measured once."""
    wall, processor = time.monotonic(), time.process_time()
    while time.process_time() - processor < _SAMPLE_S:
        sum(range(1000))
    least = _SHARED if _stolen() > 0.01 else 1.0
    return min(_MOST, max(least, (time.monotonic() - wall) / _SAMPLE_S))


def _stolen() -> float:
    """Return the share of the time with work to do in which the host of a virtual machine ran something else; 0 if unknown."""
    try:
        user, nice, system, _idle, _iowait, irq, softirq, steal = map(
            int, Path("/proc/stat").read_text().split()[1:9]
        )
    except (OSError, ValueError):
        return 0.0
    return steal / max(1, user + nice + system + irq + softirq + steal)


def limit(seconds: float) -> float:
    """Return a limit that was meant for a machine with nothing else to do, as this one needs it."""
    return seconds * slowness()

"""Bytes, shares and durations in words. kB is 1000 bytes, MB 1000 kB."""

from __future__ import annotations

_KILO = 1000


def format_bytes(count: float) -> str:
    """Write bytes with about three figures: `950 B`, `39 kB`, `8.2 MB`."""
    if abs(count) < _KILO:
        return f"{count:.0f} B"
    value = float(count)
    for unit in ("kB", "MB", "GB", "TB"):
        value /= _KILO
        if abs(value) < 999.5 or unit == "TB":
            digits = 1 if abs(value) < 9.95 else 0
            return f"{value:.{digits}f} {unit}"
    raise AssertionError("unreachable")


def saved_share(before: int, after: int) -> float:
    """Return the share of `before` that is saved, in percent; negative where it grew, 0 where nothing was there."""
    return 0.0 if before == 0 else (before - after) / before * 100


def format_saving(before: int, after: int) -> str:
    """Say a saving as `81 % smaller`, a growth as `12 % larger`, in percent of the original."""
    share = saved_share(before, after)
    if before == 0 or abs(share) < 0.05:
        return "same size"
    digits = 1 if abs(share) < 9.95 or 99 <= share < 100 else 0
    # A saving is rounded down near the top: "100 % smaller" would be a file that is gone.
    amount = min(abs(share), 99.9) if 0 < share < 100 else abs(share)
    return f"{amount:.{digits}f} % {'smaller' if share > 0 else 'larger'}"


def format_duration(seconds: float) -> str:
    """Write a duration: `0.4 s`, `12 s`, `3 min 05 s`, `2 h 10 min`."""
    if seconds < 9.95:
        return f"{seconds:.1f} s"
    whole = round(seconds)
    if whole < 60:
        return f"{whole} s"
    if whole < 3600:
        return f"{whole // 60} min {whole % 60:02d} s"
    return f"{whole // 3600} h {whole % 3600 // 60:02d} min"


def count(number: int, singular: str, many: str = "") -> str:
    """Write a number with its noun: `1 original`, `40 originals`, `12,000 renditions`."""
    return f"{number:,} {singular if number == 1 else many or singular + 's'}"


def plain_number(value: float) -> str:
    """Return a number as a person types it: without a point where it is whole, and no more than six digits after it."""
    return f"{value:.6f}".rstrip("0").rstrip(".") if isinstance(value, float) else str(value)

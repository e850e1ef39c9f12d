"""Widths given as a list. No picture is ever enlarged."""

from __future__ import annotations

from collections.abc import Sequence


def rungs_for(original_width: int, widths: Sequence[int]) -> tuple[int, ...]:
    """Return the widths to make of an original that is `original_width` pixels wide, ascending.

    A width over the original's is left out. Where the original is narrower than the top of the ladder, its own
    width becomes the last rung, so that no detail is lost.
    """
    wanted = sorted(set(widths))
    fitting = [width for width in wanted if width <= original_width]
    if original_width < wanted[-1] and original_width not in fitting:
        fitting.append(original_width)
    return tuple(fitting)

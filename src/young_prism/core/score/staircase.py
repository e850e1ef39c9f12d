"""At what score does this pair of eyes begin to see it? A staircase of forced choices between two pictures.

Two right answers on a level make the next one harder, a wrong one makes it easier: that settles where 71 % are right (Levitt,
"Transformed up-down methods in psychoacoustics", 1971). Values in, values out: who is asked, and how, is not decided here.
"""

from __future__ import annotations

from collections.abc import Sequence
from enum import StrEnum
from typing import NamedTuple

_RIGHT_TO_GO_ON = 2
_TURNS = 6
_COUNTED_TURNS = 4
"""The first turns are still on the way."""
_MOST = 24
_FIRST_STEP = 2


class EyeLimit(StrEnum):
    """What a test found."""

    THRESHOLD = "threshold"
    """Differences begin to be seen at `score`."""
    EVERYTHING = "everything"
    """Even the best level, `score`, was told from the original."""
    NOTHING = "nothing"
    """Even the worst level, `score`, was taken for the original as often as not."""


class StaircaseResult(NamedTuple):
    """What a test found, and the score to aim at after it."""

    seen: EyeLimit
    score: float
    answers: int


class _StaircaseState(NamedTuple):
    level: int
    turns: tuple[int, ...]
    streak: int
    up: bool | None


def next_level(levels: int, answers: Sequence[bool]) -> int | None:
    """Return which of so many levels to ask next, 0 the easiest to see; None when enough was asked.

    `answers` are those so far, right or wrong, in their order: the level that each was asked at follows from those before it.
    """
    state = _after(levels, answers)
    return None if _over(levels, state, answers) else state.level


def verdict(scores: Sequence[float], answers: Sequence[bool]) -> StaircaseResult:
    """Return what the answers say; `scores` are those of the levels, from the one that is easiest to see up."""
    state = _after(len(scores), answers)
    if state.level == len(scores) - 1 and len(state.turns) < _COUNTED_TURNS:
        return StaircaseResult(EyeLimit.EVERYTHING, scores[-1], len(answers))
    if state.level == 0 and len(state.turns) < _COUNTED_TURNS:
        return StaircaseResult(EyeLimit.NOTHING, scores[0], len(answers))
    counted = [scores[level] for level in state.turns[-_COUNTED_TURNS:]] or [scores[state.level]]
    return StaircaseResult(EyeLimit.THRESHOLD, sum(counted) / len(counted), len(answers))


def _over(levels: int, state: _StaircaseState, answers: Sequence[bool]) -> bool:
    if len(answers) >= _MOST or len(state.turns) >= _TURNS:
        return True
    # Four in a row at an end: there is nothing beyond it.
    last = answers[-4:]
    at_end = (state.level == levels - 1 and all(last)) or (state.level == 0 and not any(last))
    return len(last) == 4 and at_end and _stayed(levels, answers)


def _stayed(levels: int, answers: Sequence[bool]) -> bool:
    """Whether the last four answers were all given at one level."""
    return (
        len({_after(levels, answers[:before]).level for before in range(len(answers) - 4, len(answers))}) == 1
    )


def _after(levels: int, answers: Sequence[bool]) -> _StaircaseState:
    state = _StaircaseState(0, (), 0, None)
    for right in answers:
        streak = state.streak + 1 if right else 0
        if right and streak < _RIGHT_TO_GO_ON:
            state = state._replace(streak=streak)
            continue
        turned = state.up is not None and state.up is not right
        turns = (*state.turns, state.level) if turned else state.turns
        step = 1 if turns else _FIRST_STEP
        level = min(levels - 1, state.level + step) if right else max(0, state.level - step)
        state = _StaircaseState(level, turns, 0, right)
    return state

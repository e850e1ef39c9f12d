"""Calls with limits: what takes too much costs its worker and nothing else, and whoever waits gets an error."""

from __future__ import annotations

import os
import time
from collections.abc import Iterator
from typing import Any

import pytest

from tests.support.limits import limit
from young_prism.core.errors import BusyError, DamagedError, RecipeError, YoungPrismError
from young_prism.engine.workers import warm_pool
from young_prism.engine.workers.bounded import BoundedCalls
from young_prism.engine.workers.warm_pool import WarmPool

pytestmark = pytest.mark.own_workers


@pytest.fixture(scope="module")
def bounded() -> Iterator[BoundedCalls]:
    calls = BoundedCalls(jobs=1)
    yield calls
    calls.close()


def burn() -> None:
    while True:
        sum(range(1000))


def grow() -> None:
    held = []
    while True:
        held.append(bytearray(os.urandom(1 << 20)))


def end() -> None:
    os._exit(7)


def fail() -> None:
    raise RecipeError("It is wrong.", file="a.toml", remedy="Correct it.")


class Unreadable:
    """A result that cannot be read where it arrives, as of a module that does not load there."""

    def __reduce__(self) -> tuple[Any, ...]:
        return (_refuse, ())


def _refuse() -> None:
    raise ImportError("not here")


def unreadable() -> Unreadable:
    return Unreadable()


@pytest.mark.parametrize(
    ("function", "text"),
    [(burn, "time limit"), (grow, "more memory"), (end, "status 7"), (unreadable, "ImportError")],
)
def test_what_takes_too_much_or_dies_is_an_error_and_the_next_call_is_answered(
    bounded: BoundedCalls, function: Any, text: str
) -> None:
    began = time.monotonic()
    with pytest.raises(DamagedError, match=text):
        bounded(function)
    assert time.monotonic() - began < limit(20)
    assert bounded(abs, -3) == 3


def test_errors_come_back_as_they_are(bounded: BoundedCalls) -> None:
    with pytest.raises(RecipeError) as error:
        bounded(fail)
    assert (error.value.file, error.value.remedy) == ("a.toml", "Correct it.")


def test_a_thread_that_dies_fails_what_waits_and_is_replaced(monkeypatch: pytest.MonkeyPatch) -> None:
    pool = WarmPool("dying", timeout_s=60, jobs=1)

    def broken(*_: object) -> None:
        raise RuntimeError("lost")

    with monkeypatch.context() as patch:
        patch.setattr(warm_pool.Pool, "run", broken)
        with pytest.raises(YoungPrismError, match="lost"):
            pool.submit(abs, -1).result(timeout=limit(20))
    assert pool.submit(abs, -2).result(timeout=limit(30)) == 2
    pool.close()


def test_calls_after_the_end_are_refused() -> None:
    calls = BoundedCalls(jobs=1)
    calls.close()
    with pytest.raises(BusyError, match="busy"):
        calls(abs, -1)

"""Rate limits, counted in memory in a moving window."""

from __future__ import annotations

import time

from limits import RateLimitItemPerMinute
from limits.storage import MemoryStorage
from limits.strategies import MovingWindowRateLimiter

from young_prism.messages.api import too_many_requests
from young_prism.web.problems import Problem

_RIGHT_TO_WRONG = 40
"""A wrong token counts as so many right ones: nobody tries thousands (our choice)."""


class Rates:
    """How often each token may ask, and how often an address may be wrong; counted in memory."""

    def __init__(self, per_minute: int) -> None:
        self._limiter = MovingWindowRateLimiter(MemoryStorage())
        self._usual = RateLimitItemPerMinute(per_minute)
        self._wrong = RateLimitItemPerMinute(max(1, per_minute // _RIGHT_TO_WRONG))

    def count(self, token_id: str) -> None:
        """Count a request. Raises `Problem` 429 for one too many."""
        if not self._limiter.hit(self._usual, token_id):
            raise self._too_many(self._usual, token_id)

    def count_wrong(self, address: str) -> None:
        """Count a wrong token: nobody tries thousands. Raises `Problem` 429."""
        if not self._limiter.hit(self._wrong, "wrong", address):
            raise self._too_many(self._wrong, "wrong", address)

    def _too_many(self, item: RateLimitItemPerMinute, *key: str) -> Problem:
        reset, _ = self._limiter.get_window_stats(item, *key)
        seconds = max(1, round(reset - time.time()))
        return Problem.of(429, too_many_requests(seconds), headers={"Retry-After": str(seconds)})

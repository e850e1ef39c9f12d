"""Proofs for whoever looks at them: the newest page first, kept by content, dropped as soon as nobody asks any more.

A page says again and again what it wants to see. It gets existing results at once; the rest is made in worker processes of
their own, in the order in which it was asked for, as long as it goes on asking.
"""

from __future__ import annotations

import logging
import threading
import time
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from young_prism.core.errors import DamagedError, YoungPrismError
from young_prism.engine.output.lru import trim_folder
from young_prism.engine.proof.tasks import (
    ProofRequest,
    ProofResult,
    load_cached,
    proof_job,
)
from young_prism.engine.workers.pool import Pool, default_jobs
from young_prism.engine.workers.protocol import Job, PullIterator
from young_prism.messages.workers import unexpected

_log = logging.getLogger(__name__)

_REQUEST_TIMEOUT_S = 4.0
"""Seconds after which a page that has not asked again is taken to be left."""

_IDLE_S = 300.0
"""Seconds without work after which the workers end."""

_MAX_RESULTS = 4000
DEFAULT_BYTES = 500_000_000


@dataclass(slots=True)
class _PageRequest:
    requests: list[ProofRequest]
    asked_at: float


class ProofService:
    """Makes and keeps candidates. `close` it at the end."""

    def __init__(
        self, folder: Path, *, jobs: int | None = None, memory: int | None = None, limit: int = DEFAULT_BYTES
    ) -> None:
        self.folder = folder
        self._limit = limit
        self._pool = Pool(jobs or default_jobs(), memory)
        self._pages: dict[str, _PageRequest] = {}
        self._known: dict[str, ProofResult | YoungPrismError] = {}
        self._news = threading.Condition()
        self._handed: set[str] = set()
        """Keys of what workers are at."""
        self._closing = False
        self._warming = False
        self._thread: threading.Thread | None = None

    def request(
        self, page: str, requests: Sequence[ProofRequest], rank: Callable[[ProofRequest], Any] = lambda _: 0
    ) -> list[ProofResult | YoungPrismError | None]:
        """Say what a page wants to see now, and get the existing results, in the same order, None where it is to come. What it wanted before and does not name now is dropped.

        What has the lowest `rank` is made first.
        """
        results = [self._load_cached(proof_request) for proof_request in requests]
        missing = sorted(
            (
                proof_request
                for proof_request, result in zip(requests, results, strict=True)
                if result is None
            ),
            key=rank,
        )
        with self._news:
            if missing:
                self._pages[page] = _PageRequest(missing, time.monotonic())
                self._start()
            else:
                self._pages.pop(page, None)
            self._news.notify_all()
        return results

    def leave(self, page: str) -> None:
        """Stop what is made for a page that is not looked at any more."""
        with self._news:
            self._pages.pop(page, None)
            self._news.notify_all()

    def warm(self) -> None:
        """Start the workers before the first request: they take a second to start."""
        with self._news:
            self._warming = True
            self._start()
            self._news.notify_all()

    def retry(self) -> None:
        """Forget what failed, so that it is tried again when it is asked for."""
        with self._news:
            self._known = {
                key: result for key, result in self._known.items() if isinstance(result, ProofResult)
            }

    def close(self) -> None:
        """Stop everything, and wait for it."""
        with self._news:
            self._closing = True
            self._pages.clear()
            self._news.notify_all()
        if self._thread:
            self._thread.join()

    def _load_cached(self, request: ProofRequest) -> ProofResult | YoungPrismError | None:
        known = self._known.get(request.key)
        if isinstance(known, YoungPrismError):
            return known
        if known is None or not (self.folder / known.file).is_file():
            known = load_cached(self.folder, request)
            if known:
                self._remember(request.key, known)
        return known

    def _remember(self, key: str, result: ProofResult | YoungPrismError) -> None:
        with self._news:
            while len(self._known) >= _MAX_RESULTS:
                self._known.pop(next(iter(self._known)))
            self._known[key] = result

    def _start(self) -> None:
        if self._thread is None and not self._closing:
            self._thread = threading.Thread(target=self._work, name="proofs")
            self._thread.start()

    def _work(self) -> None:
        try:
            self._work_until_idle()
        except Exception as error:  # noqa: BLE001  (whoever waits must hear of it)
            _log.exception("the thread of the proofs has ended")
            self._pool.close(now=True)
            failure = DamagedError.of(unexpected(kind=type(error).__name__, reason=error))
            with self._news:  # whoever waits gets the error, and the next request starts another thread
                unanswered = [request for page in self._pages.values() for request in page.requests]
                self._pages.clear()
                self._handed.clear()
                self._thread = None
            for request in unanswered:
                self._remember(request.key, failure)

    def _work_until_idle(self) -> None:
        while True:
            with self._news:
                self._news.wait_for(lambda: self._closing or self._warming or self._next_page(), _IDLE_S)
                warming, self._warming = self._warming, False
                if not self._closing and not warming and self._next_page() is None:
                    self._thread = None  # nobody was here for long
                    self._pool.close(now=False)
                    return
                if self._closing:
                    self._pool.close(now=True)
                    return
            if warming:
                self._pool.warm()
            self._serve()
            trim_folder(self.folder, self._limit)

    def _serve(self) -> None:
        """Make what pages want until none wants anything."""
        job: Job[tuple[str, ProofRequest]] = proof_job(self.folder, lambda: self._closing)
        for done in self._pool.run(PullIterator(self._take), job):
            page, request = done.item
            result = done.error or done.result
            self._remember(request.key, result)
            with self._news:
                self._handed.discard(request.key)
                waiting = self._pages.get(page)
                if waiting:
                    waiting.requests = [
                        proof_request
                        for proof_request in waiting.requests
                        if proof_request.key != request.key
                    ]

    def _take(self) -> tuple[str, ProofRequest] | None:
        """Return what to do next, from the page that asked last."""
        with self._news:
            page = self._next_page(self._handed)
            if page is None:
                return None
            request = next(
                proof_request
                for proof_request in self._pages[page].requests
                if proof_request.key not in self._handed
            )
            self._handed.add(request.key)
            return page, request

    def _next_page(self, handed: set[str] | frozenset[str] = frozenset()) -> str | None:
        """Return the page that asked last among those that go on asking and want something; drop those that were left."""
        now = time.monotonic()
        for name in [name for name, page in self._pages.items() if now - page.asked_at > _REQUEST_TIMEOUT_S]:
            del self._pages[name]
        open_ones = [
            (page.asked_at, name)
            for name, page in self._pages.items()
            if any(proof_request.key not in handed for proof_request in page.requests)
        ]
        return max(open_ones)[1] if open_ones else None

"""Publishing of uploads: their renditions go to a folder or a storage as soon as they are made, and a cache in front hears of it."""

from __future__ import annotations

import json
import logging
import threading
import time
from collections.abc import Callable, Sequence
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

from young_prism.core.errors import PublishError, YoungPrismError
from young_prism.core.recipe.publishing import Publish
from young_prism.engine.handoff.deploy import deploy, plan_deploy
from young_prism.engine.handoff.storage import FolderStorage, ObjectAccess, Storage, storage_at
from young_prism.messages.publishing import ENDPOINT_NOT_ALLOWED, FOLDER_NOT_ALLOWED, failed, purge_failed
from young_prism.services.outgoing import OutgoingClient
from young_prism.services.settings import Settings
from young_prism.services.uploads.processing import PublishResult

_log = logging.getLogger(__name__)

_PARALLEL = 4
"""Sources that are published at the same time."""
_MOST_THREADS = 64
"""Sources that are published, or wait for that or for a cache: threads that wait cost little, and none waits for another's cache."""
_PURGE_S = 60.0
"""Seconds for all messages to a cache about one publication."""
_PURGED_AT_ONCE = 100
"""Addresses in one message to a cache."""


OnPublished = Callable[[PublishResult], None]
"""Called when a build was published, or could not be."""


def open_storage(settings: Settings, address: str, endpoint: str) -> Storage:
    """Return a storage that pages and recipes may publish to.

    Raises:
        PublishError: The server was not started with this endpoint, the folder lies neither below those that it was started
            with nor below `published` in the data folder, or the address cannot be used.
    """
    if endpoint.rstrip("/") not in ("", *settings.endpoints):
        raise PublishError.of(ENDPOINT_NOT_ALLOWED, file=endpoint)
    storage = storage_at(address, endpoint.rstrip("/"))
    if isinstance(storage, FolderStorage):
        folder = storage.folder.expanduser().resolve()
        allowed = (*settings.roots, settings.published)
        is_data = folder.is_relative_to(settings.data) and not folder.is_relative_to(settings.published)
        if is_data or not any(folder.is_relative_to(root.resolve()) for root in allowed):
            raise PublishError.of(FOLDER_NOT_ALLOWED, file=storage.name)
    return storage


class UploadPublisher:
    """Publishes builds on threads of its own, those of one source one after the other. `close` it at the end."""

    def __init__(self, settings: Settings) -> None:
        self._settings = settings
        self._pool = ThreadPoolExecutor(_MOST_THREADS, thread_name_prefix="publishing")
        self._locks: dict[Path, threading.Lock] = {}
        self._turns = threading.BoundedSemaphore(_PARALLEL)
        self._closing = threading.Event()

    def submit(self, out: Path, publish: Publish, on_published: OnPublished) -> None:
        """Publish what differs of the build in a folder, and call back. What is not done when the server ends is not called for."""
        if self._closing.is_set():
            return
        lock = self._locks.setdefault(out, threading.Lock())
        self._pool.submit(self._run, out, publish, on_published, lock)

    def close(self) -> None:
        """Stop after the files under way, and wait for that."""
        self._closing.set()
        self._pool.shutdown(cancel_futures=True)

    def _run(self, out: Path, publish: Publish, on_published: OnPublished, lock: threading.Lock) -> None:
        try:
            with lock:
                result = self._publish(out, publish)
            if not self._closing.is_set():
                on_published(result)
        except Exception:  # noqa: BLE001  (the next builds must still be published)
            _log.exception("the result of a publication could not be recorded")

    def _publish(self, out: Path, publish: Publish) -> PublishResult:
        try:
            storage = open_storage(self._settings, publish.to, publish.endpoint)
            plan = plan_deploy(out, storage, delete=True)
            access = ObjectAccess(publish.cache_control, is_public=publish.public_read)
            with self._turns:
                result = deploy(plan, access=access, is_cancelled=self._closing.is_set)
            if result.failures:
                return PublishResult(is_published=False, error=result.failures[0])
        except YoungPrismError as error:
            return PublishResult(is_published=False, error=error)
        except Exception as error:  # noqa: BLE001  (an upload must not wait for ever)
            _log.exception("the renditions of an upload could not be published")
            failure = PublishError.of(failed(type(error).__name__), file=publish.to)
            return PublishResult(is_published=False, error=failure)
        return PublishResult(
            is_published=True, error=self._purge(publish, [*sorted(plan.replaced), *plan.remove])
        )

    def _purge(self, publish: Publish, paths: Sequence[str]) -> PublishError | None:
        """Send the addresses whose content changed to the purge address; return the error where it does not accept them."""
        if not publish.purge:
            return None
        urls = [publish.address_of(path) for path in paths]
        client = OutgoingClient(private=self._settings.allows_private_webhooks)
        until = time.monotonic() + _PURGE_S
        for first in range(0, len(urls), _PURGED_AT_ONCE):
            body = json.dumps({"urls": urls[first : first + _PURGED_AT_ONCE]}).encode()
            if time.monotonic() > until or self._closing.is_set():
                return PublishError.of(purge_failed(f"took longer than {_PURGE_S:.0f} s"), file=publish.purge)
            reply = client.post(publish.purge, body, {"content-type": "application/json"})
            if not reply.is_success:
                return PublishError.of(purge_failed(reply.text), file=publish.purge)
        return None

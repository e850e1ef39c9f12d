"""Tells other programs that an upload is done: signed, in order, and again with growing pauses until it was heard.

The form is that of Standard Webhooks (1.0.0, an open specification): headers `webhook-id`, `webhook-timestamp` and
`webhook-signature`, the signature HMAC-SHA256 over `id.timestamp.body`, the secret written as `whsec_` and base64.
"""

from __future__ import annotations

import base64
import hashlib
import hmac
import json
import logging
import secrets
import threading
import time
from collections.abc import Mapping
from concurrent.futures import Future, ThreadPoolExecutor
from contextlib import suppress
from datetime import UTC, datetime, timedelta

from young_prism.core.errors import AccessError
from young_prism.messages.access import PRIVATE_ADDRESS
from young_prism.services.outgoing import OutgoingClient, PrivateAddressError, host_and_port, public_address
from young_prism.services.uploads.schemas import UploadSerializer
from young_prism.store.records import Upload, Webhook, WebhookDelivery
from young_prism.store.states import DeliveryState
from young_prism.store.store import Store

_log = logging.getLogger(__name__)

RETRY_DELAYS_S = (5, 30, 120, 600, 3600, 6 * 3600, 24 * 3600)
"""Between the attempts; after the last one it is given up."""
_LOOK_EVERY_S = 2.0
_MOST_RECEIVERS = 64
"""Receivers that are sent to at the same time."""
_PREFIX = "whsec_"
TOLERANCE_S = 300
"""How far a receiver lets the time of a message be off, so that none is played to it again later (Standard Webhooks)."""


def new_secret() -> str:
    """Return a secret for a webhook, as its receiver is given it."""
    return _PREFIX + base64.b64encode(secrets.token_bytes(24)).decode()


def signature(secret: str, message_id: str, timestamp: int, body: bytes) -> str:
    """Return the value of the header `webhook-signature`."""
    key = base64.b64decode(secret.removeprefix(_PREFIX))
    digest = hmac.new(key, f"{message_id}.{timestamp}.".encode() + body, hashlib.sha256).digest()
    return "v1," + base64.b64encode(digest).decode()


def verify_signature(
    secret: str, headers: Mapping[str, str], body: bytes, *, now: float | None = None
) -> bool:
    """Whether a message was signed with a secret, and not long ago: what a receiver has to check. Headers in lower case."""
    try:
        timestamp = int(headers["webhook-timestamp"])
        expected = signature(secret, headers["webhook-id"], timestamp, body)
        signatures = headers["webhook-signature"].split()
    except (KeyError, ValueError):
        return False
    recent = abs((time.time() if now is None else now) - timestamp) <= TOLERANCE_S
    return recent and any(hmac.compare_digest(expected, candidate) for candidate in signatures)


class WebhookDispatcher:
    """Sends what is on its way; `close` it at the end.

    One thread looks for messages that are due. Each receiver has a thread of its own while it has some, so that a receiver that
    is slow, or never answers, delays only its own messages. Messages go to private addresses only where `private` says so.
    """

    def __init__(self, store: Store, answers: UploadSerializer, *, private: bool = True) -> None:
        self._store = store
        self._answers = answers
        self._private = private
        self._news = threading.Event()
        self._closing = threading.Event()
        self._receivers = ThreadPoolExecutor(_MOST_RECEIVERS, thread_name_prefix="webhook")
        self._under_way: dict[int, Future[None]] = {}
        self._thread = threading.Thread(target=self._work, name="messenger")
        self._thread.start()

    def add(self, url: str) -> Webhook:
        """Add an address. Raises `AccessError` for what is none that can be called."""
        parts = host_and_port(url)
        if not self._private:
            with suppress(
                OSError
            ):  # an unknown name may be known later, and is checked again for each message
                try:
                    public_address(*parts)
                except PrivateAddressError as error:
                    raise AccessError.of(PRIVATE_ADDRESS, file=url) from error
        return self._store.webhooks.add(url.strip(), new_secret())

    def enqueue(self, row: Upload) -> None:
        """Say to all webhooks that an upload is done, or failed."""
        hooks = self._store.webhooks.all()
        if not hooks:
            return
        source = self._store.sources.get(row.source_id)
        if source is None:
            return
        now = datetime.now(UTC).isoformat(timespec="seconds")
        data = self._answers.serialize(row, source).model_dump(mode="json")
        body = json.dumps({"type": f"upload.{row.state}", "timestamp": now, "data": data})
        for hook in hooks:
            self._store.webhooks.enqueue(f"msg_{secrets.token_urlsafe(18)}", hook.id, row.id, body)
        self._news.set()

    def close(self) -> None:
        """Stop, and wait for what is under way. What waits is sent by the next server."""
        self._closing.set()
        self._news.set()
        self._thread.join()

    def _work(self) -> None:
        while not self._closing.is_set():
            self._news.wait(_LOOK_EVERY_S)
            self._news.clear()
            try:
                for hook in self._store.webhooks.all():
                    running = self._under_way.get(hook.id)
                    if running is None or running.done():
                        self._under_way[hook.id] = self._receivers.submit(self._deliver, hook)
            except Exception:  # noqa: BLE001  (the next messages must still be sent)
                _log.exception("messages could not be sent")
        self._receivers.shutdown(cancel_futures=True)

    def _deliver(self, hook: Webhook) -> None:
        """Send what is due to one receiver, the oldest first."""
        try:
            client = OutgoingClient(private=self._private)
            while deliveries := self._store.webhooks.due(hook.id, datetime.now(UTC)):
                for delivery in deliveries:
                    if self._closing.is_set():
                        return
                    self._send(client, delivery, hook)
        except Exception:  # noqa: BLE001  (it is tried again at the next look)
            _log.exception("messages to a receiver could not be sent")

    def _send(self, client: OutgoingClient, delivery: WebhookDelivery, hook: Webhook) -> None:
        body, now = delivery.body.encode(), int(time.time())
        headers = {
            "content-type": "application/json",
            "webhook-id": delivery.id,
            "webhook-timestamp": str(now),
            "webhook-signature": signature(hook.secret, delivery.id, now, body),
        }
        reply = client.post(hook.url, body, headers)
        if reply.is_success:
            state, next_at = DeliveryState.SENT, None
        elif delivery.attempts < len(RETRY_DELAYS_S):
            state, next_at = (
                DeliveryState.WAITING,
                datetime.now(UTC) + timedelta(seconds=RETRY_DELAYS_S[delivery.attempts]),
            )
        else:
            state, next_at = DeliveryState.GIVEN_UP, None
        self._store.webhooks.attempted(delivery.id, reply.text, state=state, next_at=next_at)

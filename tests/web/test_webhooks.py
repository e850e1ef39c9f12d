"""Webhooks: signed as Standard Webhooks says, sent again until they are heard, and not to be played again."""

from __future__ import annotations

import socket
import threading
import time
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

import pytest

from tests.support import pictures
from tests.support.doors import Doors, doors
from tests.support.pages import wait_for
from young_prism.cli.receive_webhooks import receiver
from young_prism.core.errors import AccessError
from young_prism.services import webhooks
from young_prism.services.outgoing import DEADLINE_S
from young_prism.services.webhooks import signature, verify_signature
from young_prism.store.records import Webhook


def test_a_message_is_signed_as_the_specification_says() -> None:
    # The worked example of the specification's own reference libraries (Standard Webhooks, tests; from memory).
    secret = "whsec_MfKQ9r8GKYqrTwjUPD8ILPZIo2LaLaSw"  # noqa: S105  (of the example)
    body, message = b'{"test": 2432232314}', "msg_p5jXN8AQM9LWM0D4loKWxJek"
    signed = signature(secret, message, 1614265330, body)
    assert signed == "v1,g0hM9SsE+OTPJTGt/tmIKtSyZlE3uFJELVlNIOLJ1OE="
    headers = {
        "webhook-id": message,
        "webhook-timestamp": "1614265330",
        "webhook-signature": f"v1,other {signed}",
    }
    assert verify_signature(secret, headers, body, now=1614265330)
    assert not verify_signature(secret, headers, body, now=1614265330 + 600)  # a replay
    assert not verify_signature(secret, headers, body + b" ", now=1614265330)
    assert not verify_signature(secret, {}, body, now=1614265330)


@contextmanager
def listening(door: Doors, *, refuse: int) -> Iterator[Webhook]:
    """Add a webhook whose receiver refuses the first messages, and let the receiver run."""
    reserved = receiver(0, "whsec_x", refuse=refuse)
    reserved.server_close()
    hook = door.parts.webhooks.add(f"http://127.0.0.1:{reserved.server_port}/")
    stand_in = receiver(reserved.server_port, hook.secret, refuse=refuse)
    thread = threading.Thread(target=stand_in.serve_forever)
    thread.start()
    try:
        yield hook
    finally:
        stand_in.shutdown()
        thread.join()
        stand_in.server_close()


def test_an_upload_that_is_done_is_told_until_it_is_heard(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch, capfd: pytest.CaptureFixture[str]
) -> None:
    monkeypatch.setattr(webhooks, "RETRY_DELAYS_S", (0, 0, 0))
    with doors(tmp_path) as door:
        with listening(door, refuse=1) as hook:
            result = door.send(pictures.jpeg(pictures.photo(80, 60)), title="Told")
            wait_for(lambda: door.parts.store.webhooks.deliveries()[0].state == "sent")
            [message] = door.parts.store.webhooks.deliveries()
        assert (message.state, message.attempts, message.upload_id) == ("sent", 2, result["id"])
        page = door.http.get("/access").text
        assert "answered 204" in page and hook.url in page
    assert "upload.done: Told, 6 renditions" in capfd.readouterr().err


def test_only_addresses_that_can_be_called_are_taken(tmp_path: Path) -> None:
    with doors(tmp_path) as door, pytest.raises(AccessError, match="cannot be called"):
        door.parts.webhooks.add("file:///etc/passwd")


def test_a_receiver_that_never_answers_delays_only_its_own_messages(
    tmp_path: Path, capfd: pytest.CaptureFixture[str]
) -> None:
    with doors(tmp_path) as door, socket.create_server(("127.0.0.1", 0)) as silent:
        for _ in range(2):  # the first webhooks, and so the first to be sent to
            door.parts.webhooks.add(f"http://127.0.0.1:{silent.getsockname()[1]}/")
        with listening(door, refuse=0):
            door.send(pictures.jpeg(pictures.photo(80, 60)), title="Told")
            began = time.monotonic()
            wait_for(lambda: any(each.state == "sent" for each in door.parts.store.webhooks.deliveries()))
            assert time.monotonic() - began < DEADLINE_S
    capfd.readouterr()

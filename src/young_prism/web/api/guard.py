"""Who may do what through the API: token and scope, rate limits, and requests that are sent twice."""

from __future__ import annotations

import hashlib
import json
from typing import Any, NamedTuple

from flask import Response, request

from young_prism.messages.api import KEY_BUSY, KEY_USED, NO_TOKEN, WRONG_TOKEN, key_too_long, missing_scope
from young_prism.services.auth.tokens import TokenScope
from young_prism.store.records import AccessToken
from young_prism.web.context import services
from young_prism.web.problems import Problem

_LONGEST_KEY = 255
_KEPT_HEADERS = ("Location", "ETag")


class Caller(NamedTuple):
    """Whose token came with a request."""

    token: AccessToken

    def may(self, scope: TokenScope) -> bool:
        """Whether the token has a scope."""
        return scope.value in self.token.scopes


def authenticate(scope: TokenScope) -> Caller:
    """Return who calls, and count the request. Raises `Problem` 401 (RFC 6750, 3.1), 403 or 429."""
    caller = check_token(scope)
    services().rates.count(caller.token.id)
    return caller


def check_token(scope: TokenScope) -> Caller:
    """Return who calls; only a wrong token counts. Raises `Problem` 401, 403 or, after too many wrong ones, 429."""
    scheme, _, token = request.headers.get("Authorization", "").partition(" ")
    parts = services()
    row = parts.tokens.check(token.strip()) if scheme.lower() == "bearer" else None
    if row is None:
        parts.rates.count_wrong(request.remote_addr or "")
        wrong = 'Bearer realm="Young Prism", error="invalid_token"'
        raise Problem.of(
            401,
            WRONG_TOKEN if scheme else NO_TOKEN,
            headers={"WWW-Authenticate": wrong if scheme else 'Bearer realm="Young Prism"'},
        )
    caller = Caller(row)
    if not caller.may(scope):
        raise Problem.of(
            403,
            missing_scope(scope=scope.value, permission=scope.label),
            headers={
                "WWW-Authenticate": f'Bearer realm="Young Prism", error="insufficient_scope", scope="{scope.value}"'
            },
        )
    return caller


def replay_response(caller: Caller) -> Response | None:
    """Return the answer that this request got when it was sent before; None where it is a new one.

    By the header `Idempotency-Key` (IETF draft of that name). Raises `Problem` 409 while the first one is being worked on, and 422 where
    the key came with another request.
    """
    key = _key()
    if not key:
        return None
    fingerprint = _fingerprint()
    known = services().store.access.begin_answer(caller.token.id, key, fingerprint)
    if known is None:
        return None
    if known.fingerprint != fingerprint:
        raise Problem.of(422, KEY_USED)
    if known.status is None:
        raise Problem.of(409, KEY_BUSY, headers={"Retry-After": "1"})
    return Response(
        json.dumps(known.body, ensure_ascii=False),
        status=known.status,
        mimetype="application/json",
        headers={**(known.headers or {}), "Cache-Control": "no-store", "Idempotency-Replayed": "true"},
    )


def store_response(caller: Caller, answer: Response | None) -> None:
    """Keep an answer for those who send the request again; one that failed may be tried again with the same key."""
    key = _key()
    if not key:
        return
    response = None
    if answer is not None and answer.status_code < 300:
        headers = {name: answer.headers[name] for name in _KEPT_HEADERS if name in answer.headers}
        response = (answer.status_code, json.loads(answer.get_data()), headers)
    services().store.access.end_answer(caller.token.id, key, response)


def _key() -> str:
    key = request.headers.get("Idempotency-Key", "").strip()
    if len(key) > _LONGEST_KEY or not key.isprintable():
        raise Problem.of(422, key_too_long(_LONGEST_KEY))
    return key


def _fingerprint() -> str:
    """Return what tells one request from another: method, address, and all that was sent."""
    digest = hashlib.sha256(f"{request.method} {request.full_path} {request.mimetype}".encode())
    if request.mimetype == "multipart/form-data":  # its boundary is another one each time
        for name, value in sorted(request.form.items(multi=True)):
            digest.update(f"{name}\0{value}\0".encode())
        for name, file in sorted(request.files.items(multi=True)):
            digest.update(f"{name}\0{file.filename}\0".encode())
            _add(digest, file.stream)
    else:
        _add(digest, request.environ["wsgi.input"])  # a file that can be read from any place in it
    return digest.hexdigest()


def _add(digest: Any, stream: Any) -> None:
    while chunk := stream.read(1 << 20):
        digest.update(chunk)
    stream.seek(0)

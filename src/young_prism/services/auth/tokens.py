"""Tokens of the API: a random secret that is shown once, and of which only the hash is kept.

A secret of 256 random bits needs no slow hash: there is nothing to guess (common practice; NIST SP 800-63B asks for one
where people choose). The first part is public, to find the row by; the rest is compared in constant time.
"""

from __future__ import annotations

import hashlib
import hmac
import re
import secrets
from collections.abc import Sequence
from datetime import UTC
from enum import StrEnum
from typing import NamedTuple

from young_prism.core.errors import AccessError
from young_prism.messages.access import NO_SUCH_TOKEN, no_scope, token_needs_name, unknown_scope
from young_prism.store.records import AccessToken
from young_prism.store.store import Store

_FORM = re.compile(r"yp_([0-9a-z]{12})_([A-Za-z0-9_-]{43})")
_MOST_NAME = 80
_MOST_FRESH = 100


class TokenScope(StrEnum):
    """What a token may be used for."""

    READ = "read"
    """See uploads, runs and recipes."""
    UPLOAD = "upload"
    """Send pictures."""
    CHANGE = "change"
    """Change words and focal points, replace, undo."""
    DELETE = "delete"
    """Withdraw pictures."""
    RUN = "run"
    """Start and stop runs."""
    DESK = "desk"
    """Sign in to Desk from another machine, and to nothing else."""
    PAGES = "pages"
    """Sign in to all pages from another machine."""

    @property
    def label(self) -> str:
        """What it allows, in words."""
        return _LABELS[self]


_LABELS = {
    TokenScope.READ: "see uploads, runs and recipes",
    TokenScope.UPLOAD: "upload images",
    TokenScope.CHANGE: "change texts and focal points, replace, undo",
    TokenScope.DELETE: "withdraw uploads",
    TokenScope.RUN: "start and stop runs",
    TokenScope.DESK: "sign in to Desk only, from another machine",
    TokenScope.PAGES: "sign in to all pages from another machine",
}
DEFAULT_SCOPES = (TokenScope.READ, TokenScope.UPLOAD, TokenScope.CHANGE)


class NewToken(NamedTuple):
    """A token that was just made; `secret` is the whole of it, which is shown now and never again."""

    row: AccessToken
    secret: str


class TokenService:
    """Makes, checks and revokes tokens."""

    def __init__(self, store: Store) -> None:
        self._store = store
        self._fresh: dict[str, NewToken] = {}
        """Tokens that were just made, by a key that says nothing of them, until they are shown."""

    def make(self, name: str, scopes: Sequence[str]) -> NewToken:
        """Make one. Raises `AccessError` for a name that is empty or too long, and for scopes that are none."""
        name = name.strip()
        if not name or len(name) > _MOST_NAME:
            raise AccessError.of(token_needs_name(_MOST_NAME))
        unknown = [scope for scope in scopes if scope not in set(TokenScope)]
        if unknown or not scopes:
            known = ", ".join(TokenScope)
            raise AccessError.of(unknown_scope(scope=unknown[0], known=known) if unknown else no_scope(known))
        token_id = "".join(secrets.choice("0123456789abcdefghijklmnopqrstuvwxyz") for _ in range(12))
        secret = secrets.token_urlsafe(32)
        names = [scope.value for scope in TokenScope if scope.value in scopes]
        return NewToken(
            self._store.access.add_token(token_id, name, _digest(secret), names), f"yp_{token_id}_{secret}"
        )

    def keep_to_show(self, made: NewToken) -> str:
        """Keep a new token in memory for the page that shows it, and return the key to fetch it by."""
        key = secrets.token_urlsafe(16)
        while len(self._fresh) >= _MOST_FRESH:
            self._fresh.pop(next(iter(self._fresh)))
        self._fresh[key] = made
        return key

    def take_to_show(self, key: str) -> NewToken | None:
        """Return the new token that was kept under a key; None the second time."""
        return self._fresh.pop(key, None)

    def check(self, secret: str) -> AccessToken | None:
        """Return the row of a token that is right and was not revoked; None for any other."""
        match = _FORM.fullmatch(secret)
        row = self._store.access.token(match[1]) if match else None
        # Compared even where there is no row: the time tells nobody which ids exist.
        right = hmac.compare_digest(_digest(match[2] if match else ""), row.digest if row else "0" * 64)
        if not right or row is None or row.revoked_at is not None:
            return None
        self._store.access.note_use(row)
        return row

    def sign_in(self, row: AccessToken) -> str:
        """Sign a browser in by a token, and return the key for its cookie."""
        key = secrets.token_urlsafe(32)
        self._store.access.sign_in(_digest(key), row.id)
        return key

    def signed_in(self, key: str) -> AccessToken | None:
        """Return the token by which a browser is signed in; None where it is not, has signed out, or the token was revoked."""
        row = self._store.access.signed_in(_digest(key)) if key else None
        return row if row and row.revoked_at is None else None

    def sign_out(self, key: str) -> None:
        """End a sign-in on the server, so that a copy of the cookie opens nothing."""
        self._store.access.sign_out(_digest(key))

    def revoke(self, token_id: str) -> AccessToken:
        """Make one useless from now on. Raises `AccessError` where there is none."""
        row = self._store.access.revoke(token_id)
        if row is None:
            raise AccessError.of(NO_SUCH_TOKEN, file=token_id)
        return row


def describe_scopes(row: AccessToken) -> str:
    """Return when a token was last used, or revoked."""
    if row.revoked_at:
        return f"revoked on {row.revoked_at.replace(tzinfo=UTC):%Y-%m-%d}"
    return f"last used on {row.used_at.replace(tzinfo=UTC):%Y-%m-%d}" if row.used_at else "never used"


def _digest(secret: str) -> str:
    return hashlib.sha256(secret.encode()).hexdigest()

"""Tokens of the API, and what was answered to requests with an idempotency key."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import UTC, datetime, timedelta
from typing import Any

from sqlalchemy import delete, select
from sqlalchemy.exc import IntegrityError

from young_prism.store.models import IdempotentResponseRow, SignInRow, TokenRow
from young_prism.store.records import AccessToken, IdempotentResponse, record_or_none, to_record, to_records
from young_prism.store.sessions import Sessions

_NOTE_USE_EVERY_S = 60
_KEY_LIFETIME = timedelta(hours=24)
_SIGN_IN_LIFETIME = timedelta(days=30)
_GIVEN_UP = timedelta(minutes=10)
"""So long after it began, a request that has no answer is taken to have died with its server."""


class AccessRecords(Sessions):
    """The part of the store that knows who may do what. Of a token only the hash comes here."""

    def add_token(self, token_id: str, name: str, digest: str, scopes: Sequence[str]) -> AccessToken:
        """Store a new token."""
        row = TokenRow(
            id=token_id, name=name, digest=digest, scopes=list(scopes), created_at=datetime.now(UTC)
        )
        with self._session() as session:
            session.add(row)
            session.flush()
            return to_record(AccessToken, row)

    def token(self, token_id: str) -> AccessToken | None:
        """Return one by its public part."""
        with self._session() as session:
            return record_or_none(AccessToken, session.get(TokenRow, token_id))

    def sign_in(self, digest: str, token_id: str) -> None:
        """Store that a browser is signed in by a token. Sign-ins that have expired are deleted."""
        now = datetime.now(UTC)
        with self._session() as session:
            session.execute(delete(SignInRow).where(SignInRow.created_at < now - _SIGN_IN_LIFETIME))
            session.add(SignInRow(digest=digest, token_id=token_id, created_at=now))

    def signed_in(self, digest: str) -> AccessToken | None:
        """Return the token by which a browser is signed in; None where it is not, or not any more."""
        with self._session() as session:
            since = datetime.now(UTC) - _SIGN_IN_LIFETIME
            query = (
                select(TokenRow)
                .join(SignInRow, SignInRow.token_id == TokenRow.id)
                .where(SignInRow.digest == digest, SignInRow.created_at >= since)
            )
            return record_or_none(AccessToken, session.scalar(query))

    def sign_out(self, digest: str) -> None:
        """End a sign-in; a copy of its cookie opens nothing from now on."""
        with self._session() as session:
            session.execute(delete(SignInRow).where(SignInRow.digest == digest))

    def tokens(self) -> list[AccessToken]:
        """Return all of them, the newest first; those that were revoked too."""
        with self._session() as session:
            return to_records(
                AccessToken, session.scalars(select(TokenRow).order_by(TokenRow.created_at.desc()))
            )

    def revoke(self, token_id: str) -> AccessToken | None:
        """Make a token useless from now on; return it, None where there is none."""
        with self._session() as session:
            row = session.get(TokenRow, token_id)
            if row and row.revoked_at is None:
                row.revoked_at = datetime.now(UTC)
                session.flush()
            return record_or_none(AccessToken, row)

    def note_use(self, row: AccessToken) -> None:
        """Remember when a token was last used, to the minute."""
        now = datetime.now(UTC)
        if row.used_at and (now - row.used_at.replace(tzinfo=UTC)).total_seconds() < _NOTE_USE_EVERY_S:
            return
        with self._session() as session:
            stored = session.get(TokenRow, row.id)
            if stored:
                stored.used_at = now

    def begin_answer(self, token_id: str, key: str, fingerprint: str) -> IdempotentResponse | None:
        """Take a key for a request that begins; return what is known of it where it was taken before."""
        now = datetime.now(UTC)
        with self._session() as session:
            session.execute(
                delete(IdempotentResponseRow).where(IdempotentResponseRow.at < now - _KEY_LIFETIME)
            )
            session.execute(
                delete(IdempotentResponseRow).where(
                    IdempotentResponseRow.status.is_(None), IdempotentResponseRow.at < now - _GIVEN_UP
                )
            )
        try:
            with self._session() as session:
                session.add(
                    IdempotentResponseRow(token_id=token_id, key=key, fingerprint=fingerprint, at=now)
                )
        except IntegrityError:
            with self._session() as session:
                return record_or_none(IdempotentResponse, session.get(IdempotentResponseRow, (token_id, key)))
        return None

    def end_answer(
        self, token_id: str, key: str, answer: tuple[int, dict[str, Any], dict[str, str]] | None
    ) -> None:
        """Keep the answer for those who ask again; without one the key is free again."""
        with self._session() as session:
            row = session.get(IdempotentResponseRow, (token_id, key))
            if row and answer is None:
                session.delete(row)
            elif row and answer:
                row.status, row.body, row.headers = answer

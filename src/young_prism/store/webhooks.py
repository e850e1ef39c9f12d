"""Webhooks, and the messages that are on their way to them."""

from __future__ import annotations

from datetime import UTC, datetime, timedelta

from sqlalchemy import delete, select

from young_prism.store.models import DeliveryRow, WebhookRow
from young_prism.store.records import Webhook, WebhookDelivery, to_record, to_records
from young_prism.store.sessions import Sessions
from young_prism.store.states import DeliveryState

_RETENTION = timedelta(days=30)


class WebhookRecords(Sessions):
    """The part of the store that holds them."""

    def add(self, url: str, secret: str) -> Webhook:
        """Add an address."""
        row = WebhookRow(url=url, secret=secret, created_at=datetime.now(UTC))
        with self._session() as session:
            session.add(row)
            session.flush()
            return to_record(Webhook, row)

    def all(self) -> list[Webhook]:
        """Return all of them, in the order in which they were added."""
        with self._session() as session:
            return to_records(Webhook, session.scalars(select(WebhookRow).order_by(WebhookRow.id)))

    def remove(self, webhook_id: int) -> None:
        """Forget one, and what was on its way to it."""
        with self._session() as session:
            session.execute(delete(WebhookRow).where(WebhookRow.id == webhook_id))

    def enqueue(self, delivery_id: str, webhook_id: int, upload_id: str, body: str) -> None:
        """Put a message on its way; old ones that are over are forgotten."""
        now = datetime.now(UTC)
        with self._session() as session:
            session.execute(
                delete(DeliveryRow).where(
                    DeliveryRow.state != DeliveryState.WAITING, DeliveryRow.at < now - _RETENTION
                )
            )
            session.add(
                DeliveryRow(
                    id=delivery_id,
                    webhook_id=webhook_id,
                    upload_id=upload_id,
                    body=body,
                    at=now,
                    state=DeliveryState.WAITING,
                    attempts=0,
                    next_at=now,
                    said="",
                )
            )

    def due(self, webhook_id: int, now: datetime) -> list[WebhookDelivery]:
        """Return the next messages to send to one webhook now, the oldest first."""
        query = (
            select(DeliveryRow)
            .where(
                DeliveryRow.webhook_id == webhook_id,
                DeliveryRow.state == DeliveryState.WAITING,
                DeliveryRow.next_at <= now,
            )
            .order_by(DeliveryRow.at)
            .limit(20)
        )
        with self._session() as session:
            return to_records(WebhookDelivery, session.scalars(query))

    def attempted(
        self, delivery_id: str, result_text: str, *, state: DeliveryState, next_at: datetime | None
    ) -> None:
        """Store the result of an attempt."""
        with self._session() as session:
            row = session.get(DeliveryRow, delivery_id)
            if row:
                row.attempts += 1
                row.said, row.state, row.next_at = result_text, state, next_at

    def deliveries(self, *, limit: int = 20) -> list[WebhookDelivery]:
        """Return the newest messages."""
        with self._session() as session:
            query = select(DeliveryRow).order_by(DeliveryRow.at.desc()).limit(limit)
            return to_records(WebhookDelivery, session.scalars(query))

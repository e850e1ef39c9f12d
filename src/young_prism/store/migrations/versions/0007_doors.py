"""Uploads, tokens and webhooks; watched sources; credits."""

from __future__ import annotations

from typing import Any

import sqlalchemy as sa
from alembic import op

revision = "0007"
down_revision = "0006"

_time = sa.DateTime(timezone=True)


def _of(
    table: str, *, kind: sa.types.TypeEngine[Any], name: str, primary_key: bool = False
) -> sa.Column[Any]:
    return sa.Column(
        name,
        kind,
        sa.ForeignKey(f"{table}.id", ondelete="CASCADE"),
        nullable=False,
        primary_key=primary_key,
    )


def upgrade() -> None:
    op.add_column("detail", sa.Column("credit", sa.Text(), nullable=False, server_default=""))
    op.add_column("source", sa.Column("watched", sa.Boolean(), nullable=False, server_default=sa.false()))
    op.add_column("source", sa.Column("allowed", sa.JSON()))
    op.create_table(
        "upload",
        sa.Column("id", sa.String(16), primary_key=True),
        _of("source", kind=sa.Integer(), name="source_id"),
        sa.Column("path", sa.String(), nullable=False),
        sa.Column("given", sa.String(), nullable=False),
        sa.Column("origin", sa.String(20), nullable=False),
        sa.Column("state", sa.String(12), nullable=False),
        sa.Column("version", sa.Integer(), nullable=False),
        sa.Column("created_at", _time, nullable=False),
        sa.Column("changed_at", _time, nullable=False),
        sa.Column("first", sa.JSON()),
        sa.Column("served", sa.JSON(), nullable=False),
        sa.Column("run_id", sa.Integer()),
        sa.Column("error", sa.String()),
        sa.Column("remedy", sa.String()),
    )
    for column in ("source_id", "path", "state"):
        op.create_index(f"ix_upload_{column}", "upload", [column])
    op.create_table(
        "upload_change",
        sa.Column("id", sa.Integer(), primary_key=True),
        _of("upload", kind=sa.String(16), name="upload_id"),
        sa.Column("at", _time, nullable=False),
        sa.Column("what", sa.String(20), nullable=False),
        sa.Column("before", sa.JSON(), nullable=False),
    )
    op.create_index("ix_upload_change_upload_id", "upload_change", ["upload_id"])
    op.create_table(
        "token",
        sa.Column("id", sa.String(12), primary_key=True),
        sa.Column("name", sa.String(80), nullable=False),
        sa.Column("digest", sa.String(64), nullable=False),
        sa.Column("scopes", sa.JSON(), nullable=False),
        sa.Column("created_at", _time, nullable=False),
        sa.Column("used_at", _time),
        sa.Column("revoked_at", _time),
    )
    op.create_table(
        "answered",
        _of("token", kind=sa.String(12), name="token_id", primary_key=True),
        sa.Column("key", sa.String(255), primary_key=True),
        sa.Column("fingerprint", sa.String(64), nullable=False),
        sa.Column("at", _time, nullable=False),
        sa.Column("status", sa.Integer()),
        sa.Column("body", sa.JSON()),
        sa.Column("headers", sa.JSON()),
    )
    op.create_table(
        "webhook",
        sa.Column("id", sa.Integer(), primary_key=True),
        sa.Column("url", sa.String(), nullable=False),
        sa.Column("secret", sa.String(80), nullable=False),
        sa.Column("created_at", _time, nullable=False),
    )
    op.create_table(
        "delivery",
        sa.Column("id", sa.String(40), primary_key=True),
        _of("webhook", kind=sa.Integer(), name="webhook_id"),
        sa.Column("upload_id", sa.String(16), nullable=False),
        sa.Column("body", sa.Text(), nullable=False),
        sa.Column("at", _time, nullable=False),
        sa.Column("state", sa.String(10), nullable=False),
        sa.Column("attempts", sa.Integer(), nullable=False),
        sa.Column("next_at", _time),
        sa.Column("said", sa.String(), nullable=False),
    )
    for column in ("webhook_id", "state"):
        op.create_index(f"ix_delivery_{column}", "delivery", [column])

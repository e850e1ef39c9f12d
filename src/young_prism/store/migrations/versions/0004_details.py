"""Metadata of single originals, and recipes saved under a name."""

from __future__ import annotations

import sqlalchemy as sa
from alembic import op

revision = "0004"
down_revision = "0003"


def upgrade() -> None:
    op.create_table(
        "detail",
        sa.Column(
            "source_id", sa.Integer(), sa.ForeignKey("source.id", ondelete="CASCADE"), primary_key=True
        ),
        sa.Column("path", sa.String(), primary_key=True),
        sa.Column("focal_x", sa.Float()),
        sa.Column("focal_y", sa.Float()),
        sa.Column("title", sa.String(200), nullable=False, server_default=""),
    )
    op.create_table(
        "saved_recipe",
        sa.Column("id", sa.Integer(), primary_key=True),
        sa.Column("slug", sa.String(80), nullable=False, unique=True),
        sa.Column("name", sa.String(80), nullable=False),
        sa.Column("text", sa.Text(), nullable=False),
        sa.Column("changed_at", sa.DateTime(timezone=True), nullable=False),
    )

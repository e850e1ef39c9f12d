"""Runs of every door: where they write, who works on them, what they are at, their log and their report."""

from __future__ import annotations

import sqlalchemy as sa
from alembic import op

revision = "0005"
down_revision = "0004"


def upgrade() -> None:
    for column in (
        sa.Column("out_folder", sa.String(), nullable=False, server_default=""),
        sa.Column("worker", sa.String(80), nullable=False, server_default=""),
        sa.Column("seen_at", sa.DateTime(timezone=True)),
        sa.Column("halted", sa.String(), nullable=False, server_default=""),
        sa.Column("live", sa.JSON(), nullable=False, server_default="{}"),
        sa.Column("versions", sa.JSON(), nullable=False, server_default="{}"),
        sa.Column("log", sa.JSON(), nullable=False, server_default="[]"),
        sa.Column("report", sa.JSON()),
        sa.Column("only", sa.JSON()),
        sa.Column("quick", sa.Boolean(), nullable=False, server_default=sa.false()),
    ):
        op.add_column("run", column)
    op.add_column("item", sa.Column("facet", sa.String(40), nullable=False, server_default="whole"))

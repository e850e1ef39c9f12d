"""What Intake keeps: where a source came from, its patterns, what was taken out of scope, what pages refer to."""

from __future__ import annotations

import sqlalchemy as sa
from alembic import op

revision = "0002"
down_revision = "0001"


def upgrade() -> None:
    # Plain additions: a table that is made anew would be dropped first, and take what hangs on it along.
    op.add_column("source", sa.Column("kind", sa.String(length=10), nullable=False, server_default="folder"))
    op.add_column("source", sa.Column("include", sa.JSON(), nullable=False, server_default="[]"))
    op.add_column("source", sa.Column("exclude", sa.JSON(), nullable=False, server_default="[]"))
    op.add_column("source", sa.Column("pages_folder", sa.String(), nullable=False, server_default=""))
    op.add_column("source", sa.Column("version", sa.Integer(), nullable=False, server_default="0"))
    op.add_column("original", sa.Column("since", sa.String(length=8), nullable=False, server_default=""))
    op.create_table(
        "source_look",
        sa.Column("source_id", sa.Integer(), nullable=False),
        sa.Column("gone", sa.JSON(), nullable=False),
        sa.Column("uses", sa.JSON(), nullable=False),
        sa.Column("pages", sa.JSON(), nullable=False),
        sa.ForeignKeyConstraint(["source_id"], ["source.id"], ondelete="CASCADE"),
        sa.PrimaryKeyConstraint("source_id"),
    )
    op.create_table(
        "taken_out",
        sa.Column("source_id", sa.Integer(), nullable=False),
        sa.Column("path", sa.String(), nullable=False),
        sa.ForeignKeyConstraint(["source_id"], ["source.id"], ondelete="CASCADE"),
        sa.PrimaryKeyConstraint("source_id", "path"),
    )
    op.create_table(
        "scope_change",
        sa.Column("id", sa.Integer(), nullable=False),
        sa.Column("source_id", sa.Integer(), nullable=False),
        sa.Column("at", sa.DateTime(timezone=True), nullable=False),
        sa.Column("out", sa.Boolean(), nullable=False),
        sa.Column("paths", sa.JSON(), nullable=False),
        sa.ForeignKeyConstraint(["source_id"], ["source.id"], ondelete="CASCADE"),
        sa.PrimaryKeyConstraint("id"),
    )
    op.create_index("ix_scope_change_source_id", "scope_change", ["source_id"])

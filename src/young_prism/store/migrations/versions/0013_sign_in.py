"""Browsers that are signed in, so that signing out ends a session on the server too."""

from __future__ import annotations

import sqlalchemy as sa
from alembic import op

revision = "0013"
down_revision = "0012"


def upgrade() -> None:
    op.create_table(
        "sign_in",
        sa.Column("digest", sa.String(64), primary_key=True),
        sa.Column("token_id", sa.String(12), sa.ForeignKey("token.id", ondelete="CASCADE"), nullable=False),
        sa.Column("created_at", sa.DateTime(timezone=True), nullable=False),
    )
    op.create_index("ix_sign_in_token_id", "sign_in", ["token_id"])

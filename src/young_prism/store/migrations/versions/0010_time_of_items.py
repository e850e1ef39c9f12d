"""When an item of a run was done."""

from __future__ import annotations

import sqlalchemy as sa
from alembic import op

revision = "0010"
down_revision = "0009"


def upgrade() -> None:
    op.add_column("item", sa.Column("done_at", sa.DateTime(timezone=True), nullable=True))

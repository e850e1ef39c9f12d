"""The kind of an original, where a person sets it."""

from __future__ import annotations

import sqlalchemy as sa
from alembic import op

revision = "0009"
down_revision = "0008"


def upgrade() -> None:
    op.add_column("detail", sa.Column("kind", sa.String(10), nullable=False, server_default=""))

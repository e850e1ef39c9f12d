"""Each source has its recipe, as the text that a person wrote."""

from __future__ import annotations

import sqlalchemy as sa
from alembic import op

revision = "0003"
down_revision = "0002"


def upgrade() -> None:
    op.add_column("source", sa.Column("recipe", sa.Text(), nullable=False, server_default=""))

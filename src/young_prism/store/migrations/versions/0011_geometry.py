"""How a person turns, straightens and crops an original."""

from __future__ import annotations

import sqlalchemy as sa
from alembic import op

revision = "0011"
down_revision = "0010"


def upgrade() -> None:
    op.add_column("detail", sa.Column("geometry", sa.JSON(), nullable=False, server_default="{}"))

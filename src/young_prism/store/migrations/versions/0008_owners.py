"""Which kind of process works on a run, apart from who asked for it."""

from __future__ import annotations

import sqlalchemy as sa
from alembic import op

revision = "0008"
down_revision = "0007"


def upgrade() -> None:
    op.add_column("run", sa.Column("owner", sa.String(10), nullable=False, server_default="server"))
    op.execute("UPDATE run SET owner = 'command' WHERE origin = 'command'")

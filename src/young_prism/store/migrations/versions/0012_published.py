"""Whether the renditions of an upload lie where its recipe publishes them."""

from __future__ import annotations

import sqlalchemy as sa
from alembic import op

revision = "0012"
down_revision = "0011"


def upgrade() -> None:
    op.add_column("upload", sa.Column("published", sa.Boolean(), nullable=False, server_default="0"))

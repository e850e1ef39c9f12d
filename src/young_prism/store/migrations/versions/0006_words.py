"""Texts of images: alternative text and caption."""

from __future__ import annotations

import sqlalchemy as sa
from alembic import op

revision = "0006"
down_revision = "0005"


def upgrade() -> None:
    op.add_column("detail", sa.Column("alt", sa.Text()))
    op.add_column("detail", sa.Column("caption", sa.Text(), nullable=False, server_default=""))

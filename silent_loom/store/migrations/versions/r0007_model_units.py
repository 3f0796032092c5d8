"""What a unit of a model's file is, and which axis points up, where somebody said so."""

import sqlalchemy as sa
from alembic import op

revision = "0007"
down_revision = "0006"


def upgrade() -> None:
    op.add_column("models", sa.Column("unit", sa.String(8), nullable=False, server_default=""))
    op.add_column("models", sa.Column("up", sa.String(1), nullable=False, server_default=""))

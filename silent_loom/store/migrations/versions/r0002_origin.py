"""Where a material came from."""

import sqlalchemy as sa
from alembic import op

revision = "0002"
down_revision = "0001"


def upgrade() -> None:
    for name, kind, value in (
        ("author", sa.String(200), ""),
        ("origin", sa.String(500), ""),
        ("licence", sa.String(200), ""),
        ("sale", sa.String(10), "unknown"),
        ("note", sa.Text, ""),
    ):
        op.add_column("materials", sa.Column(name, kind, nullable=False, server_default=value))

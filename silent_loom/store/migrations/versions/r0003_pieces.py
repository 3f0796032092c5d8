"""Long parts of weaves, kept once."""

import sqlalchemy as sa
from alembic import op

revision = "0003"
down_revision = "0002"


def upgrade() -> None:
    op.create_table(
        "pieces",
        sa.Column("digest", sa.String(64), primary_key=True),
        sa.Column("body", sa.Text, nullable=False),
    )

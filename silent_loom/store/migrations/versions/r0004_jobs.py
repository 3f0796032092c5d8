"""Jobs as data: what was asked for is still known after the application ended."""

import sqlalchemy as sa
from alembic import op

revision = "0004"
down_revision = "0003"


def upgrade() -> None:
    op.create_table(
        "jobs",
        sa.Column("id", sa.String(16), primary_key=True),
        sa.Column("kind", sa.String(40), nullable=False),
        sa.Column("title", sa.String(300), nullable=False),
        sa.Column("material_id", sa.String(16), nullable=False, server_default=""),
        sa.Column("settings", sa.Text, nullable=False, server_default="{}"),
        sa.Column("state", sa.String(10), nullable=False),
        sa.Column("words", sa.String(300), nullable=False, server_default=""),
        sa.Column("error", sa.Text, nullable=False, server_default=""),
        sa.Column("result", sa.Text, nullable=False, server_default="{}"),
        sa.Column("log", sa.Text, nullable=False, server_default="[]"),
        sa.Column("seconds", sa.Float, nullable=False, server_default="0"),
        sa.Column("created_at", sa.DateTime(timezone=True), nullable=False),
    )
    op.create_index("jobs_by_state", "jobs", ["state", "created_at"])

"""Snapshots: states of a material that have a name."""

import sqlalchemy as sa
from alembic import op

revision = "0005"
down_revision = "0004"


def upgrade() -> None:
    op.create_table(
        "snapshots",
        sa.Column("id", sa.String(16), primary_key=True),
        sa.Column("material_id", sa.String(16), sa.ForeignKey("materials.id", ondelete="CASCADE"), nullable=False),
        sa.Column("entry_id", sa.Integer, nullable=False),
        sa.Column("name", sa.String(200), nullable=False),
        sa.Column("created_at", sa.DateTime(timezone=True), nullable=False),
    )
    op.create_index("snapshots_by_material", "snapshots", ["material_id", "created_at"])
    op.create_table(
        "models",
        sa.Column("id", sa.String(16), primary_key=True),
        sa.Column("name", sa.String(200), nullable=False),
        sa.Column("digest", sa.String(64), nullable=False),
        sa.Column("format", sa.String(8), nullable=False),
        sa.Column("corners", sa.Integer, nullable=False),
        sa.Column("triangles", sa.Integer, nullable=False),
        sa.Column("created_at", sa.DateTime(timezone=True), nullable=False),
    )

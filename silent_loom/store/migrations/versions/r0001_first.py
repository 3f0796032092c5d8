"""First tables."""

import sqlalchemy as sa
from alembic import op

revision = "0001"
down_revision = None


def upgrade() -> None:
    moment = sa.DateTime(timezone=True)
    op.create_table(
        "materials",
        sa.Column("id", sa.String(16), primary_key=True),
        sa.Column("name", sa.String(200), nullable=False),
        sa.Column("created_at", moment, nullable=False),
        sa.Column("updated_at", moment, nullable=False),
        sa.Column("deleted_at", moment),
        sa.Column("head_id", sa.Integer, nullable=False),
    )
    op.create_table(
        "entries",
        sa.Column("id", sa.Integer, primary_key=True, autoincrement=True),
        sa.Column("material_id", sa.String(16), sa.ForeignKey("materials.id", ondelete="CASCADE"), nullable=False),
        sa.Column("parent_id", sa.Integer),
        sa.Column("redo_id", sa.Integer),
        sa.Column("label", sa.String(300), nullable=False),
        sa.Column("weave", sa.Text, nullable=False),
        sa.Column("created_at", moment, nullable=False),
        sa.Column("aside", sa.Boolean, nullable=False),
    )
    op.create_index("entries_by_material", "entries", ["material_id", "id"])
    op.create_table(
        "blobs",
        sa.Column("digest", sa.String(64), primary_key=True),
        sa.Column("name", sa.String(300), nullable=False),
        sa.Column("format", sa.String(16), nullable=False),
        sa.Column("bytes", sa.Integer, nullable=False),
        sa.Column("width", sa.Integer, nullable=False),
        sa.Column("height", sa.Integer, nullable=False),
        sa.Column("focal_px", sa.Float, nullable=False),
        sa.Column("focal_error", sa.Float, nullable=False),
        sa.Column("alpha", sa.Boolean, nullable=False),
        sa.Column("created_at", moment, nullable=False),
    )
    op.create_table(
        "decisions",
        sa.Column("key", sa.String(64), primary_key=True),
        sa.Column("body", sa.LargeBinary, nullable=False),
        sa.Column("created_at", moment, nullable=False),
    )
    op.create_table(
        "deliveries",
        sa.Column("id", sa.String(16), primary_key=True),
        sa.Column("material_id", sa.String(16), sa.ForeignKey("materials.id", ondelete="CASCADE"), nullable=False),
        sa.Column("file", sa.String(300), nullable=False),
        sa.Column("profile", sa.String(50), nullable=False),
        sa.Column("size", sa.Integer, nullable=False),
        sa.Column("bytes", sa.Integer, nullable=False),
        sa.Column("created_at", moment, nullable=False),
    )


def downgrade() -> None:
    for table in ("deliveries", "decisions", "blobs", "entries", "materials"):
        op.drop_table(table)

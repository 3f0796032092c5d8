"""Recipes of the artist's own, every version of them, and which materials were made of which."""

import sqlalchemy as sa
from alembic import op

revision = "0006"
down_revision = "0005"


def upgrade() -> None:
    op.create_table(
        "recipes",
        sa.Column("id", sa.String(16), primary_key=True),
        sa.Column("name", sa.String(120), nullable=False),
        sa.Column("title", sa.String(200), nullable=False),
        sa.Column("says", sa.Text, nullable=False),
        sa.Column("words", sa.Text, nullable=False),
        sa.Column("version", sa.Integer, nullable=False),
        sa.Column("created_at", sa.DateTime(timezone=True), nullable=False),
        sa.Column("deleted_at", sa.DateTime(timezone=True)),
    )
    op.create_table(
        "recipe_versions",
        sa.Column("recipe_id", sa.String(16), sa.ForeignKey("recipes.id", ondelete="CASCADE"), primary_key=True),
        sa.Column("version", sa.Integer, primary_key=True),
        sa.Column("weave", sa.Text, nullable=False),
        sa.Column("picture", sa.LargeBinary),
    )
    op.create_table(
        "made_of",
        sa.Column("material_id", sa.String(16), sa.ForeignKey("materials.id", ondelete="CASCADE"), primary_key=True),
        sa.Column("recipe_id", sa.String(16), sa.ForeignKey("recipes.id", ondelete="CASCADE"), nullable=False),
        sa.Column("version", sa.Integer, nullable=False),
    )
    op.create_index("made_of_by_recipe", "made_of", ["recipe_id"])

"""Finished days as compressed blocks with their summaries."""

import sqlalchemy as sa
from alembic import op

from kuppel.store.dialect import Whole

revision = "0003"
down_revision = "0002"
branch_labels = None
depends_on = None


def upgrade() -> None:
    for name in ("block", "hour_summaries"):
        op.create_table(
            name,
            sa.Column("key", Whole, autoincrement=False, nullable=False),
            sa.Column("payload", sa.LargeBinary(), nullable=False),
            sa.PrimaryKeyConstraint("key", name=op.f(f"pk_{name}")),
        )
    op.create_table(
        "day_summary",
        sa.Column("key", Whole, autoincrement=False, nullable=False),
        sa.Column("count", sa.Integer(), nullable=False),
        sa.Column("failed", sa.Integer(), nullable=False),
        sa.Column("sum", sa.Float(), nullable=False),
        sa.Column("min", sa.Float(), nullable=True),
        sa.Column("max", sa.Float(), nullable=True),
        sa.Column("sketch", sa.LargeBinary(), nullable=False),
        sa.PrimaryKeyConstraint("key", name=op.f("pk_day_summary")),
    )
    op.create_table(
        "mark",
        sa.Column("name", sa.String(), nullable=False),
        sa.Column("value", Whole, nullable=False),
        sa.PrimaryKeyConstraint("name", name=op.f("pk_mark")),
    )

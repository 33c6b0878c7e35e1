"""Where vantage points that move have been."""

import sqlalchemy as sa
from alembic import op

from kuppel.store.dialect import Whole

revision = "0010"
down_revision = "0009"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.create_table(
        "position",
        sa.Column("vantage_point_id", sa.Integer(), nullable=False),
        sa.Column("time_us", Whole, nullable=False),
        sa.Column("longitude", sa.Float(), nullable=False),
        sa.Column("latitude", sa.Float(), nullable=False),
        sa.ForeignKeyConstraint(
            ["vantage_point_id"],
            ["vantage_point.id"],
            name="fk_position_vantage_point_id_vantage_point",
            ondelete="CASCADE",
        ),
        sa.PrimaryKeyConstraint("vantage_point_id", "time_us", name="pk_position"),
    )


def downgrade() -> None:
    op.drop_table("position")

"""Where vantage points and targets are: degrees east and north."""

import sqlalchemy as sa
from alembic import op

revision = "0007"
down_revision = "0006"
branch_labels = None
depends_on = None


def upgrade() -> None:
    for table in ("vantage_point", "target"):
        op.add_column(table, sa.Column("longitude", sa.Float(), nullable=True))
        op.add_column(table, sa.Column("latitude", sa.Float(), nullable=True))


def downgrade() -> None:
    for table in ("vantage_point", "target"):
        op.drop_column(table, "latitude")
        op.drop_column(table, "longitude")

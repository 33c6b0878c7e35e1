"""In which country a vantage point stands, and whose machine it is."""

import sqlalchemy as sa
from alembic import op

revision = "0009"
down_revision = "0008"
branch_labels = None
depends_on = None


def upgrade() -> None:
    for name in ("country", "person"):
        op.add_column("vantage_point", sa.Column(name, sa.String(), nullable=False, server_default=""))


def downgrade() -> None:
    for name in ("person", "country"):
        op.drop_column("vantage_point", name)

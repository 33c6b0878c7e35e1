"""Schedules beyond an interval; tags, sites and services of what is arranged; groups; agents' updates."""

import sqlalchemy as sa
from alembic import op

from kuppel.store.dialect import Whole

revision = "0006"
down_revision = "0005"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.add_column("probe", sa.Column("schedule", sa.JSON(), nullable=False, server_default="{}"))
    op.add_column("probe", sa.Column("tags", sa.JSON(), nullable=False, server_default="[]"))
    op.add_column("target", sa.Column("tags", sa.JSON(), nullable=False, server_default="[]"))
    op.add_column("target", sa.Column("service", sa.String(), nullable=False, server_default=""))
    op.add_column("target", sa.Column("site", sa.String(), nullable=False, server_default=""))
    op.add_column("target", sa.Column("is_important", sa.Boolean(), nullable=False, server_default=sa.false()))
    op.add_column("vantage_point", sa.Column("seen_from", sa.String(), nullable=False, server_default=""))
    op.add_column("vantage_point", sa.Column("update_due_us", Whole, nullable=True))
    op.create_table(
        "group",
        sa.Column("id", sa.Integer(), nullable=False),
        sa.Column("name", sa.String(), nullable=False),
        sa.Column("description", sa.String(), nullable=False),
        sa.Column("tags", sa.JSON(), nullable=False),
        sa.PrimaryKeyConstraint("id", name=op.f("pk_group")),
        sa.UniqueConstraint("name", name=op.f("uq_group_name")),
    )
    op.create_table(
        "group_member",
        sa.Column("group_id", sa.Integer(), nullable=False),
        sa.Column("kind", sa.String(), nullable=False),
        sa.Column("member_id", sa.Integer(), nullable=False),
        sa.ForeignKeyConstraint(
            ["group_id"], ["group.id"], name=op.f("fk_group_member_group_id_group"), ondelete="CASCADE"
        ),
        sa.PrimaryKeyConstraint("group_id", "kind", "member_id", name=op.f("pk_group_member")),
        sqlite_with_rowid=False,
    )

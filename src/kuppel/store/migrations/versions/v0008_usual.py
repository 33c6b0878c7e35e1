"""What is usual for each stream, and what people pinned or saved under a name."""

import sqlalchemy as sa
from alembic import op

from kuppel.store.dialect import Whole

revision = "0008"
down_revision = "0007"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.create_table(
        "usual",
        sa.Column("stream_id", sa.Integer(), nullable=False),
        sa.Column("until_us", Whole, nullable=False),
        sa.Column("payload", sa.LargeBinary(), nullable=False),
        sa.Column("answered", sa.Float()),
        sa.Column("lost", sa.Float()),
        sa.ForeignKeyConstraint(["stream_id"], ["stream.id"], name="fk_usual_stream_id_stream", ondelete="CASCADE"),
        sa.PrimaryKeyConstraint("stream_id", name="pk_usual"),
    )
    op.create_table(
        "saved",
        sa.Column("id", sa.Integer(), nullable=False),
        sa.Column("person_id", sa.Integer(), nullable=False),
        sa.Column("kind", sa.String(), nullable=False),
        sa.Column("name", sa.String(), nullable=False),
        sa.Column("body", sa.JSON(), nullable=False),
        sa.ForeignKeyConstraint(["person_id"], ["person.id"], name="fk_saved_person_id_person", ondelete="CASCADE"),
        sa.PrimaryKeyConstraint("id", name="pk_saved"),
        sa.UniqueConstraint("person_id", "kind", "name", name="uq_saved_person_id_kind_name"),
        sqlite_autoincrement=True,
    )


def downgrade() -> None:
    op.drop_table("saved")
    op.drop_table("usual")

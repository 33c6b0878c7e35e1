"""The first tables: inventory, runs with their samples and facts, and changes of state."""

import sqlalchemy as sa
from alembic import op

from kuppel.store.dialect import Whole

revision = "0001"
down_revision = None
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.create_table(
        "run",
        sa.Column("time_us", Whole, autoincrement=False, nullable=False),
        sa.Column("stream_id", sa.Integer(), autoincrement=False, nullable=False),
        sa.Column("reason", sa.String(), nullable=True),
        sa.Column("is_generated", sa.Boolean(), nullable=False),
        sa.Column("attempts", sa.JSON(), nullable=False),
        sa.Column("detail", sa.JSON(), nullable=False),
        sa.PrimaryKeyConstraint("time_us", "stream_id", name=op.f("pk_run")),
        sqlite_with_rowid=False,
    )
    op.create_table(
        "sample",
        sa.Column("time_us", Whole, autoincrement=False, nullable=False),
        sa.Column("series_id", sa.Integer(), autoincrement=False, nullable=False),
        sa.Column("value", sa.Float(), nullable=False),
        sa.PrimaryKeyConstraint("time_us", "series_id", name=op.f("pk_sample")),
        sqlite_with_rowid=False,
    )
    op.create_table(
        "target",
        sa.Column("id", sa.Integer(), nullable=False),
        sa.Column("name", sa.String(), nullable=False),
        sa.Column("description", sa.String(), nullable=False),
        sa.PrimaryKeyConstraint("id", name=op.f("pk_target")),
        sa.UniqueConstraint("name", name=op.f("uq_target_name")),
    )
    op.create_table(
        "vantage_point",
        sa.Column("id", sa.Integer(), nullable=False),
        sa.Column("name", sa.String(), nullable=False),
        sa.Column("kind", sa.String(), nullable=False),
        sa.Column("place", sa.String(), nullable=False),
        sa.Column("provider", sa.String(), nullable=False),
        sa.Column("version", sa.String(), nullable=False),
        sa.Column("addresses", sa.JSON(), nullable=False),
        sa.Column("token_hash", sa.String(), nullable=False),
        sa.Column("enrolled_us", Whole, nullable=False),
        sa.Column("seen_us", Whole, nullable=False),
        sa.Column("clock_offset_us", Whole, nullable=True),
        sa.Column("clock_error_us", Whole, nullable=True),
        sa.Column("scheduling_lag_us", Whole, nullable=False),
        sa.Column("is_busy", sa.Boolean(), nullable=False),
        sa.Column("spooled", sa.Integer(), nullable=False),
        sa.Column("dropped_details", sa.Integer(), nullable=False),
        sa.Column("dropped_results", sa.Integer(), nullable=False),
        sa.Column("missed_slots", sa.Integer(), nullable=False),
        sa.Column("refused_results", sa.Integer(), nullable=False),
        sa.PrimaryKeyConstraint("id", name=op.f("pk_vantage_point")),
        sa.UniqueConstraint("name", name=op.f("uq_vantage_point_name")),
        sa.UniqueConstraint("token_hash", name=op.f("uq_vantage_point_token_hash")),
    )
    op.create_table(
        "probe",
        sa.Column("id", sa.Integer(), nullable=False),
        sa.Column("name", sa.String(), nullable=False),
        sa.Column("kind", sa.String(), nullable=False),
        sa.Column("target_id", sa.Integer(), nullable=False),
        sa.Column("settings", sa.JSON(), nullable=False),
        sa.Column("interval_us", Whole, nullable=False),
        sa.Column("attempts", sa.Integer(), nullable=False),
        sa.Column("attempt_gap_us", Whole, nullable=False),
        sa.Column("interface", sa.String(), nullable=True),
        sa.Column("source", sa.String(), nullable=True),
        sa.Column("limits", sa.JSON(), nullable=False),
        sa.Column("judgement_n", sa.Integer(), nullable=False),
        sa.Column("judgement_m", sa.Integer(), nullable=False),
        sa.Column("is_enabled", sa.Boolean(), nullable=False),
        sa.ForeignKeyConstraint(["target_id"], ["target.id"], name=op.f("fk_probe_target_id")),
        sa.PrimaryKeyConstraint("id", name=op.f("pk_probe")),
        sa.UniqueConstraint("name", name=op.f("uq_probe_name")),
    )
    op.create_index(op.f("ix_probe_target_id"), "probe", ["target_id"], unique=False)
    op.create_table(
        "spool",
        sa.Column("vantage_point_id", sa.Integer(), nullable=False),
        sa.Column("spool", sa.String(), nullable=False),
        sa.Column("last_sequence", Whole, nullable=False),
        sa.ForeignKeyConstraint(
            ["vantage_point_id"], ["vantage_point.id"], name=op.f("fk_spool_vantage_point_id"), ondelete="CASCADE"
        ),
        sa.PrimaryKeyConstraint("vantage_point_id", "spool", name=op.f("pk_spool")),
    )
    op.create_table(
        "stream",
        sa.Column("id", sa.Integer(), nullable=False),
        sa.Column("probe_id", sa.Integer(), nullable=False),
        sa.Column("vantage_point_id", sa.Integer(), nullable=False),
        sa.Column("is_active", sa.Boolean(), nullable=False),
        sa.Column("created_us", Whole, nullable=False),
        sa.Column("state", sa.String(), nullable=False),
        sa.Column("state_since_us", Whole, nullable=False),
        sa.Column("judged", sa.String(), nullable=False),
        sa.Column("levels", sa.JSON(), nullable=False),
        sa.Column("last_run_us", Whole, nullable=True),
        sa.ForeignKeyConstraint(["probe_id"], ["probe.id"], name=op.f("fk_stream_probe_id"), ondelete="CASCADE"),
        sa.ForeignKeyConstraint(
            ["vantage_point_id"], ["vantage_point.id"], name=op.f("fk_stream_vantage_point_id"), ondelete="CASCADE"
        ),
        sa.PrimaryKeyConstraint("id", name=op.f("pk_stream")),
        sa.UniqueConstraint("probe_id", "vantage_point_id", name=op.f("uq_stream_probe_id_vantage_point_id")),
        sqlite_autoincrement=True,
    )
    op.create_index(op.f("ix_stream_vantage_point_id"), "stream", ["vantage_point_id"], unique=False)
    op.create_table(
        "fact",
        sa.Column("stream_id", sa.Integer(), nullable=False),
        sa.Column("name", sa.String(), nullable=False),
        sa.Column("from_us", Whole, nullable=False),
        sa.Column("value", sa.String(), nullable=False),
        sa.ForeignKeyConstraint(["stream_id"], ["stream.id"], name=op.f("fk_fact_stream_id"), ondelete="CASCADE"),
        sa.PrimaryKeyConstraint("stream_id", "name", "from_us", name=op.f("pk_fact")),
        sqlite_with_rowid=False,
    )
    op.create_table(
        "series",
        sa.Column("id", sa.Integer(), nullable=False),
        sa.Column("stream_id", sa.Integer(), nullable=False),
        sa.Column("quantity", sa.String(), nullable=False),
        sa.ForeignKeyConstraint(["stream_id"], ["stream.id"], name=op.f("fk_series_stream_id"), ondelete="CASCADE"),
        sa.PrimaryKeyConstraint("id", name=op.f("pk_series")),
        sa.UniqueConstraint("stream_id", "quantity", name=op.f("uq_series_stream_id_quantity")),
        sqlite_autoincrement=True,
    )
    op.create_table(
        "state_change",
        sa.Column("stream_id", sa.Integer(), nullable=False),
        sa.Column("time_us", Whole, nullable=False),
        sa.Column("state", sa.String(), nullable=False),
        sa.ForeignKeyConstraint(["stream_id"], ["stream.id"], name=op.f("fk_state_change_stream_id"), ondelete="CASCADE"),
        sa.PrimaryKeyConstraint("stream_id", "time_us", name=op.f("pk_state_change")),
        sqlite_with_rowid=False,
    )


def downgrade() -> None:
    op.drop_table("state_change")
    op.drop_table("series")
    op.drop_table("fact")
    op.drop_table("stream")
    op.drop_table("spool")
    op.drop_table("probe")
    op.drop_table("vantage_point")
    op.drop_table("target")
    op.drop_table("sample")
    op.drop_table("run")

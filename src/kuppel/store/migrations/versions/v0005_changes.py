"""Changes; points and histograms that arrive from others, by metric series."""

import sqlalchemy as sa
from alembic import op

from kuppel.store.dialect import Whole

revision = "0005"
down_revision = "0004"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.create_table(
        "change",
        sa.Column("id", sa.Integer(), nullable=False),
        sa.Column("time_us", Whole, nullable=False),
        sa.Column("until_us", Whole, nullable=True),
        sa.Column("source", sa.String(), nullable=False),
        sa.Column("subject", sa.String(), nullable=False),
        sa.Column("before", sa.String(), nullable=False),
        sa.Column("after", sa.String(), nullable=False),
        sa.Column("actor", sa.String(), nullable=False),
        sa.Column("stream_id", sa.Integer(), nullable=True),
        sa.Column("target_id", sa.Integer(), nullable=True),
        sa.Column("vantage_point_id", sa.Integer(), nullable=True),
        sa.ForeignKeyConstraint(["stream_id"], ["stream.id"], name=op.f("fk_change_stream_id_stream"), ondelete="CASCADE"),
        sa.ForeignKeyConstraint(["target_id"], ["target.id"], name=op.f("fk_change_target_id_target"), ondelete="CASCADE"),
        sa.ForeignKeyConstraint(
            ["vantage_point_id"],
            ["vantage_point.id"],
            name=op.f("fk_change_vantage_point_id_vantage_point"),
            ondelete="CASCADE",
        ),
        sa.PrimaryKeyConstraint("id", name=op.f("pk_change")),
        sqlite_autoincrement=True,
    )
    for column in ("time_us", "stream_id", "target_id", "vantage_point_id"):
        op.create_index(op.f(f"ix_change_{column}"), "change", [column])
    op.create_table(
        "metric_series",
        sa.Column("id", sa.Integer(), nullable=False),
        sa.Column("source", sa.String(), nullable=False),
        sa.Column("name", sa.String(), nullable=False),
        sa.Column("unit", sa.String(), nullable=False),
        sa.Column("attributes", sa.String(), nullable=False),
        sa.PrimaryKeyConstraint("id", name=op.f("pk_metric_series")),
        sa.UniqueConstraint("source", "name", "attributes", name=op.f("uq_metric_series_source_name_attributes")),
        sqlite_autoincrement=True,
    )
    common = ["slot", "series_id", "time_us"]
    for name, last in (
        ("metric_point", []),
        ("metric_histogram", [sa.Column("body", sa.LargeBinary(), nullable=False)]),
    ):
        op.create_table(
            name,
            sa.Column("slot", sa.Integer(), autoincrement=False, nullable=False),
            sa.Column("series_id", sa.Integer(), autoincrement=False, nullable=False),
            sa.Column("time_us", Whole, autoincrement=False, nullable=False),
            sa.Column("until_us", Whole, nullable=False),
            sa.Column("count", Whole, nullable=False),
            sa.Column("sum", sa.Float(), nullable=False),
            sa.Column("min", sa.Float(), nullable=True),
            sa.Column("max", sa.Float(), nullable=True),
            *last,
            sa.PrimaryKeyConstraint(*common, name=op.f(f"pk_{name}")),
            sqlite_with_rowid=False,
        )

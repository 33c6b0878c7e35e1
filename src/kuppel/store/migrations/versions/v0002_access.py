"""People, sessions, tokens, the record of what they did, and sealed credentials of probes."""

import sqlalchemy as sa
from alembic import op

from kuppel.store.dialect import Whole

revision = "0002"
down_revision = "0001"
branch_labels = None
depends_on = None


def upgrade() -> None:
    is_sqlite = op.get_bind().dialect.name == "sqlite"
    if not is_sqlite:  # by the name under which SQLite has it, though it folds more than the letters of English
        op.execute(
            "CREATE COLLATION IF NOT EXISTS \"NOCASE\" (provider = icu, locale = 'und-u-ks-level2', deterministic = false)"
        )
    with op.batch_alter_table("vantage_point") as batch:
        batch.add_column(sa.Column("tags", sa.JSON(), nullable=False, server_default="[]"))
        batch.alter_column("token_hash", existing_type=sa.String(), nullable=True)
    with op.batch_alter_table("probe") as batch:
        batch.add_column(sa.Column("sealed", sa.LargeBinary(), nullable=True))
    op.create_table(
        "person",
        sa.Column("id", sa.Integer(), nullable=False),
        sa.Column("name", sa.String(collation="NOCASE"), nullable=False),
        sa.Column("full_name", sa.String(), nullable=False),
        sa.Column("role", sa.String(), nullable=False),
        sa.Column("password_hash", sa.String(), nullable=False),
        sa.Column("must_change", sa.Boolean(), nullable=False),
        sa.Column("is_active", sa.Boolean(), nullable=False),
        sa.Column("created_us", Whole, nullable=False),
        sa.Column("signed_in_us", Whole, nullable=True),
        sa.PrimaryKeyConstraint("id", name=op.f("pk_person")),
        sa.UniqueConstraint("name", name=op.f("uq_person_name")),
    )
    op.create_table(
        "session",
        sa.Column("digest", sa.String(), nullable=False),
        sa.Column("person_id", sa.Integer(), nullable=False),
        sa.Column("created_us", Whole, nullable=False),
        sa.Column("used_us", Whole, nullable=False),
        sa.Column("address", sa.String(), nullable=False),
        sa.ForeignKeyConstraint(["person_id"], ["person.id"], name=op.f("fk_session_person_id_person"), ondelete="CASCADE"),
        sa.PrimaryKeyConstraint("digest", name=op.f("pk_session")),
        sqlite_with_rowid=False,
    )
    op.create_index(op.f("ix_session_person_id"), "session", ["person_id"])
    op.create_table(
        "sign_in_failure",
        sa.Column("id", sa.Integer(), nullable=False),
        sa.Column("name", sa.String(collation="NOCASE"), nullable=False),
        sa.Column("address", sa.String(), nullable=False),
        sa.Column("time_us", Whole, nullable=False),
        sa.PrimaryKeyConstraint("id", name=op.f("pk_sign_in_failure")),
    )
    op.create_index(op.f("ix_sign_in_failure_name"), "sign_in_failure", ["name"])
    op.create_table(
        "api_token",
        sa.Column("id", sa.Integer(), nullable=False),
        sa.Column("name", sa.String(), nullable=False),
        sa.Column("person_id", sa.Integer(), nullable=False),
        sa.Column("scopes", sa.JSON(), nullable=False),
        sa.Column("digest", sa.String(), nullable=False),
        sa.Column("created_us", Whole, nullable=False),
        sa.Column("expires_us", Whole, nullable=True),
        sa.Column("used_us", Whole, nullable=True),
        sa.Column("withdrawn_us", Whole, nullable=True),
        sa.ForeignKeyConstraint(
            ["person_id"], ["person.id"], name=op.f("fk_api_token_person_id_person"), ondelete="CASCADE"
        ),
        sa.PrimaryKeyConstraint("id", name=op.f("pk_api_token")),
        sa.UniqueConstraint("digest", name=op.f("uq_api_token_digest")),
    )
    op.create_table(
        "enrolment_token",
        sa.Column("id", sa.Integer(), nullable=False),
        sa.Column("name", sa.String(), nullable=False),
        sa.Column("person_id", sa.Integer(), nullable=True),
        sa.Column("digest", sa.String(), nullable=False),
        sa.Column("kind", sa.String(), nullable=False),
        sa.Column("place", sa.String(), nullable=False),
        sa.Column("tags", sa.JSON(), nullable=False),
        sa.Column("vantage_point_id", sa.Integer(), nullable=True),
        sa.Column("most_uses", sa.Integer(), nullable=False),
        sa.Column("uses", sa.Integer(), nullable=False),
        sa.Column("created_us", Whole, nullable=False),
        sa.Column("expires_us", Whole, nullable=False),
        sa.Column("withdrawn_us", Whole, nullable=True),
        sa.ForeignKeyConstraint(
            ["person_id"], ["person.id"], name=op.f("fk_enrolment_token_person_id_person"), ondelete="SET NULL"
        ),
        sa.ForeignKeyConstraint(
            ["vantage_point_id"],
            ["vantage_point.id"],
            name=op.f("fk_enrolment_token_vantage_point_id_vantage_point"),
            ondelete="CASCADE",
        ),
        sa.PrimaryKeyConstraint("id", name=op.f("pk_enrolment_token")),
        sa.UniqueConstraint("digest", name=op.f("uq_enrolment_token_digest")),
    )
    op.create_table(
        "record",
        sa.Column("id", sa.Integer(), nullable=False),
        sa.Column("time_us", Whole, nullable=False),
        sa.Column("actor_kind", sa.String(), nullable=False),
        sa.Column("actor", sa.String(), nullable=False),
        sa.Column("address", sa.String(), nullable=False),
        sa.Column("action", sa.String(), nullable=False),
        sa.Column("subject", sa.String(), nullable=False),
        sa.Column("before", sa.JSON(none_as_null=True), nullable=True),
        sa.Column("after", sa.JSON(none_as_null=True), nullable=True),
        sa.PrimaryKeyConstraint("id", name=op.f("pk_record")),
        sqlite_autoincrement=True,
    )
    op.create_index(op.f("ix_record_time_us"), "record", ["time_us"])
    action = "BEGIN SELECT RAISE(ABORT, 'the record is append-only'); END"
    if not is_sqlite:
        op.execute(
            "CREATE FUNCTION refuse_record() RETURNS trigger LANGUAGE plpgsql AS"
            " $$ BEGIN RAISE EXCEPTION 'the record is append-only'; END $$"
        )
        action = "FOR EACH ROW EXECUTE FUNCTION refuse_record()"
    for event in ("UPDATE", "DELETE"):
        op.execute(f"CREATE TRIGGER record_no_{event.lower()} BEFORE {event} ON record {action}")

"""The tables. Times are UTC microseconds; JSON columns hold settings and explanations that nothing is searched by."""

from typing import Any

from sqlalchemy import (
    JSON,
    Boolean,
    Column,
    Float,
    ForeignKey,
    Integer,
    LargeBinary,
    MetaData,
    String,
    Table,
    UniqueConstraint,
    false,
)

from kuppel.store.dialect import Whole

metadata = MetaData(
    naming_convention={
        "pk": "pk_%(table_name)s",
        "fk": "fk_%(table_name)s_%(column_0_name)s",
        "uq": "uq_%(table_name)s_%(column_0_N_name)s",
        "ix": "ix_%(table_name)s_%(column_0_N_name)s",
    }
)

vantage_point = Table(
    "vantage_point",
    metadata,
    Column("id", Integer, primary_key=True),
    Column("name", String, nullable=False, unique=True),
    Column("kind", String, nullable=False),
    Column("place", String, nullable=False),
    Column("provider", String, nullable=False),
    # In which country, and whose machine it is; empty when nobody said.
    Column("country", String, nullable=False, server_default=""),
    Column("person", String, nullable=False, server_default=""),
    Column("version", String, nullable=False),
    Column("addresses", JSON, nullable=False),
    Column("tags", JSON, nullable=False, server_default="[]"),
    # None once its token is withdrawn.
    Column("token_hash", String, unique=True),
    Column("enrolled_us", Whole, nullable=False),
    Column("seen_us", Whole, nullable=False),
    Column("clock_offset_us", Whole),
    Column("clock_error_us", Whole),
    Column("scheduling_lag_us", Whole, nullable=False, default=0),
    Column("is_busy", Boolean, nullable=False, default=False),
    Column("spooled", Integer, nullable=False, default=0),
    Column("dropped_details", Integer, nullable=False, default=0),
    Column("dropped_results", Integer, nullable=False, default=0),
    Column("missed_slots", Integer, nullable=False, default=0),
    Column("refused_results", Integer, nullable=False, default=0),
    # The address from which its agent calls, as the hub sees it.
    Column("seen_from", String, nullable=False, server_default=""),
    # From when on its agent takes the hub's version; None when no update is announced.
    Column("update_due_us", Whole),
    # Where it is, in degrees east and north; None when nobody said.
    Column("longitude", Float),
    Column("latitude", Float),
)

# Where vantage points that move have been: a row whenever one was somewhere else.
position = Table(
    "position",
    metadata,
    Column("vantage_point_id", ForeignKey("vantage_point.id", ondelete="CASCADE"), primary_key=True),
    Column("time_us", Whole, primary_key=True, autoincrement=False),
    Column("longitude", Float, nullable=False),
    Column("latitude", Float, nullable=False),
)

# The last sequence number taken from each spool: what makes delivery exactly-once.
spool = Table(
    "spool",
    metadata,
    Column("vantage_point_id", ForeignKey("vantage_point.id", ondelete="CASCADE"), primary_key=True),
    Column("spool", String, primary_key=True),
    Column("last_sequence", Whole, nullable=False),
)

target = Table(
    "target",
    metadata,
    Column("id", Integer, primary_key=True),
    Column("name", String, nullable=False, unique=True),
    Column("description", String, nullable=False, default=""),
    Column("tags", JSON, nullable=False, server_default="[]"),
    Column("service", String, nullable=False, server_default=""),
    Column("site", String, nullable=False, server_default=""),
    Column("is_important", Boolean, nullable=False, server_default=false()),
    Column("longitude", Float),
    Column("latitude", Float),
)

probe = Table(
    "probe",
    metadata,
    Column("id", Integer, primary_key=True),
    Column("name", String, nullable=False, unique=True),
    Column("kind", String, nullable=False),
    Column("target_id", ForeignKey("target.id"), nullable=False, index=True),
    Column("settings", JSON, nullable=False),
    # Credentials among the settings, sealed with the hub's key file.
    Column("sealed", LargeBinary),
    Column("interval_us", Whole, nullable=False),
    Column("attempts", Integer, nullable=False),
    Column("attempt_gap_us", Whole, nullable=False),
    Column("interface", String),
    Column("source", String),
    Column("limits", JSON, nullable=False),
    Column("judgement_n", Integer, nullable=False),
    Column("judgement_m", Integer, nullable=False),
    Column("is_enabled", Boolean, nullable=False),
    # What goes beyond the interval, as `inventory` writes it.
    Column("schedule", JSON, nullable=False, server_default="{}"),
    Column("tags", JSON, nullable=False, server_default="[]"),
)

# An application, a site, a team's estate: members by hand, and all that has one of its tags.
group = Table(
    "group",
    metadata,
    Column("id", Integer, primary_key=True),
    Column("name", String, nullable=False, unique=True),
    Column("description", String, nullable=False),
    Column("tags", JSON, nullable=False),
)

# `kind` is target, probe or vantage_point.
group_member = Table(
    "group_member",
    metadata,
    Column("group_id", ForeignKey("group.id", ondelete="CASCADE"), primary_key=True),
    Column("kind", String, primary_key=True),
    Column("member_id", Integer, primary_key=True, autoincrement=False),
    sqlite_with_rowid=False,
)

# One probe from one vantage point, with its state and what the judgement needs to go on after a restart.
stream = Table(
    "stream",
    metadata,
    Column("id", Integer, primary_key=True),
    Column("probe_id", ForeignKey("probe.id", ondelete="CASCADE"), nullable=False),
    Column("vantage_point_id", ForeignKey("vantage_point.id", ondelete="CASCADE"), nullable=False, index=True),
    Column("is_active", Boolean, nullable=False),
    Column("created_us", Whole, nullable=False),
    Column("state", String, nullable=False),
    Column("state_since_us", Whole, nullable=False),
    Column("judged", String, nullable=False),
    Column("levels", JSON, nullable=False),
    Column("last_run_us", Whole),
    UniqueConstraint("probe_id", "vantage_point_id"),
    # Runs and samples name streams and series without a foreign key: a number must never be given twice.
    sqlite_autoincrement=True,
)

series = Table(
    "series",
    metadata,
    Column("id", Integer, primary_key=True),
    Column("stream_id", ForeignKey("stream.id", ondelete="CASCADE"), nullable=False),
    Column("quantity", String, nullable=False),
    UniqueConstraint("stream_id", "quantity"),
    sqlite_autoincrement=True,
)

# What is measured of days that are not finished; `slot` is two minutes of time, see `store.tail`.
sample = Table(
    "sample",
    metadata,
    Column("slot", Integer, primary_key=True, autoincrement=False),
    Column("series_id", Integer, primary_key=True, autoincrement=False),
    Column("time_us", Whole, primary_key=True, autoincrement=False),
    Column("value", Float, nullable=False),
    sqlite_with_rowid=False,
)

# `body` is one JSON document: attempts, and detail of the kind.
run = Table(
    "run",
    metadata,
    Column("slot", Integer, primary_key=True, autoincrement=False),
    Column("stream_id", Integer, primary_key=True, autoincrement=False),
    Column("time_us", Whole, primary_key=True, autoincrement=False),
    Column("reason", String),
    Column("is_generated", Boolean, nullable=False),
    Column("body", LargeBinary, nullable=False),
    sqlite_with_rowid=False,
)

# A fact holds from `from_us` until the next row of the same stream and name.
fact = Table(
    "fact",
    metadata,
    Column("stream_id", ForeignKey("stream.id", ondelete="CASCADE"), primary_key=True),
    Column("name", String, primary_key=True),
    Column("from_us", Whole, primary_key=True),
    Column("value", String, nullable=False),
    sqlite_with_rowid=False,
)

state_change = Table(
    "state_change",
    metadata,
    Column("stream_id", ForeignKey("stream.id", ondelete="CASCADE"), primary_key=True),
    Column("time_us", Whole, primary_key=True),
    Column("state", String, nullable=False),
    sqlite_with_rowid=False,
)

person = Table(
    "person",
    metadata,
    Column("id", Integer, primary_key=True),
    Column("name", String(collation="NOCASE"), nullable=False, unique=True),
    Column("full_name", String, nullable=False),
    Column("role", String, nullable=False),
    Column("password_hash", String, nullable=False),
    Column("must_change", Boolean, nullable=False),
    Column("is_active", Boolean, nullable=False),
    Column("created_us", Whole, nullable=False),
    Column("signed_in_us", Whole),
)

# The browser has the session's random name; what is stored is its digest.
session = Table(
    "session",
    metadata,
    Column("digest", String, primary_key=True),
    Column("person_id", ForeignKey("person.id", ondelete="CASCADE"), nullable=False, index=True),
    Column("created_us", Whole, nullable=False),
    Column("used_us", Whole, nullable=False),
    Column("address", String, nullable=False),
    sqlite_with_rowid=False,
)

# Wrong passwords since the last right one, by the name that was tried (there may be no such person).
sign_in_failure = Table(
    "sign_in_failure",
    metadata,
    Column("id", Integer, primary_key=True),
    Column("name", String(collation="NOCASE"), nullable=False, index=True),
    Column("address", String, nullable=False),
    Column("time_us", Whole, nullable=False),
)

api_token = Table(
    "api_token",
    metadata,
    Column("id", Integer, primary_key=True),
    Column("name", String, nullable=False),
    Column("person_id", ForeignKey("person.id", ondelete="CASCADE"), nullable=False),
    Column("scopes", JSON, nullable=False),
    Column("digest", String, nullable=False, unique=True),
    Column("created_us", Whole, nullable=False),
    Column("expires_us", Whole),
    Column("used_us", Whole),
    Column("withdrawn_us", Whole),
)

enrolment_token = Table(
    "enrolment_token",
    metadata,
    Column("id", Integer, primary_key=True),
    Column("name", String, nullable=False),
    Column("person_id", ForeignKey("person.id", ondelete="SET NULL")),
    Column("digest", String, nullable=False, unique=True),
    Column("kind", String, nullable=False),
    Column("place", String, nullable=False),
    Column("tags", JSON, nullable=False),
    # Set when it is for a new agent of a vantage point that is there already.
    Column("vantage_point_id", ForeignKey("vantage_point.id", ondelete="CASCADE")),
    Column("most_uses", Integer, nullable=False),
    Column("uses", Integer, nullable=False),
    Column("created_us", Whole, nullable=False),
    Column("expires_us", Whole, nullable=False),
    Column("withdrawn_us", Whole),
)

# Who did what. Triggers refuse to change or remove a row (migration 0002).
record = Table(
    "record",
    metadata,
    Column("id", Integer, primary_key=True),
    Column("time_us", Whole, nullable=False, index=True),
    Column("actor_kind", String, nullable=False),
    Column("actor", String, nullable=False),
    Column("address", String, nullable=False),
    Column("action", String, nullable=False),
    Column("subject", String, nullable=False),
    Column("before", JSON(none_as_null=True)),
    Column("after", JSON(none_as_null=True)),
    sqlite_autoincrement=True,
)

# Finished days, one compressed column of one stream's day a row; `key` is `days.block_key(series, day)`.
block = Table(
    "block",
    metadata,
    Column("key", Whole, primary_key=True, autoincrement=False),
    Column("payload", LargeBinary, nullable=False),
)

# A day of a series in summary, and its hours packed into one value. `failed` counts runs that failed.
day_summary = Table(
    "day_summary",
    metadata,
    Column("key", Whole, primary_key=True, autoincrement=False),
    Column("count", Integer, nullable=False),
    Column("failed", Integer, nullable=False),
    Column("sum", Float, nullable=False),
    Column("min", Float),
    Column("max", Float),
    Column("sketch", LargeBinary, nullable=False),
)

hour_summaries = Table(
    "hour_summaries",
    metadata,
    Column("key", Whole, primary_key=True, autoincrement=False),
    Column("payload", LargeBinary, nullable=False),
)

# What is usual for a stream's main quantity, hour by hour of the week, and its usual shares.
usual = Table(
    "usual",
    metadata,
    Column("stream_id", ForeignKey("stream.id", ondelete="CASCADE"), primary_key=True),
    Column("until_us", Whole, nullable=False),
    Column("payload", LargeBinary, nullable=False),
    Column("answered", Float),
    Column("lost", Float),
)

# What a person keeps under a name: a way of looking at a screen, or a chart pinned to Now.
saved = Table(
    "saved",
    metadata,
    Column("id", Integer, primary_key=True),
    Column("person_id", ForeignKey("person.id", ondelete="CASCADE"), nullable=False),
    Column("kind", String, nullable=False),
    Column("name", String, nullable=False),
    Column("body", JSON, nullable=False),
    UniqueConstraint("person_id", "kind", "name"),
    sqlite_autoincrement=True,
)

# Numbers that the store keeps of itself, for example the horizon: what is measured before it is in blocks.
mark = Table(
    "mark",
    metadata,
    Column("name", String, primary_key=True),
    Column("value", Whole, nullable=False),
)

# What was done or happened; without stream, target and vantage point it concerns everything.
change = Table(
    "change",
    metadata,
    Column("id", Integer, primary_key=True),
    Column("time_us", Whole, nullable=False, index=True),
    Column("until_us", Whole),
    Column("source", String, nullable=False),
    Column("subject", String, nullable=False),
    Column("before", String, nullable=False),
    Column("after", String, nullable=False),
    Column("actor", String, nullable=False),
    Column("stream_id", ForeignKey("stream.id", ondelete="CASCADE"), index=True),
    Column("target_id", ForeignKey("target.id", ondelete="CASCADE"), index=True),
    Column("vantage_point_id", ForeignKey("vantage_point.id", ondelete="CASCADE"), index=True),
    sqlite_autoincrement=True,
)

# What others measured and summed up before they sent it: a name with attributes has one unit.
metric_series = Table(
    "metric_series",
    metadata,
    Column("id", Integer, primary_key=True),
    Column("source", String, nullable=False),
    Column("name", String, nullable=False),
    Column("unit", String, nullable=False),
    # JSON in one canonical form, so that it can be compared.
    Column("attributes", String, nullable=False),
    UniqueConstraint("source", "name", "attributes"),
    sqlite_autoincrement=True,
)


def _metric_columns() -> list[Column[Any]]:
    """A stretch of time of one metric series; keys as in the tail."""
    return [
        Column("slot", Integer, primary_key=True, autoincrement=False),
        Column("series_id", Integer, primary_key=True, autoincrement=False),
        Column("time_us", Whole, primary_key=True, autoincrement=False),
        Column("until_us", Whole, nullable=False),
        Column("count", Whole, nullable=False),
        Column("sum", Float, nullable=False),
        Column("min", Float),
        Column("max", Float),
    ]


metric_point = Table("metric_point", metadata, *_metric_columns(), sqlite_with_rowid=False)
metric_histogram = Table(
    "metric_histogram", metadata, *_metric_columns(), Column("body", LargeBinary, nullable=False), sqlite_with_rowid=False
)

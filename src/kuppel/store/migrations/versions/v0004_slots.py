"""Rows of the tail by slots of two minutes, one body a run; blocks by day first; narrower sketches and hours."""

from collections.abc import Iterator
from typing import Any

import numpy as np
import sqlalchemy as sa
import zstandard
from alembic import op

from kuppel.core.sketch import Sketch, encode
from kuppel.store.block import decode_values
from kuppel.store.dialect import Whole
from kuppel.store.summary import Summary, encode_hours

revision = "0004"
down_revision = "0003"
branch_labels = None
depends_on = None

_ROWS_AT_ONCE = 500


def upgrade() -> None:
    for name, owner, columns in (
        ("sample", "series_id", [sa.Column("value", sa.Float(), nullable=False)]),
        (
            "run",
            "stream_id",
            [
                sa.Column("reason", sa.String(), nullable=True),
                sa.Column("is_generated", sa.Boolean(), nullable=False),
                sa.Column("body", sa.LargeBinary(), nullable=False),
            ],
        ),
    ):
        op.rename_table(name, f"{name}_before")
        if op.get_bind().dialect.name == "postgresql":
            op.execute(f"ALTER INDEX pk_{name} RENAME TO pk_{name}_before")
        op.create_table(
            name,
            sa.Column("slot", sa.Integer(), autoincrement=False, nullable=False),
            sa.Column(owner, sa.Integer(), autoincrement=False, nullable=False),
            sa.Column("time_us", Whole, autoincrement=False, nullable=False),
            *columns,
            sa.PrimaryKeyConstraint("slot", owner, "time_us", name=op.f(f"pk_{name}")),
            sqlite_with_rowid=False,
        )
    if op.get_bind().dialect.name == "sqlite":  # no store of an earlier version was on anything else
        _move_rows()
    for name in ("sample", "run"):
        op.drop_table(f"{name}_before")


def _move_rows() -> None:
    slot = "time_us / 120000000"
    op.execute(f"INSERT INTO sample SELECT {slot}, series_id, time_us, value FROM sample_before")
    body = """CAST('{"attempts":' || attempts || ',"detail":' || detail || '}' AS BLOB)"""
    op.execute(f"INSERT INTO run SELECT {slot}, stream_id, time_us, reason, is_generated, {body} FROM run_before")
    # Series first, day behind it, becomes day first: above every old key, so that no two meet on the way.
    key = "(key % 1048576) * 1099511627776 + key / 1048576"
    op.execute(f"UPDATE block SET key = {key}")
    op.execute(f"UPDATE day_summary SET key = {key}")
    for rows in _pieces("SELECT key, sketch FROM day_summary"):
        changed = [{"k": key, "b": encode(_old_sketch(packed))} for key, packed in rows]
        op.get_bind().execute(sa.text("UPDATE day_summary SET sketch = :b WHERE key = :k"), changed)
    op.execute(f"UPDATE hour_summaries SET key = {key}")
    for rows in _pieces("SELECT key, payload FROM hour_summaries"):
        changed = [{"k": key, "b": encode_hours(_old_hours(packed))} for key, packed in rows]
        op.get_bind().execute(sa.text("UPDATE hour_summaries SET payload = :b WHERE key = :k"), changed)


def _pieces(query: str) -> Iterator[list[Any]]:
    rows = op.get_bind().execute(sa.text(query)).all()
    for first in range(0, len(rows), _ROWS_AT_ONCE):
        yield list(rows[first : first + _ROWS_AT_ONCE])


def _old_sketch(packed: bytes) -> Sketch:
    """Four octets a bucket; a large count in several buckets of the same number."""
    buckets = np.frombuffer(packed, np.dtype([("key", "<i2"), ("count", "<u2")]))
    keys, inverse = np.unique(buckets["key"], return_inverse=True)
    return Sketch(keys.astype(np.int32), np.bincount(inverse, buckets["count"], keys.size).astype(np.int64))


def _old_hours(payload: bytes) -> dict[int, Summary]:
    """Each hour's buckets one after another."""
    body = zstandard.ZstdDecompressor().decompress(payload[5:])
    size, *lengths = (int(one) for one in np.frombuffer(body, "<u4", 4))
    whole = np.frombuffer(body, "<u4", size * 4, 16).reshape(4, size)
    buckets = int(whole[3].sum())
    at = 16 + size * 16
    steps = np.frombuffer(body, np.uint8, buckets * 2, at).reshape(2, buckets).T.copy().view("<i2").reshape(-1)
    at += buckets * 2
    counts = np.frombuffer(body, np.uint8, buckets * 4, at).reshape(4, buckets).T.copy().view("<u4").reshape(-1)
    at += buckets * 4
    columns = []
    for length in lengths:
        columns.append(decode_values(body[at : at + length]))
        at += length
    edges = np.concatenate([[0], np.cumsum(whole[3].astype(np.int64))])
    found = {}
    for index in range(size):
        hour, count, failed, _ = (int(one) for one in whole[:, index])
        a, b = edges[index], edges[index + 1]
        made = Sketch(np.cumsum(steps[a:b]).astype(np.int32), counts[a:b].astype(np.int64))
        total, least, most = (float(column[index]) for column in columns)
        found[hour] = Summary(count, failed, total, None if count == 0 else least, None if count == 0 else most, made)
    return found

"""Parquet files, read back by another library (duckdb's reader, which knows nothing of ours)."""

import tempfile
import unittest
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

import duckdb
import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st

from kuppel.wire.parquet import MAGIC, Column, Kind, Writer, whole_file

COLUMNS = [
    Column("time", Kind.TIME_US),
    Column("where", Kind.TEXT),
    Column("is_ok", Kind.BOOLEAN),
    Column("reason", Kind.TEXT, is_optional=True),
    Column("rtt", Kind.DOUBLE, is_optional=True),
]
ROWS = st.lists(
    st.tuples(
        st.integers(0, 4_000_000_000_000_000),
        st.text(st.characters(codec="utf-8", exclude_characters="\0"), max_size=8),
        st.booleans(),
        st.none() | st.sampled_from(["timeout", "no reply"]),
        st.none() | st.floats(allow_nan=False),
    ),
    max_size=40,
)


def group(rows: list[tuple[Any, ...]]) -> dict[str, Any]:
    times, where, is_ok, reasons, rtt = zip(*rows, strict=True) if rows else ((), (), (), (), ())
    return {
        "time": np.array(times, dtype=np.int64),
        "where": list(where),
        "is_ok": np.array(is_ok, dtype=bool),
        "reason": list(reasons),
        "rtt": np.array([np.nan if one is None else one for one in rtt], dtype=np.float64),
    }


class ReadBack(unittest.TestCase):
    def read(self, groups: list[list[tuple[Any, ...]]], query: str) -> list[tuple[Any, ...]]:
        with tempfile.TemporaryDirectory() as folder:
            path = Path(folder) / "made.parquet"
            path.write_bytes(b"".join(whole_file(COLUMNS, iter([group(one) for one in groups]), {"unit.rtt": "ms"})))
            found: list[tuple[Any, ...]] = duckdb.sql(query.format(f"'{path}'")).fetchall()
        return found

    @settings(max_examples=60)
    @given(st.lists(ROWS, max_size=3))
    def test_every_value_comes_back(self, groups: list[list[tuple[Any, ...]]]) -> None:
        found = self.read(groups, 'SELECT epoch_us(time), "where", is_ok, reason, rtt FROM read_parquet({})')
        self.assertEqual(found, [row for one in groups for row in one])

    def test_times_are_instants_in_utc_and_texts_are_texts(self) -> None:
        rows = [(1_764_000_000_123_456, "Brannick", True, None, 12.5)]
        types = self.read([rows], "SELECT column_name, column_type FROM (DESCRIBE SELECT * FROM read_parquet({}))")
        self.assertEqual(
            dict(types),
            {
                "time": "TIMESTAMP WITH TIME ZONE",
                "where": "VARCHAR",
                "is_ok": "BOOLEAN",
                "reason": "VARCHAR",
                "rtt": "DOUBLE",
            },
        )
        ((told,),) = self.read([rows], "SELECT epoch_us(time) FROM read_parquet({})")
        self.assertEqual(datetime.fromtimestamp(told / 1e6, UTC).year, 2025)

    def test_what_explains_the_columns_is_in_the_file(self) -> None:
        notes = self.read([], "SELECT key::VARCHAR, value::VARCHAR FROM parquet_kv_metadata({})")
        self.assertEqual(notes, [("unit.rtt", "ms")])
        ((version, by, rows),) = self.read([], "SELECT format_version, created_by, num_rows FROM parquet_file_metadata({})")
        self.assertEqual((version, by, rows), (1, "kuppel", 0))

    def test_statistics_of_row_groups_are_as_stored(self) -> None:
        """Sizes and offsets in the footer are where the pages are: duckdb refuses a file in which they are not."""
        rows = [(at, "x" * (at % 7), at % 3 == 0, None, at / 7 if at % 2 else None) for at in range(5000)]
        told = self.read([rows, rows[:10]], "SELECT row_group_num_rows, num_values FROM parquet_metadata({})")
        self.assertEqual(set(told), {(5000, 5000), (10, 10)})
        ((total, count),) = self.read([rows], "SELECT sum(rtt), count(rtt) FROM read_parquet({})")
        self.assertAlmostEqual(total, sum(at / 7 for at in range(1, 5000, 2)), places=4)
        self.assertEqual(count, 2500)

    def test_columns_must_fit(self) -> None:
        writer = Writer(COLUMNS)
        self.assertEqual(writer.begin(), MAGIC)
        one = group([(1, "a", True, None, 1.0)])
        for wrong in ({**one, "where": []}, {name: column for name, column in one.items() if name != "rtt"}):
            with self.assertRaisesRegex(ValueError, "one length"):
                writer.row_group(wrong)

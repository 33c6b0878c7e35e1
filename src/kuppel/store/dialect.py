"""Where SQL differs between the databases that can hold a store: SQLite, the default and the reference, and PostgreSQL."""

import itertools
from collections.abc import Iterable
from functools import cache
from typing import Any

from sqlalchemy import BigInteger, Connection, Integer, Table
from sqlalchemy.dialects import postgresql, sqlite

# A whole number of 64 bits: every integer of SQLite is one, and only its plain `INTEGER` can be a row's own number.
Whole = BigInteger().with_variant(Integer(), "sqlite")

# Measured: a hundred rows a statement go in twice as fast as one, and more gain nothing.
_ROWS_A_STATEMENT = 100


def is_sqlite(connection: Connection) -> bool:
    return connection.dialect.name == "sqlite"


def insert(connection: Connection, table: Table) -> Any:
    """An INSERT that can say what happens to rows that are there already."""
    return (sqlite.insert if is_sqlite(connection) else postgresql.insert)(table)


def add_rows(connection: Connection, table: Table, rows: Iterable[tuple[Any, ...]]) -> None:
    """Insert many rows, every column in its order; one whose key is there already is left as it is."""
    add_flat(connection, table, list(itertools.chain.from_iterable(rows)))


def add_flat(connection: Connection, table: Table, values: list[Any]) -> int:
    """`add_rows` with the values of all rows one after another, the quickest to make; how many were not there before."""
    return _write(connection, table, values, is_replacing=False)


def put_rows(connection: Connection, table: Table, rows: Iterable[tuple[Any, ...]]) -> None:
    """Insert many rows with different keys, every column in its order, in the place of those that are there already."""
    _write(connection, table, list(itertools.chain.from_iterable(rows)), is_replacing=True)


def plain_rows(connection: Connection, statement: str) -> list[tuple[Any, ...]]:
    """The driver's own rows: over tens of thousands of them, all that stands above it costs more than the reading."""
    cursor = connection.connection.cursor()
    try:
        cursor.execute(statement)
        return list(cursor.fetchall())
    finally:
        cursor.close()


def _write(connection: Connection, table: Table, values: list[Any], *, is_replacing: bool) -> int:
    written = 0
    columns = len(table.c)
    width = _ROWS_A_STATEMENT * columns
    whole = len(values) // width * width
    for rows, start, end in ((_ROWS_A_STATEMENT, 0, whole), (1, whole, len(values))):
        if start < end:
            step = rows * columns
            parts = [tuple(values[at : at + step]) for at in range(start, end, step)]
            statement = _statement(table, connection.dialect.name, rows, is_replacing)
            written += connection.exec_driver_sql(statement, parts).rowcount
    return written


@cache
def _statement(table: Table, dialect: str, rows: int, is_replacing: bool) -> str:
    mark = "?" if dialect == "sqlite" else "%s"
    columns = [f'"{one.name}"' for one in table.columns]
    values = ", ".join([f"({', '.join([mark] * len(columns))})"] * rows)
    conflict = "DO NOTHING"
    if is_replacing:
        keys = [f'"{one.name}"' for one in table.primary_key]
        changed = ", ".join(f"{one} = excluded.{one}" for one in columns if one not in keys)
        conflict = f"({', '.join(keys)}) DO UPDATE SET {changed}"
    return f'INSERT INTO "{table.name}" ({", ".join(columns)}) VALUES {values} ON CONFLICT {conflict}'

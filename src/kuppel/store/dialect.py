"""Where SQL differs between the databases that can hold a store: SQLite, the default and the reference, and PostgreSQL."""

import itertools
from collections.abc import Sequence
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


def add_rows(connection: Connection, table: Table, rows: Sequence[tuple[Any, ...]]) -> None:
    """Insert many rows, every column in its order; one whose key is there already is left as it is."""
    _write(connection, table, rows, is_replacing=False)


def put_rows(connection: Connection, table: Table, rows: Sequence[tuple[Any, ...]]) -> None:
    """Insert many rows with different keys, every column in its order, in the place of those that are there already."""
    _write(connection, table, rows, is_replacing=True)


def _write(connection: Connection, table: Table, rows: Sequence[tuple[Any, ...]], *, is_replacing: bool) -> None:
    whole = len(rows) // _ROWS_A_STATEMENT * _ROWS_A_STATEMENT
    if whole:
        flat = tuple(itertools.chain.from_iterable(rows[:whole]))
        width = _ROWS_A_STATEMENT * len(table.c)
        statement = _statement(table, connection.dialect.name, _ROWS_A_STATEMENT, is_replacing)
        connection.exec_driver_sql(statement, [flat[at : at + width] for at in range(0, len(flat), width)])
    if whole < len(rows):
        connection.exec_driver_sql(_statement(table, connection.dialect.name, 1, is_replacing), list(rows[whole:]))


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

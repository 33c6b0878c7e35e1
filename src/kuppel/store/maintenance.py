"""Looking after a database file: checking it, copying it while it is in use, putting a copy back."""

import os
import shutil
import sqlite3
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from pathlib import Path

from sqlalchemy import select

from kuppel.store import block, days, summary, tables
from kuppel.store.database import Database, DatabaseUnusable
from kuppel.store.dialect import is_sqlite
from kuppel.store.sizes import table_sizes


@dataclass(frozen=True, slots=True)
class Report:
    """What a check found. `damaged` names each day that cannot be read, with its series; `broken` what SQLite says."""

    blocks: int
    damaged: list[str]
    broken: list[str]
    bytes_by_table: dict[str, int]

    @property
    def is_sound(self) -> bool:
        return not self.damaged and not self.broken


def check(database: Database) -> Report:
    """Read everything: the file's own structure, and the checksum of every block."""
    with database.reading() as connection:
        broken = []
        if is_sqlite(connection):
            told = [str(row[0]) for row in connection.exec_driver_sql("PRAGMA integrity_check(20)")]
            broken = [] if told == ["ok"] else told
        names = {row.id: (row.stream_id, row.quantity) for row in connection.execute(select(tables.series))}
        damaged: list[str] = []
        blocks = 0
        for key, payload in connection.exec_driver_sql("SELECT key, payload FROM block"):
            blocks += 1
            series = days.key_series(key)
            stream, quantity = names.get(series, (0, days.TIMES))
            try:
                _read(quantity, payload)
            except block.BlockDamaged as error:
                damaged.append(f"stream {stream}, {quantity}, day {_date(days.key_day(key))}: {error}")
        for key, payload in connection.exec_driver_sql("SELECT key, payload FROM hour_summaries"):
            try:
                summary.decode_hours(payload)
            except block.BlockDamaged as error:
                damaged.append(f"hours of series {days.key_series(key)}, day {_date(days.key_day(key))}: {error}")
        found = sorted(table_sizes(connection), key=lambda one: -one[1])
    return Report(blocks, damaged, broken, dict(found))


def _read(quantity: str, payload: bytes) -> None:
    readers: dict[str, Callable[[bytes], object]] = {
        days.TIMES: block.decode_times,
        days.CODES: block.decode_codes,
        days.BODIES: block.decode_bodies,
    }
    readers.get(quantity, block.decode_values)(payload)


def _date(day_us: int) -> str:
    from datetime import UTC, datetime

    return datetime.fromtimestamp(day_us / 1e6, UTC).date().isoformat()


def back_up(path: Path, to: Path) -> None:
    """A copy of a database, also while a hub uses it; it is opened once to see that it is whole.

    Raises
    ------
    DatabaseUnusable
        when there is no database, the copy exists already, or the copy is not whole.
    """
    if not path.exists():
        raise DatabaseUnusable(f"There is no database {path}. Name its folder with --data.")
    if to.exists():
        raise DatabaseUnusable(f"{to} exists already. Name another file.")
    unfinished = to.with_name(to.name + ".unfinished")
    unfinished.unlink(missing_ok=True)
    source, target = sqlite3.connect(path), sqlite3.connect(unfinished)
    try:
        source.backup(target, pages=1000)
        whole = target.execute("PRAGMA integrity_check(1)").fetchone()[0]
    finally:
        source.close()
        target.close()
    if whole != "ok":
        raise DatabaseUnusable(f"The copy is not whole ({whole}); it was left as {unfinished}. Check the database itself.")
    os.replace(unfinished, to)


def restore(copy: Path, path: Path) -> Path | None:
    """Put a copy in the place of a database that no hub uses; where the one before was put, if there was one.

    Raises
    ------
    DatabaseUnusable
        when the copy cannot be opened, or the database is in use.
    """
    if not copy.exists():
        raise DatabaseUnusable(f"There is no file {copy}.")
    for leftover in _beside(path):
        if leftover.name.endswith("-wal") and leftover.stat().st_size:
            raise DatabaseUnusable(f"{path} is in use, or its hub was cut off: start and stop the hub once, then restore.")
    fresh = path.with_name("restored.db")
    shutil.copyfile(copy, fresh)
    Database(fresh).close()  # migrates it, and refuses what is not a database of ours
    for leftover in _beside(fresh):
        leftover.unlink()
    before = None
    if path.exists():
        before = path.with_name("before-restore.db")
        os.replace(path, before)
    for leftover in _beside(path):
        leftover.unlink()
    os.replace(fresh, path)
    return before


def _beside(path: Path) -> Iterator[Path]:
    for suffix in ("-wal", "-shm"):
        one = path.with_name(path.name + suffix)
        if one.exists():
            yield one

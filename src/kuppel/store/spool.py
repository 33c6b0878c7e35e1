"""The agent's spool: results on disk until the hub has them, bounded, the oldest detail dropped first.

A plain SQLite file of the standard library, since an agent's machine has nothing else. Results carry a sequence number
that never returns, not even after a restart; the spool's own identity tells two spools of one vantage point apart.
"""

import secrets
import sqlite3
from dataclasses import dataclass
from pathlib import Path

import orjson

from kuppel.wire.delivery import DeliveredResult

_SCHEMA = """
CREATE TABLE IF NOT EXISTS result (
  sequence INTEGER PRIMARY KEY AUTOINCREMENT, body BLOB NOT NULL, has_detail INTEGER NOT NULL
);
CREATE INDEX IF NOT EXISTS result_detail ON result (sequence) WHERE has_detail;
CREATE TABLE IF NOT EXISTS note (name TEXT PRIMARY KEY, value TEXT NOT NULL);
"""


@dataclass(frozen=True, slots=True)
class SpoolStatus:
    """Results waiting, and what was dropped since the spool began."""

    waiting: int
    dropped_details: int
    dropped_results: int


class Spool:
    """Results waiting for delivery, in the order in which they were measured.

    Parameters
    ----------
    most_results : how many results are kept at most; beyond it the oldest go, and are counted.
    most_details : how many of them keep their detail (single round trips, headers); it goes from the oldest first.
    """

    def __init__(self, path: Path, *, most_results: int = 500_000, most_details: int = 50_000) -> None:
        path.parent.mkdir(parents=True, exist_ok=True)
        self._most_results = most_results
        self._most_details = most_details
        self._connection = sqlite3.connect(path, isolation_level=None, check_same_thread=False)
        self._connection.execute("PRAGMA journal_mode=WAL")
        self._connection.execute("PRAGMA synchronous=NORMAL")
        self._connection.executescript(_SCHEMA)
        self.identity = self._note("identity") or secrets.token_hex(8)
        self._set_note("identity", self.identity)
        self._dropped_details = int(self._note("dropped_details") or 0)
        self._dropped_results = int(self._note("dropped_results") or 0)
        self._waiting = self._count("SELECT count(*) FROM result")
        self._details = self._count("SELECT count(*) FROM result WHERE has_detail")

    def put(self, result: DeliveredResult) -> int:
        """Keep a result and return its sequence number. The one that it carries is ignored."""
        body = result.model_dump(mode="json", exclude={"sequence"})
        has_detail = bool(body["detail"])
        self._connection.execute("BEGIN IMMEDIATE")
        cursor = self._connection.execute(
            "INSERT INTO result (body, has_detail) VALUES (?, ?)", (orjson.dumps(body), has_detail)
        )
        self._waiting += 1
        self._details += has_detail
        self._keep_bounded()
        self._connection.execute("COMMIT")
        return int(cursor.lastrowid or 0)

    def oldest(self, count: int) -> list[DeliveredResult]:
        """The results to deliver next."""
        rows = self._connection.execute("SELECT sequence, body FROM result ORDER BY sequence LIMIT ?", (count,))
        return [DeliveredResult(sequence=sequence, **orjson.loads(body)) for sequence, body in rows]

    def forget(self, up_to: int) -> None:
        """Drop what the hub has."""
        self._connection.execute("DELETE FROM result WHERE sequence <= ?", (up_to,))
        self._waiting = self._count("SELECT count(*) FROM result")
        self._details = self._count("SELECT count(*) FROM result WHERE has_detail")

    def status(self) -> SpoolStatus:
        return SpoolStatus(self._waiting, self._dropped_details, self._dropped_results)

    def close(self) -> None:
        self._connection.close()

    def _keep_bounded(self) -> None:
        if self._details > self._most_details:
            sequence, body = self._connection.execute(
                "SELECT sequence, body FROM result WHERE has_detail ORDER BY sequence LIMIT 1"
            ).fetchone()
            slim = orjson.loads(body) | {"detail": {}}
            self._connection.execute(
                "UPDATE result SET body = ?, has_detail = 0 WHERE sequence = ?", (orjson.dumps(slim), sequence)
            )
            self._details -= 1
            self._dropped_details += 1
            self._set_note("dropped_details", str(self._dropped_details))
        if self._waiting > self._most_results:
            had_detail = self._connection.execute(
                "DELETE FROM result WHERE sequence = (SELECT min(sequence) FROM result) RETURNING has_detail"
            ).fetchone()[0]
            self._waiting -= 1
            self._details -= had_detail
            self._dropped_results += 1
            self._set_note("dropped_results", str(self._dropped_results))

    def _count(self, query: str) -> int:
        return int(self._connection.execute(query).fetchone()[0])

    def _note(self, name: str) -> str | None:
        row = self._connection.execute("SELECT value FROM note WHERE name = ?", (name,)).fetchone()
        return None if row is None else str(row[0])

    def _set_note(self, name: str, value: str) -> None:
        self._connection.execute("INSERT OR REPLACE INTO note VALUES (?, ?)", (name, value))

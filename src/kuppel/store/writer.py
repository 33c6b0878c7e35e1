"""The one writer: a thread with one connection that commits what arrived, many jobs at a time, and only then answers."""

import queue
import threading
import time
from collections import deque
from collections.abc import Callable
from concurrent.futures import Future
from dataclasses import dataclass
from typing import Any, TypeVar

import structlog
from sqlalchemy import Connection
from sqlalchemy.exc import OperationalError

from kuppel.core.percentile import percentile
from kuppel.store.database import Database, fold_log, forget

T = TypeVar("T")
Job = Callable[[Connection], T]

_JOBS_PER_COMMIT = 64
_COMMITS_REMEMBERED = 1000
_FOLD_EVERY_S = 1.0
_log = structlog.get_logger()


class StoreBusy(Exception):
    """The queue of the writer is full; the caller should come again later and keep what it has."""


class StoreFull(Exception):
    """The disk or the database is full; nothing of the job was stored."""


@dataclass(frozen=True, slots=True)
class Commits:
    """Percentiles over the last commits, the jobs in them included; None before the first."""

    count: int
    p50_ms: float | None
    p99_ms: float | None


class Writer:
    """Runs jobs in order. A job that fails is undone alone; the others of its commit are not touched."""

    def __init__(self, database: Database, *, capacity: int = 1000) -> None:
        self._database = database
        self._commits_made = 0
        self._commit_ms: deque[float] = deque(maxlen=_COMMITS_REMEMBERED)
        self._jobs: queue.Queue[tuple[Job[Any], Future[Any]] | None] = queue.Queue(capacity)
        self._thread = threading.Thread(target=self._work, name="writer", daemon=True)
        self._thread.start()
        self._is_closed = threading.Event()
        self._folding = threading.Thread(target=self._fold, name="checkpoint", daemon=True)
        self._folding.start()

    def submit(self, job: Job[T]) -> Future[T]:
        """Queue a job; its future is set after the commit that holds it.

        Raises
        ------
        StoreBusy
            when the queue is full.
        """
        future: Future[T] = Future()
        try:
            self._jobs.put_nowait((job, future))
        except queue.Full:
            raise StoreBusy from None
        return future

    def write(self, job: Job[T], timeout_s: float = 60) -> T:
        """Submit and wait for the commit."""
        return self.submit(job).result(timeout_s)

    @property
    def waiting(self) -> int:
        """Jobs that wait for the writer."""
        return self._jobs.qsize()

    def commits(self) -> Commits:
        """How long the last commits took."""
        times = sorted(self._commit_ms)
        if not times:
            return Commits(0, None, None)
        return Commits(len(times), percentile(times, 0.5), percentile(times, 0.99))

    def close(self) -> None:
        """Finish what is queued and stop."""
        self._jobs.put(None)
        self._thread.join()
        self._is_closed.set()
        self._folding.join()

    def _work(self) -> None:
        with self._database.write_engine.connect() as connection:
            while True:
                first = self._jobs.get()
                if first is None:
                    return
                batch = [first]
                is_last = False
                while len(batch) < _JOBS_PER_COMMIT:
                    try:
                        following = self._jobs.get_nowait()
                    except queue.Empty:
                        break
                    if following is None:
                        is_last = True
                        break
                    batch.append(following)
                self._commit(connection, batch)
                if is_last:
                    return

    def _fold(self) -> None:
        """Fold SQLite's log into the file every second, beside the commits: within one it would make that one wait."""
        folded = 0
        while not self._is_closed.wait(_FOLD_EVERY_S):
            if self._commits_made != folded:
                folded = self._commits_made
                try:
                    fold_log(self._database)
                except OperationalError as error:  # a full disk; what is in the log is safe
                    _log.error("log not folded in", reason=str(error.orig))

    def _commit(self, connection: Connection, batch: list[tuple[Job[Any], Future[Any]]]) -> None:
        done: list[tuple[Future[Any], Any]] = []
        begun = time.perf_counter()
        try:
            with connection.begin():
                for job, future in batch:
                    try:
                        with connection.begin_nested():
                            done.append((future, job(connection)))
                    except OperationalError:
                        raise
                    except Exception as error:
                        forget(connection)
                        future.set_exception(error)
        except Exception as error:
            forget(connection)
            failure = _told(error)
            _log.error("commit failed", reason=str(failure), jobs=len(batch))
            for _, future in batch:
                if not future.done():
                    future.set_exception(failure)
            return
        self._commits_made += 1
        self._commit_ms.append((time.perf_counter() - begun) * 1000)
        for future, value in done:
            future.set_result(value)


def _told(error: Exception) -> Exception:
    """The error in the store's words. SQLite undoes everything by itself when full, so undoing again fails on top of it."""
    cause: BaseException | None = error
    while cause is not None:
        # SQLite says "database or disk is full", PostgreSQL "No space left on device".
        if isinstance(cause, OperationalError) and any(one in str(cause.orig) for one in ("full", "No space left")):
            return StoreFull(str(cause.orig))
        cause = cause.__context__
    return error

"""Heavy reading in processes of its own: windows, top lists, distributions.

Readers as threads beside the writer make its commits ten times slower (docs/scale.md): what they contend for is the
interpreter, not the database. So a question is a function of a database and plain values, sent to one of a few processes
that each have a connection that cannot write; the answer comes back as plain values and arrays.
"""

import contextlib
import multiprocessing
import os
import signal
import threading
import time
from collections.abc import Callable
from concurrent.futures import ProcessPoolExecutor
from concurrent.futures import TimeoutError as TooLate
from concurrent.futures.process import BrokenProcessPool
from typing import Concatenate, ParamSpec, TypeVar

import structlog

from kuppel.store.database import Database, Place

P = ParamSpec("P")
T = TypeVar("T")
Question = Callable[Concatenate[Database, P], T]

_LONGEST_S = 60.0
_LONGEST_END_S = 5.0
_log = structlog.get_logger()


class ReadersBusy(Exception):
    """No reader answered in time; the caller should ask again later, or for less."""


class Readers:
    """Answers questions to the store.

    Parameters
    ----------
    processes : how many; 0 answers in the thread that asks, with `database`.
    """

    def __init__(self, database: Database, processes: int) -> None:
        self._database = database
        self._processes = processes
        self._lock = threading.Lock()
        self._pool: ProcessPoolExecutor | None = None
        self._is_closed = False

    def warm_up(self) -> None:
        """Start the processes, so that the first question need not wait for it."""
        if self._processes:
            # A hub that is stopped meanwhile needs them no more.
            with contextlib.suppress(ReadersBusy, RuntimeError):
                pool = self._running()
                for _ in range(self._processes):
                    pool.submit(_awake)

    def ask(self, question: Question[P, T], *args: P.args, **kwargs: P.kwargs) -> T:
        """The answer of `question(database, *args)`, worked out elsewhere. What it raises is raised here.

        Raises
        ------
        ReadersBusy
            when there was no answer within a minute, or none that a reader lived to tell.
        """
        if not self._processes:
            return question(self._database, *args, **kwargs)
        for _ in range(2):
            pool = self._running()
            try:
                return pool.submit(_answer, question, args, kwargs).result(_LONGEST_S)
            except TooLate:
                break
            except BrokenProcessPool:
                # A reader was killed, for want of memory perhaps; new ones may be asked once more.
                _log.error("a reader process died")
                self._replace(pool)
        raise ReadersBusy

    def close(self) -> None:
        """End the processes; whoever waits for an answer gets none."""
        with self._lock:
            self._is_closed = True
            pool, self._pool = self._pool, None
        if pool is None:
            return
        ending = threading.Thread(target=pool.shutdown, kwargs={"cancel_futures": True}, daemon=True)
        ending.start()
        # They only read: nothing is half-done when they end in mid-work. One may just be starting, hence again and again.
        deadline = time.monotonic() + _LONGEST_END_S
        while ending.is_alive() and time.monotonic() < deadline:
            for one in multiprocessing.active_children():
                one.terminate()
            ending.join(0.05)

    def _running(self) -> ProcessPoolExecutor:
        with self._lock:
            if self._is_closed:
                raise ReadersBusy
            if self._pool is None:
                self._pool = ProcessPoolExecutor(
                    self._processes,
                    multiprocessing.get_context("spawn"),  # a fork of a program with threads may never wake
                    _begin,
                    (self._database.place, os.getpid()),
                )
            return self._pool

    def _replace(self, broken: ProcessPoolExecutor) -> None:
        with self._lock:
            if self._pool is broken:
                broken.shutdown(wait=False)
                self._pool = None


_opened: Database | None = None


def _begin(place: Place, hub: int) -> None:
    global _opened  # noqa: PLW0603 — a process has one
    # Whoever interrupts the hub interrupts its children too; the hub tells them when to go.
    signal.signal(signal.SIGINT, signal.SIG_IGN)
    threading.Thread(target=_leave_with, args=(hub,), daemon=True).start()
    _opened = Database(place, is_migrating=False)


def _leave_with(hub: int) -> None:
    """End when the hub was killed and cannot tell."""
    while os.getppid() == hub:
        time.sleep(1)
    os._exit(0)


def _awake() -> None:
    time.sleep(0.05)  # so that each process takes one


def _answer(question: Callable[..., T], args: tuple[object, ...], kwargs: dict[str, object]) -> T:
    assert _opened is not None  # `_begin` saw to it
    return question(_opened, *args, **kwargs)

"""Changes that people make: done and recorded in one commit, so that neither is ever without the other."""

from collections.abc import Callable, Mapping
from dataclasses import dataclass
from typing import Any, Generic, TypeVar

from kuppel.core.change import Change, ChangeSource
from kuppel.hub.engine.access import Caller
from kuppel.store import changes
from kuppel.store.database import Connection
from kuppel.store.record import Entry, add_entry
from kuppel.store.writer import Writer

T = TypeVar("T")


@dataclass(frozen=True, slots=True)
class Changed(Generic[T]):
    """What a change yields, and what the record says of it: without secrets."""

    value: T
    subject: str
    before: Mapping[str, Any] | None = None
    after: Mapping[str, Any] | None = None
    # What it changes in what is measured, if it does: it is then found beside the measurements.
    target_id: int | None = None


def change(writer: Writer, caller: Caller, action: str, now_us: int, job: Callable[[Connection], Changed[T]]) -> T:
    """Do the job and record it."""

    def whole(connection: Connection) -> T:
        done = job(connection)
        before, after = _differences(done.before, done.after)
        add_entry(
            connection,
            Entry(now_us, caller.kind, caller.name, caller.address, action, done.subject, before, after),
        )
        if done.target_id is not None:
            made = Change(
                id=0,
                time_us=now_us,
                until_us=None,
                source=ChangeSource.CONFIGURATION,
                subject=f"{action} {done.subject}",
                before=_in_words(before),
                after=_in_words(after),
                actor=caller.name,
                target_id=done.target_id,
            )
            changes.add_change(connection, made)
        return done.value

    return writer.write(whole)


def _in_words(values: Mapping[str, Any] | None) -> str:
    return ", ".join(f"{name} {value}" for name, value in (values or {}).items())


def _differences(
    before: Mapping[str, Any] | None, after: Mapping[str, Any] | None
) -> tuple[Mapping[str, Any] | None, Mapping[str, Any] | None]:
    """Only what differs, where both are there.

    >>> _differences({"a": 1, "b": 2}, {"a": 1, "b": 3})
    ({'b': 2}, {'b': 3})
    """
    if before is None or after is None:
        return before, after
    names = [name for name in {**before, **after} if before.get(name) != after.get(name)]
    return {name: before.get(name) for name in names}, {name: after.get(name) for name in names}

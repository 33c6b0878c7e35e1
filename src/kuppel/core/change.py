"""Changes: what was done or happened that may explain what is measured afterwards."""

from collections.abc import Mapping
from dataclasses import dataclass
from enum import StrEnum


class ChangeSource(StrEnum):
    RELEASE = "release"
    CONFIGURATION = "configuration"
    PATH = "path"
    CERTIFICATE = "certificate"
    ADDRESS = "address"
    NOTICE = "notice"
    MAINTENANCE = "maintenance"


# Sources that people and their programs tell of; the others Kuppel finds by itself.
TOLD = frozenset({ChangeSource.RELEASE, ChangeSource.CONFIGURATION, ChangeSource.NOTICE, ChangeSource.MAINTENANCE})

# Facts whose change is a change, and its source.
OF_FACT: Mapping[str, ChangeSource] = {
    "address": ChangeSource.ADDRESS,
    "answers": ChangeSource.ADDRESS,
    "certificate": ChangeSource.CERTIFICATE,
    "http_version": ChangeSource.CONFIGURATION,
    "path": ChangeSource.PATH,
}


def is_same_fact(name: str, before: str, after: str) -> bool:
    """Whether a fact says what it said before. A hop that gave no answer this time is no other path.

    >>> is_same_fact("path", "a > b > c", "a > * > c"), is_same_fact("path", "a > b > c", "a > d > c")
    (True, False)
    """
    if before == after:
        return True
    if name != "path":
        return False
    hops, others = before.split(" > "), after.split(" > ")
    return len(hops) == len(others) and all(
        one == other or "*" in (one, other) for one, other in zip(hops, others, strict=True)
    )


@dataclass(frozen=True, slots=True)
class Change:
    """One change.

    `subject` says what changed. Where it changed is named by numbers: with a stream, a target or a vantage point it
    concerns that alone, with none of them everything. `before` and `after` are empty where there is nothing to say.
    `until_us` is set for what lasts, as maintenance does.
    """

    id: int
    time_us: int
    until_us: int | None
    source: ChangeSource
    subject: str
    before: str
    after: str
    actor: str
    stream_id: int | None = None
    target_id: int | None = None
    vantage_point_id: int | None = None

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
}


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

"""What is not measured, and should perhaps be: gaps between what is known and what probes look at."""

from dataclasses import dataclass

from kuppel.core.schedule import longest_gap
from kuppel.core.state import silent_after
from kuppel.hub.engine.joined import Joined, joined_streams
from kuppel.store import inventory
from kuppel.store.database import Database
from kuppel.store.inventory import Probe, Target, VantagePoint


@dataclass(frozen=True, slots=True)
class Follower:
    """A vantage point that has a tag of a probe's vantage points, but does not run the probe."""

    vantage_point: VantagePoint
    probe: Probe
    tag: str


@dataclass(frozen=True, slots=True)
class Coverage:
    """Targets that no enabled probe measures, vantage points that run none, streams whose last run is overdue, and who does
    not yet follow a tag's probes."""

    bare_targets: list[Target]
    idle_points: list[VantagePoint]
    overdue: list[Joined]
    not_following: list[Follower]


def coverage(database: Database, now_us: int, delivery_us: int) -> Coverage:
    """Overdue is what is silent by the stream's own schedule, or never ran since as long."""
    streams = joined_streams(database)
    with database.reading() as connection:
        targets = inventory.targets(connection)
        points = inventory.vantage_points(connection)
        probes = [one for one in inventory.probes(connection) if one.is_enabled]
    measured = {one.target.id for one in streams}
    busy = {one.vantage_point.id for one in streams}
    overdue = [
        one
        for one in streams
        if now_us - (one.stream.last_run_us or one.stream.created_us)
        > silent_after(longest_gap(one.probe.timing), delivery_us)
    ]
    return Coverage(
        [one for one in targets if one.id not in measured],
        [one for one in points if one.id not in busy],
        overdue,
        _not_following(points, probes),
    )


def _not_following(points: list[VantagePoint], probes: list[Probe]) -> list[Follower]:
    """A probe follows a tag when all but some of those that have the tag run it, and at least two do."""
    found = []
    tags = sorted({tag for point in points for tag in point.tags})
    for probe in probes:
        for tag in tags:
            tagged = [one for one in points if tag in one.tags]
            without = [one for one in tagged if one.id not in probe.vantage_point_ids]
            if len(tagged) - len(without) >= 2 and without and len(without) <= len(tagged) // 2:
                found += [Follower(one, probe, tag) for one in without]
    return found

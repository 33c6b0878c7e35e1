"""Streams with the names of what they join."""

from dataclasses import dataclass

from kuppel.core.limit import Limit
from kuppel.core.quantity import QUANTITIES, Quantity
from kuppel.probes.registry import KINDS
from kuppel.store import inventory
from kuppel.store.database import Database
from kuppel.store.inventory import Probe, Stream, Target, VantagePoint


@dataclass(frozen=True, slots=True)
class Joined:
    """A stream with the things it joins."""

    stream: Stream
    probe: Probe
    vantage_point: VantagePoint
    target: Target

    @property
    def main(self) -> Quantity:
        """The main quantity of its kind."""
        return QUANTITIES[KINDS[self.probe.kind].main]

    @property
    def limit(self) -> Limit | None:
        """The limit of its main quantity, if it has one."""
        return next((one for one in self.probe.limits if one.quantity == self.main.name), None)

    @property
    def judged(self) -> Quantity:
        """What it is judged by: the main quantity, or where that has no limit, what the first one is of."""
        if self.limit is not None or not self.probe.limits:
            return self.main
        return QUANTITIES[self.probe.limits[0].quantity]


def joined_streams(database: Database, probe_id: int | None = None) -> list[Joined]:
    """All active streams, or those of one probe."""
    with database.reading() as connection:
        points = {one.id: one for one in inventory.vantage_points(connection)}
        targets = {one.id: one for one in inventory.targets(connection)}
        if probe_id is None:
            probes = {one.id: one for one in inventory.probes(connection)}
        else:
            probes = {probe_id: inventory.probe(connection, probe_id)}
        streams = inventory.active_streams(connection, probe_id)
    return [
        Joined(one, probes[one.probe_id], points[one.vantage_point_id], targets[probes[one.probe_id].target_id])
        for one in streams
    ]


def joined_stream(database: Database, stream_id: int) -> Joined:
    """One stream, active or not.

    Raises
    ------
    NotFound
    """
    with database.reading() as connection:
        stream = inventory.stream(connection, stream_id)
        probe = inventory.probe(connection, stream.probe_id)
        point = inventory.vantage_point(connection, stream.vantage_point_id)
        target = inventory.target(connection, probe.target_id)
    return Joined(stream, probe, point, target)

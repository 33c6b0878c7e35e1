"""All that a stream's screen shows of a window, read in one go: what several parts rest on is read once."""

from dataclasses import dataclass

from kuppel.core.change import Change
from kuppel.hub.engine.figures import InFigures, in_figures
from kuppel.hub.engine.joined import Joined
from kuppel.hub.engine.reading import Reading, Runs, StreamSeries
from kuppel.hub.engine.usual import Usual, usual
from kuppel.store import changes
from kuppel.store.database import Database

_MOST_CHANGES = 100


@dataclass(frozen=True, slots=True)
class Page:
    sentence: str
    peers: list[Joined]
    series: StreamSeries
    usual: Usual
    figures: InFigures
    runs: Runs
    changes: list[Change]


def page(database: Database, joined: Joined, from_us: int, to_us: int, points: int, runs: int) -> Page:
    """A stream in a window, in at most `points` slices and with the newest `runs`."""
    reading = Reading(database, joined, from_us, to_us)
    with database.reading() as connection:
        found = changes.changes(connection, from_us, to_us, stream_id=joined.stream.id, limit=_MOST_CHANGES)
    return Page(
        reading.sentence(),
        reading.peers(),
        reading.series(points),
        usual(database, joined, from_us, to_us),
        in_figures(reading),
        reading.newest(runs),
        found,
    )

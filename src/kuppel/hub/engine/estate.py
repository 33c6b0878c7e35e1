"""The estate as a whole: which streams there are, with the names of what they join, and their figures in a window."""

from collections import Counter
from collections.abc import Mapping, Sequence
from dataclasses import dataclass

import numpy as np

from kuppel.core.departure import Departure
from kuppel.core.quantity import QUANTITIES, bad_end
from kuppel.core.state import SEVERITY, GroupState, State, group_state
from kuppel.core.window import share_of
from kuppel.hub.engine.departures import Measure, departures_from_before, departures_from_usual, worse
from kuppel.hub.engine.joined import Joined, joined_streams
from kuppel.hub.engine.statistic import Statistic, percentiles_of, share_statistic, statistics_of
from kuppel.probes.registry import KINDS
from kuppel.store import totals
from kuppel.store.database import Database
from kuppel.store.inventory import Target, VantagePoint

# The richer a kind, the better it stands for what people feel: a cell shows the first of these that it has.
KIND_ORDER = (
    "page", "transaction", "http", "voice", "tcp", "udp", "dns", "tls", "throughput", "icmp", "path", "host",
)  # fmt: skip


@dataclass(frozen=True, slots=True)
class Cell:
    """One vantage point towards one target: the stream that stands for it, its figure, how that departs from its usual
    one or from another window's, and all its streams."""

    vantage_point_id: int
    target_id: int
    shown: Joined | None
    state: State
    statistic: Statistic
    streams: tuple[Joined, ...]
    unit: str
    departure: Departure | None


@dataclass(frozen=True, slots=True)
class Matrix:
    vantage_points: list[tuple[VantagePoint, GroupState]]
    targets: list[tuple[Target, GroupState]]
    cells: list[Cell]
    whole: GroupState


def matrix(
    database: Database,
    from_us: int,
    to_us: int,
    measure: Measure,
    kind: str | None,
    against_us: tuple[int, int] | None = None,
    quantity: str | None = None,
) -> Matrix:
    """Vantage points × targets, the rows in most trouble first, important targets before others.

    Parameters
    ----------
    against_us : the window that figures are held against; None for what is usual.
    quantity : of what the percentile, mean or worst value is; None for each kind's main one, of whose median and 95th
        percentile what is usual is known.
    """
    streams = [one for one in joined_streams(database) if kind in (None, one.probe.kind)]
    by_cell: dict[tuple[int, int], list[Joined]] = {}
    for one in streams:
        by_cell.setdefault((one.vantage_point.id, one.target.id), []).append(one)
    spread = Counter((target_id, kind) for (_, target_id), members in by_cell.items() for kind in _kinds_of(members))
    shown = {key: _shown(members, measure, quantity, spread) for key, members in by_cell.items()}
    figured = [one for one in shown.values() if one]
    statistics = _statistics(database, figured, from_us, to_us, measure, quantity)
    told = [(one, statistics[one.stream.id]) for one in figured]
    departures: dict[int, Departure] = {}
    if against_us is not None:
        before = _statistics(database, figured, *against_us, measure, quantity)
        departures = departures_from_before(told, before, measure, quantity)
    elif measure.has_usual and quantity is None:
        departures = departures_from_usual(database, told, measure, from_us, to_us)
    cells = []
    for (point_id, target_id), members in by_cell.items():
        stands = shown[point_id, target_id]
        empty = Statistic(None, None, None, 0, "not measured by this kind of probe")
        cells.append(
            Cell(
                point_id,
                target_id,
                stands,
                max((one.stream.state for one in members), key=SEVERITY.__getitem__),
                statistics.get(stands.stream.id, empty) if stands else empty,
                tuple(members),
                _unit(stands, measure, quantity),
                departures.get(stands.stream.id) if stands else None,
            )
        )
    points = {one.vantage_point.id: one.vantage_point for one in streams}
    targets = {one.target.id: one.target for one in streams}
    rows = [(one, group_state(s.stream.state for s in streams if s.vantage_point.id == one.id)) for one in points.values()]
    columns = [(one, group_state(s.stream.state for s in streams if s.target.id == one.id)) for one in targets.values()]
    worst = _worst_ratio(cells, measure, quantity)
    rows.sort(key=lambda row: (-SEVERITY[row[1].state], -row[1].not_fine, -worst.get(row[0].id, 0.0), row[0].name))
    columns.sort(key=lambda column: (not column[0].is_important, column[0].name))
    return Matrix(rows, columns, cells, group_state(one.stream.state for one in streams))


def _unit(shown: Joined | None, measure: Measure, quantity: str | None) -> str:
    if measure.is_share:
        return "1"
    if quantity is not None:
        return QUANTITIES[quantity].unit
    return "ms" if shown is None else shown.main.unit


def _kinds_of(members: Sequence[Joined]) -> set[str]:
    return {one.probe.kind for one in members}


def _shown(
    members: Sequence[Joined], measure: Measure, quantity: str | None, spread: Mapping[tuple[int, str], int]
) -> Joined | None:
    """The stream whose figure stands in a cell: of the kind that most vantage points measure this target with, so that a
    column can be compared, or the richest of those; of its streams the one in most trouble."""
    needed = "lost" if measure is Measure.LOSS else None if measure.is_share else quantity
    able = [one for one in members if needed is None or needed in KINDS[one.probe.kind].quantities]
    return min(
        able,
        key=lambda one: (
            -spread[one.target.id, one.probe.kind],
            KIND_ORDER.index(one.probe.kind),
            -SEVERITY[one.stream.state],
            one.probe.name,
        ),
        default=None,
    )


def _statistics(
    database: Database, streams: Sequence[Joined], from_us: int, to_us: int, measure: Measure, quantity: str | None
) -> dict[int, Statistic]:
    if not measure.is_share:
        return _of_quantity(database, streams, from_us, to_us, measure, quantity)
    ids = [one.stream.id for one in streams]
    if measure is Measure.AVAILABILITY:
        with database.reading() as connection:
            counts = totals.run_counts(connection, ids, from_us, to_us)
        return {one: share_statistic(*counts.get(one, (0, 0)), "runs") for one in ids}
    with database.reading() as connection:
        found = totals.totals(connection, [(one, name) for one in ids for name in ("sent", "lost")], from_us, to_us)
    return {one: share_statistic(round(found[one, "lost"].sum), round(found[one, "sent"].sum), "packets") for one in ids}


def _of_quantity(
    database: Database, streams: Sequence[Joined], from_us: int, to_us: int, measure: Measure, quantity: str | None
) -> dict[int, Statistic]:
    """A percentile, the mean or the worst value of a quantity of each stream, or of its main one."""
    share = share_of(measure)
    if share is not None and quantity is None:
        return main_statistics(database, streams, from_us, to_us, share)
    wanted = [(one, quantity or one.main.name) for one in streams]
    with database.reading() as connection:
        if share is not None:
            ends = [(one, name, bad_end(name, share)) for one, name in wanted]
            return {
                one.stream.id: each
                for (one, _), each in zip(wanted, percentiles_of(connection, ends, from_us, to_us), strict=True)
            }
        found: dict[int, Statistic] = {}
        for side, statistic in (("higher", "max"), ("lower", "min")):
            own = [(one, name) for one, name in wanted if QUANTITIES[name].worse == side]
            told = statistics_of(connection, own, "mean" if measure is Measure.MEAN else statistic, from_us, to_us)
            found |= {one.stream.id: each for (one, _), each in zip(own, told, strict=True)}
    return found


def main_statistics(
    database: Database, streams: Sequence[Joined], from_us: int, to_us: int, share: float
) -> dict[int, Statistic]:
    """A percentile of the main quantity of each stream; exact or within 1 % as `engine.statistic` has it."""
    # Where less is worse, the bad end of the runs is the low one.
    wanted = [(one, one.main.name, bad_end(one.main.name, share)) for one in streams]
    with database.reading() as connection:
        found = percentiles_of(connection, wanted, from_us, to_us)
    return {one.stream.id: each for one, each in zip(streams, found, strict=True)}


def _worst_ratio(cells: Sequence[Cell], measure: Measure, quantity: str | None) -> dict[int, float]:
    """For each vantage point, its worst cell against the middle of that target's column: who is unlike the others."""
    middles: dict[int, float] = {}
    for target_id in {cell.target_id for cell in cells}:
        values = [c.statistic.value for c in cells if c.target_id == target_id and c.statistic.value is not None]
        middles[target_id] = float(np.median(values)) if values else 0.0
    worst: dict[int, float] = {}
    for cell in cells:
        value, middle = cell.statistic.value, middles[cell.target_id]
        if value is None:
            continue
        ratio = value / middle if middle else value
        is_lower_worse = cell.shown is not None and worse(cell.shown, measure, quantity) == "lower"
        bad = 1 / ratio if is_lower_worse and ratio else ratio
        bad = 1 - value if measure is Measure.AVAILABILITY else bad
        worst[cell.vantage_point_id] = max(worst.get(cell.vantage_point_id, 0.0), bad)
    return worst

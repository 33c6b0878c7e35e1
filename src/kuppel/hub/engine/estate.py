"""The estate as a whole: which streams there are, with the names of what they join, and their figures in a window."""

from collections import Counter
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from enum import StrEnum

import numpy as np

from kuppel.core.quantity import QUANTITIES, bad_end
from kuppel.core.state import SEVERITY, GroupState, State, group_state
from kuppel.hub.engine.joined import Joined, joined_streams
from kuppel.hub.engine.statistic import Statistic, share_statistic, statistics_of
from kuppel.probes.registry import KINDS
from kuppel.store import history
from kuppel.store.database import Database
from kuppel.store.inventory import Target, VantagePoint

# The richer a kind, the better it stands for what people feel: a cell shows the first of these that it has.
_KIND_ORDER = (
    "page", "transaction", "http", "voice", "tcp", "udp", "dns", "tls", "throughput", "icmp", "path", "host",
)  # fmt: skip


class Measure(StrEnum):
    P50 = "p50"
    P95 = "p95"
    LOSS = "loss"
    AVAILABILITY = "availability"


@dataclass(frozen=True, slots=True)
class Cell:
    """One vantage point towards one target: the stream that stands for it, its figure, and all its streams."""

    vantage_point_id: int
    target_id: int
    shown: Joined | None
    state: State
    statistic: Statistic
    streams: tuple[Joined, ...]
    unit: str


@dataclass(frozen=True, slots=True)
class Matrix:
    vantage_points: list[tuple[VantagePoint, GroupState]]
    targets: list[tuple[Target, GroupState]]
    cells: list[Cell]
    whole: GroupState


def matrix(database: Database, from_us: int, to_us: int, measure: Measure, kind: str | None) -> Matrix:
    """Vantage points × targets, the rows and columns in most trouble first."""
    streams = [one for one in joined_streams(database) if kind in (None, one.probe.kind)]
    by_cell: dict[tuple[int, int], list[Joined]] = {}
    for one in streams:
        by_cell.setdefault((one.vantage_point.id, one.target.id), []).append(one)
    spread = Counter((target_id, kind) for (_, target_id), members in by_cell.items() for kind in _kinds_of(members))
    shown = {key: _shown(members, measure, spread) for key, members in by_cell.items()}
    statistics = _statistics(database, [one for one in shown.values() if one], from_us, to_us, measure)
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
                _unit(stands, measure),
            )
        )
    points = {one.vantage_point.id: one.vantage_point for one in streams}
    targets = {one.target.id: one.target for one in streams}
    rows = [(one, group_state(s.stream.state for s in streams if s.vantage_point.id == one.id)) for one in points.values()]
    columns = [(one, group_state(s.stream.state for s in streams if s.target.id == one.id)) for one in targets.values()]
    worst = _worst_ratio(cells, measure)
    rows.sort(key=lambda row: (-SEVERITY[row[1].state], -row[1].not_fine, -worst.get(row[0].id, 0.0), row[0].name))
    columns.sort(key=lambda column: column[0].name)
    return Matrix(rows, columns, cells, group_state(one.stream.state for one in streams))


def _unit(shown: Joined | None, measure: Measure) -> str:
    if measure in (Measure.P50, Measure.P95):
        return "ms" if shown is None else QUANTITIES[KINDS[shown.probe.kind].main].unit
    return "1"


def _kinds_of(members: Sequence[Joined]) -> set[str]:
    return {one.probe.kind for one in members}


def _shown(members: Sequence[Joined], measure: Measure, spread: Mapping[tuple[int, str], int]) -> Joined | None:
    """The stream whose figure stands in a cell: of the kind that most vantage points measure this target with, so that a
    column can be compared, or the richest of those; of its streams the one in most trouble."""
    able = [one for one in members if measure is not Measure.LOSS or "lost" in KINDS[one.probe.kind].quantities]
    return min(
        able,
        key=lambda one: (
            -spread[one.target.id, one.probe.kind],
            _KIND_ORDER.index(one.probe.kind),
            -SEVERITY[one.stream.state],
            one.probe.name,
        ),
        default=None,
    )


def _statistics(
    database: Database, streams: Sequence[Joined], from_us: int, to_us: int, measure: Measure
) -> dict[int, Statistic]:
    ids = [one.stream.id for one in streams]
    if measure is Measure.AVAILABILITY:
        with database.reading() as connection:
            counts = history.run_counts(connection, ids, from_us, to_us)
        return {one: share_statistic(*counts.get(one, (0, 0)), "runs") for one in ids}
    if measure is Measure.LOSS:
        with database.reading() as connection:
            sent, lost = (
                history.whole_summaries(connection, dict.fromkeys(ids, name), from_us, to_us) for name in ("sent", "lost")
            )
        return {one: share_statistic(round(lost[one].sum), round(sent[one].sum), "packets") for one in ids}
    return main_statistics(database, streams, from_us, to_us, 0.5 if measure is Measure.P50 else 0.95)


def main_statistics(
    database: Database, streams: Sequence[Joined], from_us: int, to_us: int, share: float
) -> dict[int, Statistic]:
    """A percentile of the main quantity of each stream, exact or within 1 % as `engine.statistic` has it."""
    told: dict[int, Statistic] = {}
    mains = [(one, KINDS[one.probe.kind].main) for one in streams]
    # Where less is worse, the bad end of the runs is the low one.
    for end in {bad_end(main, share) for _, main in mains}:
        wanted = [(one, main) for one, main in mains if bad_end(main, share) == end]
        with database.reading() as connection:
            found = statistics_of(connection, wanted, f"p{end * 100:g}", from_us, to_us)
        told |= {one.stream.id: each for (one, _), each in zip(wanted, found, strict=True)}
    return told


def _worst_ratio(cells: Sequence[Cell], measure: Measure) -> dict[int, float]:
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
        is_lower_worse = cell.shown is not None and QUANTITIES[KINDS[cell.shown.probe.kind].main].worse == "lower"
        if measure is Measure.AVAILABILITY:
            bad = 1 - value
        else:
            bad = 1 / ratio if is_lower_worse and ratio and measure is not Measure.LOSS else ratio
        worst[cell.vantage_point_id] = max(worst.get(cell.vantage_point_id, 0.0), bad)
    return worst

"""How figures of streams depart from what is usual for each, or from another window."""

from collections.abc import Mapping, Sequence
from enum import StrEnum

from kuppel.core.departure import Departure, from_before, from_before_share, from_usual, from_usual_share
from kuppel.core.difference import Estimate, difference
from kuppel.core.quantity import QUANTITIES, Worse
from kuppel.hub.engine.joined import Joined
from kuppel.hub.engine.statistic import Statistic
from kuppel.store import usual as store
from kuppel.store.database import Database


class Measure(StrEnum):
    P50 = "p50"
    P95 = "p95"
    P99 = "p99"
    MEAN = "mean"
    WORST = "worst"
    LOSS = "loss"
    AVAILABILITY = "availability"

    @property
    def is_share(self) -> bool:
        return self in (Measure.LOSS, Measure.AVAILABILITY)

    @property
    def has_usual(self) -> bool:
        """Whether it is known what is usual: of the shares, and of the main quantity's median and bad end."""
        return self.is_share or self in (Measure.P50, Measure.P95)


def worse(one: Joined, measure: Measure = Measure.P50, quantity: str | None = None) -> Worse:
    """Which way a figure is worse: of a share, or of a quantity, without one of the main quantity."""
    if measure.is_share:
        return "higher" if measure is Measure.LOSS else "lower"
    return one.main.worse if quantity is None else QUANTITIES[quantity].worse


def departures_from_usual(
    database: Database, told: Sequence[tuple[Joined, Statistic]], measure: Measure, from_us: int, to_us: int
) -> dict[int, Departure]:
    """Of those streams of which enough is known, by stream.

    Parameters
    ----------
    told : streams with their shares, or with the median or the bad end of their main quantity.
    """
    with database.reading() as connection:
        kept = store.usual_of(connection, [one.stream.id for one, _ in told])
    found: dict[int, Departure] = {}
    for one, statistic in told:
        own = kept.get(one.stream.id)
        if own is None or statistic.value is None:
            continue
        side = worse(one, measure)
        departure: Departure | None = None
        if measure.is_share:
            usual = own.lost if measure is Measure.LOSS else own.answered
            if usual is not None and statistic.low is not None and statistic.high is not None:
                departure = from_usual_share(usual, statistic.value, statistic.low, statistic.high, side)
        else:
            unit = one.main.unit
            is_end = measure is Measure.P95
            departure = from_usual(own.pattern, from_us, to_us, statistic.value, unit, side, is_end=is_end)
        if departure is not None:
            found[one.stream.id] = departure
    return found


def departures_from_before(
    told: Sequence[tuple[Joined, Statistic]],
    before: Mapping[int, Statistic],
    measure: Measure,
    quantity: str | None = None,
) -> dict[int, Departure]:
    """Against the same figure of another window, by stream."""
    found: dict[int, Departure] = {}
    for one, now in told:
        then = before[one.stream.id]
        if now.value is None or then.value is None:
            continue
        apart = difference(Estimate(now.value, now.low, now.high), Estimate(then.value, then.low, then.high))
        side = worse(one, measure, quantity)
        of = from_before_share if measure.is_share else from_before
        found[one.stream.id] = of(then.value, apart, side)
    return found

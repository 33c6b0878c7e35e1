"""How long room lasts when things grow until the oldest of them are no longer kept."""

from collections.abc import Sequence
from dataclasses import dataclass


@dataclass(frozen=True, slots=True)
class Growth:
    """What grows: bytes a day, and for how many more days before as much goes as comes (None: for ever)."""

    bytes_per_day: float
    days_left: float | None


def days_until_full(free_bytes: float, growths: Sequence[Growth]) -> float | None:
    """After how many days the room is used up; None when what grows comes to rest before.

    >>> days_until_full(100, [Growth(10, None)])
    10.0
    >>> days_until_full(100, [Growth(10, 5), Growth(5, None)])
    10.0
    >>> days_until_full(100, [Growth(10, 5)]) is None
    True
    """
    passed, room = 0.0, float(free_bytes)
    ends = sorted({one.days_left for one in growths if one.days_left is not None and one.days_left > 0})
    for end in [*ends, None]:
        rate = sum(one.bytes_per_day for one in growths if one.days_left is None or one.days_left > passed)
        if rate <= 0:
            return None
        if end is None or room <= rate * (end - passed):
            return passed + room / rate
        room -= rate * (end - passed)
        passed = end
    return None


def at_rest(growths: Sequence[Growth]) -> tuple[float, float]:
    """How much more there will be once as much goes as comes of all that is not kept for ever, and the bytes a day by which
    the rest goes on growing.

    >>> at_rest([Growth(10, 5), Growth(3, None)])
    (50, 3)
    """
    more = sum(one.bytes_per_day * max(0.0, one.days_left) for one in growths if one.days_left is not None)
    return more, sum(one.bytes_per_day for one in growths if one.days_left is None)


# With less time than this, somebody should act.
_TIGHT_DAYS = 60


def is_tight(full_days: float | None) -> bool:
    """Whether the disk will be full so soon that somebody should act."""
    return full_days is not None and full_days < _TIGHT_DAYS


def room_sentence(full_days: float | None, rest: tuple[float, float] | None, free_bytes: int | None) -> str:
    """Whether there is room, and for how long.

    Parameters
    ----------
    rest : what the store comes to, and the bytes a day by which it then goes on growing; None when that is not known yet.

    >>> room_sentence(None, (3.2e9, 30_000), 40_000_000_000)
    'The disk has room: the store comes to about 3.2 GB, and grows by 30.0 kB a day from then on.'
    >>> room_sentence(12.4, (9e9, 0), 9_000_000_000)
    'The disk will be full in about 12 days. Make room, or keep less.'
    """
    if rest is None:
        return "How fast the store grows is known once a day has been finished."
    if free_bytes is None:
        return "The database is on a server of its own; how much room it has is known there."
    if full_days is None or full_days > 36_500:
        later = f", and grows by {in_bytes(rest[1])} a day from then on" if rest[1] >= 1 else ""
        return f"The disk has room: the store comes to about {in_bytes(rest[0])}{later}."
    span = f"{full_days / 365.25:.1f} years" if full_days >= 730 else f"{full_days:.0f} days"
    advice = " Make room, or keep less." if is_tight(full_days) else ""
    return f"The disk will be full in about {span}.{advice}"


def in_bytes(value: float) -> str:
    """Bytes in the largest unit (SI) that leaves a whole number before the point.

    >>> in_bytes(999), in_bytes(113_400_000), in_bytes(2.04e9)
    ('999 B', '113 MB', '2.0 GB')
    """
    for power, unit in ((1e12, "TB"), (1e9, "GB"), (1e6, "MB"), (1e3, "kB")):
        if value >= power:
            scaled = value / power
            return f"{scaled:.0f} {unit}" if scaled >= 100 else f"{scaled:.1f} {unit}"
    return f"{value:.0f} B"

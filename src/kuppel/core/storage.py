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


def at_rest(growths: Sequence[Growth]) -> float | None:
    """How much more there will be when everything has come to rest; None when something grows for ever."""
    if any(one.days_left is None and one.bytes_per_day > 0 for one in growths):
        return None
    return sum(one.bytes_per_day * max(0.0, one.days_left or 0.0) for one in growths)


# With less time than this, somebody should act.
_TIGHT_DAYS = 60


def is_tight(full_days: float | None) -> bool:
    """Whether the disk will be full so soon that somebody should act."""
    return full_days is not None and full_days < _TIGHT_DAYS


def room_sentence(full_days: float | None, rest_bytes: float | None, free_bytes: int | None, *, is_known: bool) -> str:
    """Whether there is room, and for how long.

    >>> room_sentence(None, 3.2e9, 40_000_000_000, is_known=True)
    'The disk has room for all that will be kept: the store comes to rest at about 3.2 GB.'
    >>> room_sentence(12.4, None, 9_000_000_000, is_known=True)
    'The disk will be full in about 12 days. Make room, or keep less.'
    """
    if not is_known:
        return "How fast the store grows is known once a day has been finished."
    if free_bytes is None:
        return "The database is on a server of its own; how much room it has is known there."
    if full_days is None or full_days > 36_500:
        rest = "" if rest_bytes is None else f": the store comes to rest at about {in_bytes(rest_bytes)}"
        return f"The disk has room for all that will be kept{rest}."
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

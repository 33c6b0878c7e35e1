"""Reordering of a packet stream (RFC 4737)."""

from collections.abc import Sequence
from dataclasses import dataclass


@dataclass(frozen=True, slots=True)
class Arrival:
    """One packet in the order of arrival. `extent` is how many packets before it should have come after it (RFC 4737
    §4.2): 0 for one that is in order."""

    sequence: int
    is_reordered: bool
    extent: int
    is_duplicate: bool


def arrivals(sequences: Sequence[int]) -> list[Arrival]:
    """Each arrival, in order.

    Parameters
    ----------
    sequences : the sender's numbers in the order of arrival.

    Notes
    -----
    A packet is type-P-reordered when its number is below the next expected one, which is one more than the largest so far
    (§3.3). Its extent is the distance back to the earliest arrival with a larger number (§4.2.2). Only the first of a
    number counts; what comes again is a duplicate and neither reordered nor in order (RFC 5560 counts those).

    Examples
    --------
    >>> [one.extent for one in arrivals([1, 2, 3, 5, 6, 7, 8, 4, 9, 10])]
    [0, 0, 0, 0, 0, 0, 0, 4, 0, 0]
    """
    found: list[Arrival] = []
    seen: list[int] = []
    known: set[int] = set()
    expected = None
    for sequence in sequences:
        if sequence in known:
            found.append(Arrival(sequence, False, 0, True))
            continue
        is_reordered = expected is not None and sequence < expected
        extent = 0
        if is_reordered:
            earliest = next(at for at, other in enumerate(seen) if other > sequence)
            extent = len(seen) - earliest
        else:
            expected = sequence + 1
        found.append(Arrival(sequence, is_reordered, extent, False))
        seen.append(sequence)
        known.add(sequence)
    return found


def reordered_ratio(sequences: Sequence[int]) -> float | None:
    """The share of reordered packets among those that arrived (§3.4); None when none did.

    >>> reordered_ratio([1, 2, 3, 5, 6, 7, 8, 4, 9, 10])
    0.1
    """
    first = [one for one in arrivals(sequences) if not one.is_duplicate]
    return sum(one.is_reordered for one in first) / len(first) if first else None

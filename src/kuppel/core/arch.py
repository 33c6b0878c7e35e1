"""Arches over the ribbon: when streams that share a vantage point, a target or a provider were in trouble together.

Found by covering, as what needs attention is: the stretch and the name that explain the most trouble take it, then the
next.
"""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Literal

import numpy as np
from numpy.typing import NDArray

ArchScope = Literal["vantage point", "target", "provider"]
_SCOPES: tuple[ArchScope, ...] = ("vantage point", "target", "provider")
# Of the streams that share a name so many at once, and at least so many (as what is affected is told).
_LEAST_SHARE, _LEAST_STREAMS = 0.25, 2


@dataclass(frozen=True, slots=True)
class Arch:
    """Slices [first, last] in which streams that share a name were in trouble; `share` is the most at once, of all
    streams."""

    scope: ArchScope
    name: str
    first: int
    last: int
    share: float
    is_breached: bool


def arches(
    degraded: NDArray[np.bool_], breached: NDArray[np.bool_], names: Mapping[ArchScope, Sequence[str]], most: int
) -> list[Arch]:
    """At most `most` arches, those that explain most trouble, in the order of time.

    Parameters
    ----------
    degraded, breached : shape (streams, slices): whether a stream was so in any part of a slice.
    names : for each scope the streams' names, shape (streams,).
    """
    members = {
        (scope, name): np.flatnonzero(np.array(names[scope]) == name)
        for scope in _SCOPES
        for name in sorted(set(names[scope]))
        if name
    }
    left = degraded | breached
    best = {key: _best(left[own], own.size) for key, own in members.items()}
    found: list[Arch] = []
    while len(found) < most and best:
        key = max(best, key=lambda one: best[one][0])
        weight, first, last = best[key]
        if weight <= 0:
            break
        own = members[key]
        inside = left[own, first : last + 1]
        share = int(inside.sum(axis=0).max()) / left.shape[0]
        bad = breached[own, first : last + 1]
        found.append(Arch(*key, first, last, share, 2 * int((bad & inside).sum()) >= int(inside.sum())))
        left[own, first : last + 1] = False
        for other, its in members.items():
            if np.intersect1d(own, its, assume_unique=True).size:
                best[other] = _best(left[its], its.size)
    return sorted(found, key=lambda one: (one.first, one.last))


def _best(trouble: NDArray[np.bool_], size: int) -> tuple[float, int, int]:
    """The stretch with the most trouble, weighed by its share of the streams; a gap of one slice does not end one."""
    counts = trouble.sum(axis=0)
    is_on = counts >= max(_LEAST_STREAMS, _LEAST_SHARE * size)
    is_on[1:-1] |= is_on[:-2] & is_on[2:]
    edges = np.flatnonzero(np.diff(np.concatenate([[0], is_on.astype(np.int8), [0]])))
    if edges.size == 0:
        return 0.0, 0, 0
    begun, ended = edges[::2], edges[1::2]
    sums = np.concatenate([[0], np.cumsum(counts)])
    told = sums[ended] - sums[begun]
    weights = told * told / (ended - begun) / size
    at = int(np.argmax(weights))
    return float(weights[at]), int(begun[at]), int(ended[at]) - 1

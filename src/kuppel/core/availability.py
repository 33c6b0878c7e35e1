"""Availability of a stream over a window, from its runs."""

from dataclasses import dataclass

from kuppel.core.proportion import Proportion, wilson


@dataclass(frozen=True, slots=True)
class Availability:
    """The share of runs that were ok, with its interval, and how much of the window was measured at all.

    `expected` is how many runs the schedule would have made; `missing` of them brought no result. Missing runs are
    neither up nor down: they widen no figure, they are told beside it.
    """

    answered: Proportion
    expected: int
    missing: int


def availability(ok_runs: int, runs: int, expected: int) -> Availability:
    """Availability over a window.

    Parameters
    ----------
    ok_runs, runs : counts of results whose start lies in the window.
    expected : how many runs the probe's schedule makes in it.

    Notes
    -----
    A run counts as ok when one of its attempts succeeded (the probe's repetition decides), and each run weighs the same;
    with a periodic schedule (RFC 3432) the share of runs estimates the share of time.
    """
    return Availability(wilson(ok_runs, runs), expected, max(0, expected - runs))

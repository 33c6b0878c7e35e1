"""What a train of two-way test packets says: round trips, each way's variation and loss, and one-way delays where clocks
are known to agree (RFC 8762; metrics of RFC 2681, 7679, 7680, 5481, 4737)."""

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from kuppel.core.delay import pdv
from kuppel.core.percentile import percentile
from kuppel.core.reordering import arrivals

Maybe = float | None


@dataclass(frozen=True, slots=True)
class Answer:
    """The first answer to a packet, times in ns. `far` is the reflector, `far_number` its own count of what reached it."""

    received_ns: int
    far_received_ns: int
    far_sent_ns: int
    far_number: int


@dataclass(frozen=True, slots=True)
class Clocks:
    """How far the two clocks may differ, in ns; None when one of them is not known to keep UTC."""

    error_ns: float | None


@dataclass(frozen=True, slots=True)
class Losses:
    """Lost packets by way. `unknown` are those after the last that was answered: nobody can say where they went."""

    forth: int
    back: int
    unknown: int


def round_trips_us(sent_ns: Sequence[int], answers: Sequence[Answer | None]) -> list[Maybe]:
    """From sending to receiving, less the time that the reflector kept the packet; None for a lost one."""
    return [
        None if one is None else (one.received_ns - sent - (one.far_sent_ns - one.far_received_ns)) / 1000
        for sent, one in zip(sent_ns, answers, strict=True)
    ]


def losses(answers: Sequence[Answer | None]) -> Losses:
    """Where packets were lost, by the reflector's own count (RFC 8762 §4.3, stateful reflector).

    Up to the last answered packet the reflector's number says how many reached it: what is missing of those that were sent
    was lost on the way there, what is missing of those that reached it on the way back.

    >>> seen = [Answer(9, 5, 6, 0), None, Answer(19, 15, 16, 1), None, Answer(29, 25, 26, 3), None]
    >>> losses(seen)
    Losses(forth=1, back=1, unknown=1)
    """
    answered = [(at, one) for at, one in enumerate(answers) if one is not None]
    if not answered:
        return Losses(0, 0, len(answers))
    last = answered[-1][0]
    # Duplicates on the way there are counted by the reflector, too: no way has less than no loss.
    reached = min(last + 1, max(one.far_number for _, one in answered) + 1)
    reached = max(reached, len(answered))
    return Losses(last + 1 - reached, reached - len(answered), len(answers) - last - 1)


def lost_by_way(answers: Sequence[Answer | None]) -> tuple[set[int], set[int]]:
    """The numbers of packets that were lost on the way there, and of those lost on the way back.

    Between two answered packets the reflector's count says how many got there, not which: the first of them are taken for
    lost on the way there. Packets after the last answered one are in neither set, since nobody can say.

    >>> seen = [Answer(9, 5, 6, 0), None, None, Answer(29, 25, 26, 2), None]
    >>> lost_by_way(seen)
    ({1}, {2})
    """
    forth: set[int] = set()
    back: set[int] = set()
    before, counted = -1, -1
    for at, one in enumerate(answers):
        if one is None:
            continue
        missing = list(range(before + 1, at))
        arrived = min(len(missing), max(0, one.far_number - counted - 1))
        forth.update(missing[: len(missing) - arrived])
        back.update(missing[len(missing) - arrived :])
        before, counted = at, max(counted, one.far_number)
    return forth, back


@dataclass(frozen=True, slots=True)
class TwoWay:
    """Figures of a train; times in ms. One-way delays are None unless the clocks are known to agree, and each is right
    within `clock_error`; variation needs no common clock."""

    round_trips_us: list[Maybe]
    lost: Losses
    delay_forth: Maybe
    delay_back: Maybe
    clock_error: Maybe
    pdv_forth: Maybe
    pdv_back: Maybe
    reordered_ratio: float
    duplicates: int


def two_way(
    sent_ns: Sequence[int], answers: Sequence[Answer | None], order: Sequence[int], clocks: Clocks
) -> TwoWay | None:
    """The train's figures; None when nothing was answered.

    Parameters
    ----------
    sent_ns, answers : one entry a packet, in the order of sending.
    order : the sender's numbers (0 …) in the order in which answers arrived, duplicates included.
    """
    held = [one for one in answers if one is not None]
    if not held:
        return None
    forth = [
        None if one is None else (one.far_received_ns - sent) / 1e6 for sent, one in zip(sent_ns, answers, strict=True)
    ]
    back = [None if one is None else (one.received_ns - one.far_sent_ns) / 1e6 for one in answers]
    seen = arrivals(order)
    unique = [one for one in seen if not one.is_duplicate]
    is_known = clocks.error_ns is not None
    return TwoWay(
        round_trips_us(sent_ns, answers),
        losses(answers),
        _middle(forth) if is_known else None,
        _middle(back) if is_known else None,
        clocks.error_ns / 1e6 if clocks.error_ns is not None else None,
        _variation(forth),
        _variation(back),
        sum(one.is_reordered for one in unique) / len(unique) if unique else 0.0,
        sum(one.is_duplicate for one in seen),
    )


def _middle(delays: Sequence[Maybe]) -> float:
    return percentile(np.array([one for one in delays if one is not None]), 0.5)


def _variation(delays: Sequence[Maybe]) -> float:
    """The 95th percentile of the packet delay variation (RFC 5481 §4.2)."""
    return percentile(np.array([one for one in pdv(delays) if one is not None]), 0.95)

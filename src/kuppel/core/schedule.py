"""When a probe runs: periodic, with a start that differs from agent to agent.

RFC 3432 (periodic streams) asks for a random start time, so that measurements neither synchronise with each other nor with
what they measure. The start is drawn from a seed, so the same agent keeps its phase over restarts.
"""

import hashlib


def start_offset(seed: str, interval_us: int) -> int:
    """A start offset in [0, interval_us), uniform over seeds and the same for the same seed."""
    if interval_us <= 0:
        raise ValueError(f"interval_us is {interval_us}; it must be above 0")
    draw = int.from_bytes(hashlib.sha256(seed.encode()).digest()[:8], "big")
    return draw * interval_us >> 64


def next_slot(now_us: int, offset_us: int, interval_us: int) -> int:
    """The first time after `now_us` that is `offset_us` plus a whole number of intervals.

    Slots that passed while the agent could not run are left out, never caught up in a burst.

    >>> next_slot(125, offset_us=10, interval_us=60)
    130
    >>> next_slot(130, offset_us=10, interval_us=60)
    190
    """
    return offset_us + ((now_us - offset_us) // interval_us + 1) * interval_us

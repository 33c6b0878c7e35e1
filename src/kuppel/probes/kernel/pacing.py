"""Waiting between the packets of a train, while what comes back is taken in."""

import select
import time
from collections.abc import Callable


def collect(
    poll: select.poll, deadline_ns: int, drain: Callable[[], None], is_done: Callable[[], bool] = lambda: False
) -> None:
    """Take what arrives until a time (monotonic, ns), or until nothing more is waited for."""
    while (left_ns := deadline_ns - time.monotonic_ns()) > 0:
        # poll() counts whole milliseconds: the last one is spun through, which keeps the pacing exact.
        if poll.poll(left_ns // 1_000_000):
            drain()
        if is_done():
            return

"""Trains of packets: sent at their times, while what comes back is taken in, on a clock that must not be set meanwhile."""

import contextlib
import select
import socket
import time
from collections.abc import Callable, Iterator

from kuppel.core.reason import Reason
from kuppel.probes.kernel.sockets import net_error
from kuppel.probes.net import NetError

# A realtime clock that moves this much against the monotonic one within a train was stepped.
STEP_NS = 500_000


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


def transmit(
    sock: socket.socket,
    count: int,
    interval_us: int,
    timeout_us: int,
    send: Callable[[int], None],
    drain: Callable[[], None],
    is_whole: Callable[[], bool],
) -> None:
    """Send a train's packets at their times, then wait for its answers.

    Parameters
    ----------
    send : sends the packet of that number; what the socket says of an earlier one is its business.
    drain : takes everything that has arrived.
    is_whole : whether nothing more is waited for.

    Raises
    ------
    NetError
    """
    sock.setblocking(False)
    poll = select.poll()
    poll.register(sock, select.POLLIN)
    begun = time.monotonic_ns()
    for number in range(count):
        collect(poll, begun + number * interval_us * 1000, drain)
        try:
            send(number)
        except OSError as error:
            raise net_error(error, f"packet {number + 1}") from None
    collect(poll, time.monotonic_ns() + timeout_us * 1000, drain, is_whole)


@contextlib.contextmanager
def steady_clock() -> Iterator[None]:
    """Raise `NetError` at the end when the realtime clock was set meanwhile: kernel stamps of that time say nothing."""
    offset_ns = time.time_ns() - time.monotonic_ns()
    yield
    if abs(time.time_ns() - time.monotonic_ns() - offset_ns) > STEP_NS:
        raise NetError(Reason.AGENT_ERROR, "the agent's clock was set while packets were under way")

"""The agent's own machine: its addresses, and whether it has time to measure truly."""

import asyncio
import contextlib
import os
import socket
import time
from collections import deque

from kuppel.core.percentile import percentile

# An event loop that wakes later than this is too busy for its user-space times to be trusted (common practice, no source).
BUSY_LAG_US = 20_000
_STEP_S = 0.1
_KEPT = 600  # a minute of steps


class LagMeter:
    """How late the event loop wakes, over the last minute."""

    def __init__(self) -> None:
        self._lags: deque[float] = deque(maxlen=_KEPT)

    async def run(self) -> None:
        while True:
            begun = time.monotonic()
            await asyncio.sleep(_STEP_S)
            self.note((time.monotonic() - begun - _STEP_S) * 1e6)

    def note(self, lag_us: float) -> None:
        self._lags.append(max(0.0, lag_us))

    @property
    def lag_us(self) -> int:
        """The 95th percentile of the lags."""
        return round(percentile(list(self._lags), 0.95)) if self._lags else 0

    @property
    def is_busy(self) -> bool:
        return self.lag_us > BUSY_LAG_US


def own_addresses() -> list[str]:
    """Addresses of this machine that are not loopback or link-local, as the kernel would use them.

    Connecting a datagram socket sends nothing; it only asks the kernel which source address it would take.
    """
    found: list[str] = []
    for family, somewhere in ((socket.AF_INET, "192.0.2.1"), (socket.AF_INET6, "2001:db8::1")):
        with contextlib.suppress(OSError), socket.socket(family, socket.SOCK_DGRAM) as sock:
            sock.connect((somewhere, 9))
            found.append(str(sock.getsockname()[0]))
    return found


def write_private(path: "os.PathLike[str]", content: bytes) -> None:
    """Write a file that only its owner may read, whole or not at all."""
    temporary = f"{os.fspath(path)}.new"
    descriptor = os.open(temporary, os.O_WRONLY | os.O_CREAT | os.O_TRUNC, 0o600)
    with os.fdopen(descriptor, "wb") as file:
        file.write(content)
        file.flush()
        os.fsync(file.fileno())
    os.replace(temporary, path)

"""Where a machine that moves is: asked of the gpsd beside it (its JSON protocol is described in gpsd_json(5))."""

import asyncio
import contextlib
from collections.abc import Awaitable, Callable

import orjson
import structlog

from kuppel.core.position import Position

# Says where the machine is; None when nobody knows.
Navigation = Callable[[], Awaitable[Position | None]]

_LONGEST_S = 5.0
_MOST_OCTETS = 64 * 1024
_WATCH = b'?WATCH={"enable":true,"json":true};\n'
# Of a report's mode: 2 is a fix in two dimensions, 3 in three; 0 and 1 are none.
_LEAST_MODE = 2
_log = structlog.get_logger()


async def nowhere() -> Position | None:
    """Of a machine that stands where it was said to stand."""
    return None


def gpsd(address: str) -> Navigation:
    """Ask the gpsd at `host:port`; what it does not know, or when it is away, is None."""
    host, _, port = address.rpartition(":")

    async def position() -> Position | None:
        try:
            async with asyncio.timeout(_LONGEST_S):
                return await _first_fix(host.strip("[]"), int(port))
        except (OSError, TimeoutError, ValueError) as error:  # the last of a line without end
            _log.warning("no position", gpsd=address, reason=str(error) or "no fix in time")
            return None

    return position


async def _first_fix(host: str, port: int) -> Position | None:
    """The first report with a fix; None when it hangs up before."""
    reader, writer = await asyncio.open_connection(host, port, limit=_MOST_OCTETS)
    try:
        writer.write(_WATCH)
        while line := await reader.readline():
            found = _fix(line)
            if found is not None:
                return found
        return None
    finally:
        writer.close()
        with contextlib.suppress(OSError):
            await writer.wait_closed()


def _fix(line: bytes) -> Position | None:
    """The position of a time-position-velocity report (class TPV); None for anything else."""
    try:
        told = orjson.loads(line)
    except orjson.JSONDecodeError:
        return None
    if not isinstance(told, dict) or told.get("class") != "TPV":
        return None
    mode, longitude, latitude = told.get("mode"), told.get("lon"), told.get("lat")
    if not isinstance(mode, int) or mode < _LEAST_MODE:
        return None
    if not isinstance(longitude, int | float) or not isinstance(latitude, int | float):
        return None
    if not (-180 <= longitude <= 180 and -90 <= latitude <= 90):
        return None
    return Position(float(longitude), float(latitude))

"""Where an agent is: what a gpsd says of it, and what reaches the hub's map."""

import asyncio
import tempfile
import unittest
import unittest.mock
from collections.abc import Sequence
from pathlib import Path

import httpx
from pydantic import ValidationError

from kuppel.agent import navigation
from kuppel.agent.navigation import gpsd
from kuppel.agent.process import Agent
from kuppel.agent.settings import AgentSettings
from kuppel.core.position import Position
from tests.hub.running import ADMIN, TOKEN, HubProcess

# The greeting and the report of gpsd_json(5)'s own examples, shortened to what matters here (from memory).
VERSION = b'{"class":"VERSION","release":"3.22","rev":"3.22","proto_major":3,"proto_minor":14}\n'
WATCHING = b'{"class":"WATCH","enable":true,"json":true,"nmea":false,"raw":0}\n'
SEARCHING = b'{"class":"TPV","device":"/dev/pts/1","mode":1}\n'
FIX = (
    b'{"class":"TPV","device":"/dev/pts/1","time":"2005-06-08T10:34:48.283Z","ept":0.005,"lat":46.498293369,'
    b'"lon":7.567411672,"alt":1343.127,"eph":36.000,"epv":32.321,"track":10.3788,"speed":0.091,"climb":-0.085,"mode":3}\n'
)


class StandIn:
    """A gpsd that says some lines to whoever asks, and keeps what it was asked."""

    def __init__(self, lines: Sequence[bytes], *, hangs_up: bool = False) -> None:
        self._lines = lines
        self._hangs_up = hangs_up
        self.asked: list[bytes] = []

    async def __aenter__(self) -> str:
        self._server = await asyncio.start_server(self._serve, "127.0.0.1", 0)
        host, port = self._server.sockets[0].getsockname()
        return f"{host}:{port}"

    async def __aexit__(self, *_error: object) -> None:
        self._server.close()

    async def _serve(self, reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        writer.write(VERSION)
        self.asked.append(await reader.readline())
        for line in self._lines:
            writer.write(line)
            await writer.drain()
        if not self._hangs_up:
            await reader.read()
        writer.close()


class Asking(unittest.IsolatedAsyncioTestCase):
    def setUp(self) -> None:
        self.enterContext(unittest.mock.patch.object(navigation, "_LONGEST_S", 0.5))

    async def told(self, *lines: bytes, hangs_up: bool = False) -> Position | None:
        self.daemon = StandIn(lines, hangs_up=hangs_up)
        async with self.daemon as address:
            return await gpsd(address)()

    async def test_the_first_fix_counts(self) -> None:
        found = await self.told(WATCHING, SEARCHING, FIX, FIX.replace(b"46.49", b"11.11"))
        self.assertEqual(found, Position(7.567411672, 46.498293369))
        # The command of gpsd_json(5) that begins the reports.
        self.assertEqual(self.daemon.asked, [b'?WATCH={"enable":true,"json":true};\n'])

    async def test_two_dimensions_are_enough(self) -> None:
        self.assertIsNotNone(await self.told(FIX.replace(b'"mode":3', b'"mode":2')))

    async def test_no_fix_is_no_position(self) -> None:
        for mode in (b"0", b"1"):
            # A receiver without a fix may repeat where it was last: that is not where it is.
            self.assertIsNone(await self.told(FIX.replace(b'"mode":3', b'"mode":' + mode)))
        self.assertIsNone(await self.told(WATCHING, SEARCHING, hangs_up=True))

    async def test_what_makes_no_sense_is_passed_over(self) -> None:
        nonsense = (
            b"\n", b"not json\n", b"[1, 2]\n", b'{"class":"TPV","mode":3}\n',
            b'{"class":"TPV","mode":3,"lat":"north","lon":7}\n', b'{"class":"TPV","mode":3,"lat":91,"lon":7}\n',
            b'{"class":"SKY","mode":3,"lat":1,"lon":2}\n', b'{"class":"TPV","mode":"3","lat":1,"lon":2}\n',
        )  # fmt: skip
        self.assertEqual(await self.told(*nonsense, FIX), Position(7.567411672, 46.498293369))
        self.assertIsNone(await self.told(*nonsense))

    async def test_a_line_without_end_is_not_waited_for(self) -> None:
        self.assertIsNone(await self.told(b"x" * 200_000))

    async def test_nobody_there_is_no_position(self) -> None:
        async with StandIn([]) as address:
            pass
        self.assertIsNone(await gpsd(address)())

    def test_an_address_that_is_none_is_refused_by_name(self) -> None:
        for address in ("gps", "gps:", "gps:port", ":2947", "a b:1"):
            with self.assertRaises(ValidationError) as caught:
                AgentSettings(hub="http://127.0.0.1:9", gpsd=address)
            self.assertIn("gpsd", str(caught.exception))
        for address in ("127.0.0.1:2947", "gps.ship.example:2947", "[2001:db8::1]:2947"):
            self.assertEqual(AgentSettings(hub="http://127.0.0.1:9", gpsd=address).gpsd, address)


class UnderWay(unittest.IsolatedAsyncioTestCase):
    async def test_a_ships_agent_is_on_the_map_where_its_gpsd_says(self) -> None:
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        hub = HubProcess(Path(folder.name) / "hub")
        hub.start()
        self.addCleanup(hub.kill)
        async with StandIn([FIX]) as address:
            settings = AgentSettings(
                hub=hub.url, token=TOKEN, name="MV Fulmar", kind="mobile", state=Path(folder.name) / "agent", gpsd=address
            )
            running = asyncio.create_task(Agent(settings).run())
            async with httpx.AsyncClient(base_url=hub.url, headers=ADMIN, trust_env=False) as client:
                for _ in range(150):
                    points = (await client.get("/api/vantage-points")).json()
                    if points and points[0]["position"]:
                        break
                    await asyncio.sleep(0.1)
                courses = (await client.get("/api/courses")).json()
            running.cancel()
            with self.assertRaises(asyncio.CancelledError):
                await running
        self.assertEqual(points[0]["position"], {"longitude": 7.567411672, "latitude": 46.498293369})
        (course,) = courses
        self.assertEqual(course["vantage_point"], points[0]["id"])
        self.assertEqual([(one["longitude"], one["latitude"]) for one in course["fixes"]], [(7.567411672, 46.498293369)])


if __name__ == "__main__":
    unittest.main()

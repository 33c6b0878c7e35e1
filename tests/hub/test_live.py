"""What happens, as it happens: the bus, its events on the wire, and a browser's stream of them from a real hub."""

import asyncio
import itertools
import json
import queue
import tempfile
import threading
import time
import unittest
from collections.abc import Iterable, Iterator
from pathlib import Path
from typing import Any

import httpx

from kuppel.hub.api.live import encoded
from kuppel.hub.live import _MOST_WAITING, LiveBus, LiveEvent
from tests.hub.running import ADMIN, DESCRIPTION, TOKEN, HubProcess
from tests.hub.test_intake import a_result


def dispatched(octets: Iterable[bytes]) -> Iterator[tuple[str, str]]:
    """Type and data of each event: the steps of WHATWG HTML, "Interpreting an event stream", for lines that end in LF."""
    kind, data, left = "", "", b""
    for piece in octets:
        left += piece
        *lines, left = left.split(b"\n")
        for line in lines:
            text = line.decode()
            if not text:
                if data:
                    yield kind or "message", data.removesuffix("\n")
                kind, data = "", ""
                continue
            field, colon, value = text.partition(":")
            value = value.removeprefix(" ") if colon else ""
            if field == "event":
                kind = value
            elif field == "data":
                data += value + "\n"


class Encoding(unittest.TestCase):
    def test_a_browser_reads_back_what_was_sent(self) -> None:
        events = [
            LiveEvent("ready", {}),
            LiveEvent("run", {"stream": 7, "reason": None, "main": 1.5}, 7),
            LiveEvent("state", {"stream": 7, "state": "fine", "words": "two\nlines: and a colon, Ærø"}, 7),
        ]
        found = list(dispatched([b"".join(encoded(one) for one in events)]))
        self.assertEqual([(kind, json.loads(data)) for kind, data in found], [(one.name, one.data) for one in events])

    def test_however_it_is_cut_on_its_way(self) -> None:
        whole = b"".join(encoded(LiveEvent("run", {"stream": one})) for one in range(20))
        for size in (1, 2, 7, 64):
            pieces = [whole[at : at + size] for at in range(0, len(whole), size)]
            self.assertEqual([json.loads(data)["stream"] for _, data in dispatched(pieces)], list(range(20)))

    def test_times_are_told_as_rfc_3339(self) -> None:
        """RFC 3339 §5.8's first example, in µs since 1970; §4.3 has +00:00 for Z."""
        ((_, data),) = dispatched([encoded(LiveEvent("run", {"time_us": 482_196_050_520_000}))])
        self.assertEqual(json.loads(data), {"time": "1985-04-12T23:20:50.520000+00:00"})


class Bus(unittest.IsolatedAsyncioTestCase):
    async def asyncSetUp(self) -> None:
        self.bus = LiveBus(asyncio.get_running_loop())

    async def listening(self, heartbeat_s: float = 10) -> tuple[asyncio.Task[None], list[LiveEvent]]:
        """A listener that has begun, and what it hears."""
        heard: list[LiveEvent] = []
        has_begun = asyncio.Event()

        async def listen() -> None:
            async for event in self.bus.listen(heartbeat_s):
                heard.append(event)
                has_begun.set()

        task = asyncio.create_task(listen())
        await has_begun.wait()
        return task, heard

    async def test_everybody_hears_everything_in_its_order(self) -> None:
        listeners = [await self.listening() for _ in range(5)]
        self.assertTrue(self.bus.has_listeners)
        for number in range(10):
            self.bus.publish([LiveEvent("run", {"number": 2 * number}), LiveEvent("run", {"number": 2 * number + 1})])
        await asyncio.sleep(0.05)
        self.bus.close()
        for task, heard in listeners:
            await asyncio.wait_for(task, 1)
            self.assertEqual(heard[0].name, "ready")
            self.assertEqual([one.data["number"] for one in heard[1:]], list(range(20)))
        self.assertFalse(self.bus.has_listeners)

    async def test_from_many_threads_nothing_is_lost_and_each_keeps_its_order(self) -> None:
        task, heard = await self.listening()

        def publish(thread: int) -> None:
            for number in range(100):
                self.bus.publish([LiveEvent("run", {"thread": thread, "number": number})])

        threads = [threading.Thread(target=publish, args=(number,)) for number in range(8)]
        for one in threads:
            one.start()
        await asyncio.to_thread(lambda: [one.join() for one in threads])
        await asyncio.sleep(0.05)
        self.bus.close()
        await asyncio.wait_for(task, 1)
        self.assertEqual(len(heard), 1 + 800)
        for thread in range(8):
            self.assertEqual([one.data["number"] for one in heard[1:] if one.data["thread"] == thread], list(range(100)))

    async def test_one_that_falls_behind_is_told_so_and_hears_the_newest(self) -> None:
        listener = self.bus.listen()
        self.assertEqual((await anext(listener)).name, "ready")
        count = 2 * _MOST_WAITING + 17
        self.bus.publish([LiveEvent("run", {"number": number}) for number in range(count)])
        heard: list[LiveEvent] = []
        while not heard or heard[-1].data.get("number") != count - 1:
            heard.append(await anext(listener))
        self.assertEqual(heard[0].name, "lagged")
        numbers = [one.data["number"] for one in heard if one.name == "run"]
        # What it still hears has no gap and reaches the newest.
        self.assertEqual(numbers, list(range(numbers[0], count)))
        self.assertLess(len(heard), _MOST_WAITING + 1)

    async def test_a_beat_when_nothing_happens(self) -> None:
        task, heard = await self.listening(heartbeat_s=0.02)
        await asyncio.sleep(0.15)
        self.bus.close()
        await asyncio.wait_for(task, 1)
        self.assertEqual({one.name for one in heard}, {"ready", "heartbeat"})
        self.assertTrue(2 <= len(heard) - 1 <= 8, len(heard))

    async def test_who_leaves_is_forgotten(self) -> None:
        task, _ = await self.listening()
        task.cancel()
        with self.assertRaises(asyncio.CancelledError):
            await task
        self.assertFalse(self.bus.has_listeners)
        # Nobody hears it, and nothing breaks.
        self.bus.publish([LiveEvent("run", {})])
        await asyncio.sleep(0.01)

    async def test_a_closed_bus_ends_a_listener_at_once(self) -> None:
        self.bus.close()
        self.assertEqual([one.name async for one in self.bus.listen()], ["ready"])


class FromAHub(unittest.TestCase):
    def setUp(self) -> None:
        folder = self.enterContext(tempfile.TemporaryDirectory())
        self.hub = self.enterContext(HubProcess(Path(folder)))
        enrolment = self.hub.api.post(
            "agents/enrolments", json=DESCRIPTION, headers={"Authorization": f"Bearer {TOKEN}"}
        ).json()
        self.agent = {"Authorization": f"Bearer {enrolment['token']}"}
        target = self.hub.api.post("targets", json={"name": "booking site"}).json()["id"]
        for name in ("front page", "times"):
            probe = {
                "name": name, "kind": "http", "target": target, "settings": {"url": "https://booking.skerry.example/"},
                "interval_s": 60, "vantage_points": [enrolment["vantage_point"]],
                "limits": [{"quantity": "total", "unit": "ms", "degraded": 650, "breached": 800}],
            }  # fmt: skip
            self.hub.api.post("probes", json=probe).raise_for_status()
        self.first, self.second = (one["stream"] for one in self.hub.api.get("streams").json())
        self.sequence = itertools.count(1)

    def listen(self, query: str = "") -> "queue.Queue[tuple[str, dict[str, Any]]]":
        """Events of a stream that has begun, as they come, until the hub stops."""
        heard: queue.Queue[tuple[str, dict[str, Any]]] = queue.Queue()

        def run() -> None:
            with (
                httpx.Client(headers=ADMIN, trust_env=False, timeout=30) as client,
                client.stream("GET", f"{self.hub.url}/api/live{query}") as answer,
            ):
                self.kind = answer.headers["Content-Type"]
                for kind, data in dispatched(answer.iter_raw()):
                    heard.put((kind, json.loads(data)))

        threading.Thread(target=run, daemon=True).start()
        self.assertEqual(heard.get(timeout=10), ("ready", {}))
        return heard

    def deliver(self, stream: int, *totals: float) -> list[int]:
        """Deliver runs of a stream; when each began."""
        now_us = time.time_ns() // 1000
        results = [
            a_result(
                next(self.sequence), stream, quantities={"total": one}, started_us=now_us - 60_000_000 + at * 1_000_000
            )
            for at, one in enumerate(totals)
        ]
        batch = {"spool": "spool-number-one", "units": {"total": "ms"}, "results": results}
        answer = self.hub.api.post("agents/self/batches", json=batch, headers=self.agent)
        self.assertEqual(answer.json()["taken"], len(totals), answer.text)
        return [one["started_us"] for one in results]

    def until(self, heard: "queue.Queue[tuple[str, dict[str, Any]]]", count: int) -> list[tuple[str, dict[str, Any]]]:
        """So many events, beats left out."""
        found: list[tuple[str, dict[str, Any]]] = []
        deadline = time.monotonic() + 10
        while len(found) < count:
            event = heard.get(timeout=max(0.01, deadline - time.monotonic()))
            if event[0] != "heartbeat":
                found.append(event)
        return found

    def test_runs_and_changes_of_state_are_heard_as_they_arrive(self) -> None:
        heard = self.listen()
        self.assertEqual(self.kind, "text/event-stream; charset=utf-8")
        self.deliver(self.first, 500, 500, 900, 900, 900)
        events = self.until(heard, 6)
        runs = [data for kind, data in events if kind == "run"]
        self.assertEqual([one["main"] for one in runs], [500, 500, 900, 900, 900])
        states = [data["state"] for kind, data in events if kind == "state"]
        self.assertEqual(states[-1], "breached")
        self.assertEqual({data["stream"] for _, data in events}, {self.first})

    def test_one_that_asks_for_a_stream_hears_of_no_other(self) -> None:
        heard = self.listen(f"?stream={self.second}")
        self.deliver(self.first, 500, 500)
        self.deliver(self.second, 321)
        events = self.until(heard, 1)
        self.assertEqual((events[0][0], events[0][1]["stream"], events[0][1]["main"]), ("run", self.second, 321))

    def test_a_hub_that_stops_lets_go_of_its_listeners(self) -> None:
        self.listen()
        begun = time.monotonic()
        self.hub.stop()
        self.assertLess(time.monotonic() - begun, 10)


if __name__ == "__main__":
    unittest.main()

"""The agent: its schedule, its delivery through a hub's death, and the whole of it on real sockets."""

import asyncio
import contextlib
import itertools
import random
import socket
import tempfile
import time
import unittest
from collections.abc import Callable
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

from kuppel.agent.delivery import Delivery, delivered
from kuppel.agent.hub_client import HubAway, HubClient, HubRefused
from kuppel.agent.machine import LagMeter, write_private
from kuppel.agent.process import Agent, EnrolmentRefused
from kuppel.agent.schedule import Schedule
from kuppel.agent.settings import AgentSettings
from kuppel.core.reason import Reason
from kuppel.core.result import Attempt, Result
from kuppel.lab.services import TcpService
from kuppel.probes.kernel import KernelNet
from kuppel.probes.net import Binding as NetBinding
from kuppel.probes.net import Connection, NetError
from kuppel.probes.registry import KINDS
from kuppel.store.spool import Spool
from kuppel.wire.delivery import AssignedProbe, AssignedSchedule, Assignment, Batch, Binding, Receipt
from tests.hub.running import DESCRIPTION, TOKEN, HubProcess
from tests.probes.simulated import SimulatedNet

SECOND = 1_000_000


def result(time_us: int) -> Result:
    return Result(time_us, None, {"connect": 1.5}, {}, (Attempt(time_us, 10),), {"local": "192.0.2.1"})


def assigned(stream: int, interval_us: int = SECOND, **settings: Any) -> AssignedProbe:
    return AssignedProbe(
        stream=stream,
        kind="tcp",
        settings={"host": "192.0.2.7", "port": 7} | settings,
        interval_us=interval_us,
        attempts=1,
        attempt_gap_us=0,
        binding=Binding(),
    )


async def until(holds: Callable[[], bool], within_s: float = 15) -> None:
    deadline = time.monotonic() + within_s
    while not holds():
        if time.monotonic() > deadline:
            raise TimeoutError("it did not come about")
        await asyncio.sleep(0.02)


class FolderCase(unittest.IsolatedAsyncioTestCase):
    def setUp(self) -> None:
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.folder = Path(folder.name)


class Reflecting(FolderCase):
    KEY = "a key of the lab"

    def settings(self, **changed: Any) -> AgentSettings:
        told = {"hub": "http://127.0.0.1:9", "token": "x", "state": self.folder, "source": "127.0.0.1", "reflect_port": 0}
        return AgentSettings(**(told | changed))

    async def test_an_agent_answers_two_way_packets_even_while_its_hub_is_away(self) -> None:
        agent = Agent(self.settings(reflect_key=self.KEY))
        running = asyncio.create_task(agent.run())
        net = KernelNet()
        self.addCleanup(net.close)
        kind = KINDS["udp"]
        told = {"host": "127.0.0.1", "port": agent.reflects_on["two_way"], "count": 5, "interval_ms": 1, "timeout_ms": 2000}
        found = await kind.attempt(kind.parse(told | {"key": self.KEY}), net, NetBinding())
        self.assertEqual((found.reason, found.quantities["lost"]), (None, 0))
        refused = await kind.attempt(kind.parse(told | {"timeout_ms": 200}), net, NetBinding())
        self.assertEqual(refused.reason, Reason.NO_REPLY)
        running.cancel()
        with self.assertRaises(asyncio.CancelledError):
            await running

    async def test_a_port_in_use_is_told_before_it_measures(self) -> None:
        with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as sock:
            sock.bind(("127.0.0.1", 0))
            with self.assertRaises(NetError) as caught:
                Agent(self.settings(reflect_port=sock.getsockname()[1]))
        self.assertIn("Address already in use", caught.exception.note)

    async def test_it_answers_nothing_unless_it_was_asked_to(self) -> None:
        self.assertEqual(Agent(self.settings(reflect_port=None)).reflects_on, {})


class ScheduleOnSimulatedTime(unittest.IsolatedAsyncioTestCase):
    """Time passes only while probes sleep, so hours of a schedule take no time."""

    async def measure(self, seed: str, takes_us: int, hours: float = 1) -> list[int]:
        """Start times of a stream with an interval of a minute, whose runs take so long."""
        net = SimulatedNet()
        begun = net.clock.now_us
        started: list[int] = []

        def connect(_address: str, _port: int) -> Connection:
            started.append(net.clock.now_us - begun)
            net.clock.now_us += takes_us
            return Connection(takes_us, None, "", "")

        net.on_connect = connect
        ended = asyncio.Event()

        async def sleep_us(duration_us: int) -> None:
            if net.clock.now_us - begun > hours * 3600 * SECOND:
                ended.set()
                await asyncio.sleep(3600)
            net.clock.now_us += duration_us
            await asyncio.sleep(0)

        net.clock.sleep_us = sleep_us  # type: ignore[method-assign]
        schedule = Schedule(net, LagMeter(), seed, lambda _stream, _result: None)
        await schedule.assign(Assignment(probes=[assigned(1, 60 * SECOND)]))
        await asyncio.wait_for(ended.wait(), 10)
        self.missed = schedule.missed_slots
        await schedule.stop()
        return started

    async def test_runs_are_periodic_after_an_early_first_one(self) -> None:
        """RFC 3432 §4: a fixed interval from a random start."""
        started = await self.measure("Brannick/spool", 20_000)
        self.assertLess(started[0], 5 * SECOND)
        gaps = {after - before for before, after in itertools.pairwise(started[1:])}
        self.assertEqual(gaps, {60 * SECOND}, started[:5])
        self.assertEqual(self.missed, 0)

    async def test_a_hundred_agents_do_not_fire_together(self) -> None:
        phases = sorted([(await self.measure(f"agent {n}", 1000, hours=0.05))[1] % (60 * SECOND) for n in range(100)])
        busiest = max(sum(phase <= other < phase + SECOND for other in phases) for phase in phases)
        # Uniform over 60 s, a second holds 1.7 of 100 on average; 10 has a probability below one in 10,000 (binomial).
        self.assertLess(busiest, 10)

    async def test_a_slow_run_leaves_slots_out_and_counts_them(self) -> None:
        started = await self.measure("Brannick/spool", 130 * SECOND)
        gaps = {after - before for before, after in itertools.pairwise(started[1:])}
        self.assertEqual(gaps, {180 * SECOND})
        self.assertGreater(self.missed, 20)


class OtherSchedules(unittest.IsolatedAsyncioTestCase):
    """Bursts, quiet hours and random times, hour by hour on simulated time."""

    async def starts(
        self, hours: float, schedule: AssignedSchedule, fails: Callable[[int], bool] = lambda _: False
    ) -> list[int]:
        net = SimulatedNet()
        begun = net.clock.now_us
        started: list[int] = []

        def connect(_address: str, _port: int) -> Connection:
            at = net.clock.now_us - begun
            started.append(at)
            if fails(at):
                raise NetError(Reason.CONNECTION_REFUSED, "simulated")
            return Connection(1000, None, "", "")

        net.on_connect = connect
        ended = asyncio.Event()

        async def sleep_us(duration_us: int) -> None:
            if net.clock.now_us - begun > hours * 3600 * SECOND:
                ended.set()
                await asyncio.sleep(3600)
            net.clock.now_us += duration_us
            await asyncio.sleep(0)

        net.clock.sleep_us = sleep_us  # type: ignore[method-assign]
        draw = random.Random(3).random
        following = Schedule(net, LagMeter(), "seed", lambda _stream, _result: None, draw)
        probe = assigned(1, 300 * SECOND).model_copy(update={"schedule": schedule})
        await following.assign(Assignment(probes=[probe]))
        await asyncio.wait_for(ended.wait(), 20)
        await following.stop()
        self.begun_us = begun
        return started

    async def test_faster_for_a_while_after_a_failure(self) -> None:
        schedule = AssignedSchedule(burst_interval_us=20 * SECOND, burst_for_us=120 * SECOND)
        started = await self.starts(1, schedule, lambda at: 1500 * SECOND <= at < 1800 * SECOND)
        gaps = [round((after - before) / SECOND) for before, after in itertools.pairwise(started)]
        # Twenty seconds apart from the failure on, for two minutes.
        self.assertGreaterEqual(gaps.count(20), 5)
        self.assertGreaterEqual(gaps.count(300), 5)

    async def test_nothing_in_quiet_hours(self) -> None:
        schedule = AssignedSchedule(quiet=[("22:00", "05:00")])
        started = await self.starts(30, schedule)
        hours = {datetime.fromtimestamp((self.begun_us + at) / SECOND, UTC).hour for at in started}
        self.assertEqual(hours & {22, 23, 0, 1, 2, 3, 4}, set())
        self.assertGreater(len(started), 150)

    async def test_random_times_have_the_interval_as_their_mean(self) -> None:
        """RFC 2330 §11.1.1; of some 576 gaps the mean is within 15 % of 300 s (3.6 standard errors)."""
        started = await self.starts(48, AssignedSchedule(way="poisson"))
        gaps = [(after - before) / SECOND for before, after in itertools.pairwise(started)]
        self.assertAlmostEqual(sum(gaps) / len(gaps), 300, delta=45)
        self.assertGreater(max(gaps), 900)
        self.assertLess(min(gaps), 10)

    async def test_a_schedule_that_it_cannot_follow_is_told_as_a_result(self) -> None:
        taken: list[Result] = []
        following = Schedule(SimulatedNet(), LagMeter(), "seed", lambda _stream, one: taken.append(one))
        probe = assigned(1).model_copy(update={"schedule": AssignedSchedule(way="cron", cron="never")})
        await following.assign(Assignment(probes=[probe]))
        await until(lambda: bool(taken))
        await following.stop()
        self.assertEqual(taken[0].reason, Reason.AGENT_ERROR)
        self.assertIn("cron", taken[0].attempts[0].note)


class ScheduleChanges(unittest.IsolatedAsyncioTestCase):
    async def test_what_changed_starts_anew_and_the_rest_goes_on(self) -> None:
        schedule = Schedule(SimulatedNet(), LagMeter(), "seed", lambda _stream, _result: None)
        await schedule.assign(Assignment(probes=[assigned(1), assigned(2)]))
        before = {task.get_name(): task for task in asyncio.all_tasks() if task.get_name().startswith("stream")}
        await schedule.assign(Assignment(probes=[assigned(1), assigned(2, port=8), assigned(3)]))
        after = {task.get_name(): task for task in asyncio.all_tasks() if task.get_name().startswith("stream")}
        self.assertEqual(set(after), {"stream 1", "stream 2", "stream 3"})
        self.assertIs(after["stream 1"], before["stream 1"])
        self.assertIsNot(after["stream 2"], before["stream 2"])
        await schedule.stop()

    async def test_a_probe_that_this_agent_does_not_know_says_so(self) -> None:
        taken: list[Result] = []
        schedule = Schedule(SimulatedNet(), LagMeter(), "seed", lambda _stream, one: taken.append(one))
        unknown = assigned(1).model_copy(update={"kind": "smoke"})
        await schedule.assign(Assignment(probes=[unknown]))
        await until(lambda: bool(taken))
        await schedule.stop()
        self.assertEqual(taken[0].reason, Reason.AGENT_ERROR)
        self.assertIn("smoke", taken[0].attempts[0].note)

    async def test_a_busy_machine_is_told_with_the_result(self) -> None:
        lag = LagMeter()
        for _ in range(600):
            lag.note(80_000)
        self.assertTrue(lag.is_busy)
        net = SimulatedNet(on_connect=lambda _address, _port: Connection(10, None, "", ""))
        taken: list[Result] = []
        schedule = Schedule(net, lag, "seed", lambda _stream, one: taken.append(one))
        await schedule.assign(Assignment(probes=[assigned(1)]))
        await until(lambda: bool(taken))
        await schedule.stop()
        self.assertEqual(taken[0].detail["agent_busy_lag_us"], 80_000)

    async def test_lag_is_measured(self) -> None:
        lag = LagMeter()
        task = asyncio.create_task(lag.run())
        for _ in range(8):
            await asyncio.sleep(0.02)
            time.sleep(0.12)  # noqa: ASYNC251 (to block is the point)
        task.cancel()
        self.assertGreater(lag.lag_us, 20_000)


class ScriptedHub:
    """Answers of a hub to deliveries, in order."""

    def __init__(self, *answers: Exception | None) -> None:
        self.answers = list(answers)
        self.batches: list[Batch] = []

    async def deliver(self, batch: Batch) -> Receipt:
        self.batches.append(batch)
        answer = self.answers.pop(0) if self.answers else None
        if answer is not None:
            raise answer
        return Receipt(acknowledged=batch.results[-1].sequence, taken=len(batch.results), repeated=0, refused=[])


class DeliveryDecisions(FolderCase):
    """Each row of the table in `agent.delivery`."""

    async def deliver(self, count: int, *answers: Exception | None) -> tuple[ScriptedHub, Spool]:
        spool = Spool(self.folder / "spool.db")
        self.addCleanup(spool.close)
        hub = ScriptedHub(*answers)
        delivery = Delivery(spool, hub)  # type: ignore[arg-type]
        for number in range(count):
            delivery.put(7, result(number))
        while await delivery.deliver_once():
            pass
        return hub, spool

    async def test_a_hub_that_is_away_gets_the_same_results_again(self) -> None:
        hub, spool = await self.deliver(3, HubAway("gone", 0.01), HubAway("busy", 0.01))
        self.assertEqual([[one.sequence for one in batch.results] for batch in hub.batches], [[1, 2, 3]] * 3)
        self.assertEqual(spool.status().waiting, 0)

    async def test_a_batch_that_is_too_large_is_halved(self) -> None:
        hub, spool = await self.deliver(8, HubRefused(413, "too large", ""))
        self.assertEqual([len(batch.results) for batch in hub.batches], [8, 4, 4])
        self.assertEqual(spool.status().waiting, 0)

    async def test_one_result_that_nobody_can_read_stops_no_other(self) -> None:
        refused = HubRefused(422, "unreadable", "")
        hub, spool = await self.deliver(2, refused, refused, None)
        self.assertEqual([[one.sequence for one in batch.results] for batch in hub.batches], [[1, 2], [1], [2]])
        self.assertEqual(spool.status().waiting, 0)

    async def test_units_are_stated(self) -> None:
        hub, _ = await self.deliver(1)
        self.assertEqual(hub.batches[0].units, {"connect": "ms"})


class HubDies(FolderCase):
    async def test_every_result_exactly_once_through_kills_in_mid_delivery(self) -> None:
        """3,000 results under way; the hub is killed (SIGKILL) four times while it takes them, and started again."""
        count = 3000
        with HubProcess(self.folder / "hub") as hub:
            joining = {"Authorization": f"Bearer {TOKEN}"}
            answer = hub.api.post("agents/enrolments", json=DESCRIPTION, headers=joining).json()
            target = hub.api.post("targets", json={"name": "gates"}).json()["id"]
            probe = {
                "name": "gates", "kind": "tcp", "target": target, "settings": {"host": "192.0.2.7", "port": 7},
                "interval_s": 60, "vantage_points": [answer["vantage_point"]],
            }  # fmt: skip
            self.assertEqual(hub.api.post("probes", json=probe).status_code, 201)
            stream = hub.api.get("streams").json()[0]["stream"]

            spool = Spool(self.folder / "spool.db")
            self.addCleanup(spool.close)
            first_us = time.time_ns() // 1000 - count * SECOND
            for number in range(count):
                spool.put(delivered(stream, result(first_us + number * SECOND)))
            client = HubClient(AgentSettings(hub=hub.url))
            client.use_token(answer["token"])
            delivery = Delivery(spool, client)
            delivery._batch_size = 40  # many commits, so that the kills fall between and into them
            task = asyncio.create_task(self.deliver(delivery))
            for waiting in (2600, 1900, 1200, 500):
                await until(lambda mark=waiting: spool.status().waiting <= mark)
                hub.kill()
                await asyncio.sleep(0.3)
                await asyncio.to_thread(hub.start)
            await until(lambda: spool.status().waiting == 0, 60)
            task.cancel()
            await client.close()
            self.assertEqual(self.stored(hub, stream, first_us), [first_us + number * SECOND for number in range(count)])

    @staticmethod
    async def deliver(delivery: Delivery) -> None:
        while True:
            delivery._batch_size = min(delivery._batch_size, 40)
            delivery._wait_s = 0.2
            if not await delivery.deliver_once():
                await asyncio.sleep(0.01)

    @staticmethod
    def stored(hub: HubProcess, stream: int, first_us: int) -> list[int]:
        """Times of all runs of the stream, oldest first, by the API's pages."""
        from datetime import datetime

        from kuppel.hub.api.shapes import at, microseconds

        times: list[int] = []
        query = {"from": at(first_us).isoformat(), "limit": "200"}
        while True:
            page = hub.api.get(f"streams/{stream}/runs", params=query).json()
            times += [microseconds(datetime.fromisoformat(run["time"])) for run in page["runs"]]
            if page["next"] is None:
                return times[::-1]
            query["to"] = page["next"]


class WholeAgent(FolderCase):
    @contextlib.asynccontextmanager
    async def agent(self, hub: HubProcess, **settings: Any) -> Any:
        made = AgentSettings(hub=hub.url, token=TOKEN, name="Brannick", state=self.folder / "agent", **settings)
        task = asyncio.create_task(Agent(made).run())
        try:
            yield task
        finally:
            task.cancel()
            with contextlib.suppress(asyncio.CancelledError):
                await task

    def ask(self, hub: HubProcess, path: str) -> Any:
        return hub.api.get(path).json()

    def add_probe(self, hub: HubProcess, port: int, point: int, name: str = "gates") -> int:
        target = hub.api.post("targets", json={"name": name}).json()["id"]
        probe = {
            "name": name, "kind": "tcp", "target": target, "settings": {"host": "127.0.0.1", "port": port},
            "interval_s": 1, "vantage_points": [point],
        }  # fmt: skip
        answer = hub.api.post("probes", json=probe)
        return next(one["stream"] for one in self.ask(hub, "streams") if one["probe"] == answer.json()["name"])

    def total(self, hub: HubProcess, stream: int) -> int:
        return int(self.ask(hub, f"streams/{stream}/runs")["total"])

    async def test_from_enrolment_to_stored_results_and_through_an_outage(self) -> None:
        with HubProcess(self.folder / "hub") as hub:
            async with TcpService() as service, self.agent(hub, provider="Vaskfiber", place="harbour"):
                await until(lambda: len(self.ask(hub, "vantage-points")) == 1)
                (point,) = self.ask(hub, "vantage-points")
                begun = time.monotonic()
                stream = self.add_probe(hub, service.port, point["id"])
                await until(lambda: self.total(hub, stream) >= 1)
                # An assignment is asked for every 2 s and a new stream runs within its interval of 1 s.
                self.assertLess(time.monotonic() - begun, 8)
                await until(lambda: self.ask(hub, "vantage-points")[0]["clock_offset_ms"] is not None)
                (point,) = self.ask(hub, "vantage-points")
                self.assertEqual((point["provider"], point["place"]), ("Vaskfiber", "harbour"))
                # Both clocks are this machine's: the true offset is 0 (RFC 5905 §8: it lies within the error).
                self.assertLessEqual(abs(point["clock_offset_ms"]), point["clock_error_ms"])
                before = self.total(hub, stream)
                hub.kill()
                await asyncio.sleep(4)
                await asyncio.to_thread(hub.start)
                # What was measured without a hub arrives: about four results more than the restart alone would bring.
                await until(lambda: self.total(hub, stream) >= before + 4, 20)
                page = self.ask(hub, f"streams/{stream}/runs?limit=200")
                times = sorted(run["time"] for run in page["runs"])
                self.assertEqual(len(times), len(set(times)))
                self.assertEqual((self.folder / "agent" / "token").stat().st_mode & 0o777, 0o600)

    async def test_it_goes_on_measuring_when_started_without_a_hub(self) -> None:
        with HubProcess(self.folder / "hub") as hub:
            async with TcpService() as service:
                async with self.agent(hub):
                    await until(lambda: len(self.ask(hub, "vantage-points")) == 1)
                    stream = self.add_probe(hub, service.port, self.ask(hub, "vantage-points")[0]["id"])
                    await until(lambda: self.total(hub, stream) >= 1)
                before = self.total(hub, stream)
                hub.stop()
                async with self.agent(hub):
                    await asyncio.sleep(3)
                    await asyncio.to_thread(hub.start)
                    await until(lambda: self.total(hub, stream) >= before + 2, 20)

    async def test_a_wrong_token_is_told_at_once(self) -> None:
        with HubProcess(self.folder / "hub") as hub:
            settings = AgentSettings(hub=hub.url, token="wrong", name="Stranger", state=self.folder / "agent")  # type: ignore[arg-type]
            with self.assertRaisesRegex(EnrolmentRefused, "no such enrolment token"):
                await Agent(settings).run()

    def test_private_files_are_whole_or_not_there(self) -> None:
        path = self.folder / "token"
        write_private(path, b"secret")
        self.assertEqual((path.read_bytes(), path.stat().st_mode & 0o777), (b"secret", 0o600))
        self.assertEqual([one.name for one in self.folder.iterdir()], ["token"])

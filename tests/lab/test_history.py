"""The demo's past as it lies in the store: whole, marked, the same for the same seed; and what is measured after it."""

import asyncio
import contextlib
import functools
import hashlib
import ipaddress
import itertools
import sqlite3
import tempfile
import time
import unittest
from pathlib import Path
from unittest import mock

import numpy as np
import orjson
from hypothesis import given, settings
from hypothesis import strategies as st

from kuppel.core.change import Change, ChangeSource, is_same_fact
from kuppel.core.duration import DAY_US
from kuppel.core.limit import Level, Limit, run_level, run_levels
from kuppel.core.result import Result
from kuppel.core.state import Judgement, State, StreamState, after_run, after_time, replay, silent_after
from kuppel.hub.settings import HubSettings
from kuppel.lab import preparation
from kuppel.lab.bulk.history import midnight
from kuppel.lab.bulk.past import past_days, slots
from kuppel.lab.events import FaultBook
from kuppel.lab.live import LivePoints
from kuppel.lab.skerry.archipelago import COAST, PLACES
from kuppel.lab.skerry.estate import PEOPLE, PLANS, POINTS, TARGETS
from kuppel.lab.world.fault import KINDS
from kuppel.probes import repetition
from kuppel.probes.registry import kind_named
from kuppel.store import days, history, inventory, totals
from kuppel.store.database import Database
from tests.hub.running import HubProcess, free_port
from tests.lab.worlds import skerry

DAYS = 2
BEGUN_US = 1_790_244_000_000_000


class Prepared:
    """A demo's folder with two days of history."""

    def __init__(self, seed: int, begun_us: int = BEGUN_US) -> None:
        self._folder = tempfile.TemporaryDirectory()
        self.folder = Path(self._folder.name)
        self.settings = HubSettings(
            data=self.folder / "hub", port=free_port(), site="Skerry Line", demo_people=list(PEOPLE)
        )
        self.shares: list[float] = []
        port = self.settings.port
        self.book = preparation.prepare(self.settings, self.folder, port, DAYS, seed, begun_us, self.shares.append)
        self.file = self.folder / "hub" / "kuppel.db"

    def digest(self) -> str:
        """Of everything that was measured or found: what is random is who may come in, and when that was written."""
        found = hashlib.sha256()
        with contextlib.closing(sqlite3.connect(self.file)) as connection:
            for table in ("series", "block", "day_summary", "hour_summaries", "run", "sample", "fact", "state_change"):
                for row in sorted(map(repr, connection.execute(f'SELECT * FROM "{table}"'))):
                    found.update(row.encode())
            changes = connection.execute("SELECT time_us, source, subject, before, after, stream_id FROM change")
            found.update("".join(sorted(map(repr, changes))).encode())
        return found.hexdigest()


@functools.cache
def prepared(seed: int = 11) -> Prepared:
    return Prepared(seed)


class ThePast(unittest.TestCase):
    def test_the_same_seed_gives_the_same_octets_and_another_others(self) -> None:
        self.assertEqual(Prepared(11).digest(), prepared().digest())
        one = preparation.stream_plans(Database(prepared().file), prepared().settings)[0]
        drawn = [next(past_days(skerry(seed), one, BEGUN_US - DAY_US, BEGUN_US)).day.values for seed in (11, 12)]
        self.assertNotEqual(drawn[0]["total"].tolist(), drawn[1]["total"].tolist())

    def test_every_slot_has_a_run_unless_its_vantage_point_was_silent(self) -> None:
        one = prepared()
        database = Database(one.file)
        streams = preparation.stream_plans(database, one.settings)
        self.assertEqual(len(streams), sum(len(plan.points) for plan in PLANS))
        from_us = midnight(BEGUN_US - DAYS * DAY_US)
        with database.reading() as connection:
            counts = totals.run_counts(connection, [each.stream_id for each in streams], from_us, BEGUN_US)
            horizon_us = days.horizon(connection)
        self.assertEqual(horizon_us, midnight(BEGUN_US))
        for each in streams:
            times = slots(each, from_us, BEGUN_US)
            silent = one.book.world.effects.value("silent", each.point, times)
            wanted = times.size if silent is None else int((silent == 0).sum())
            self.assertEqual(counts[each.stream_id][1], wanted, each)
        database.close()

    def test_all_of_it_is_marked_as_made_up_and_is_what_its_kind_may_yield(self) -> None:
        one = prepared()
        database = Database(one.file)
        for each in preparation.stream_plans(database, one.settings):
            kind = kind_named(each.plan.kind)
            with database.reading() as connection:
                runs = history.runs(connection, each.stream_id, BEGUN_US - DAY_US, BEGUN_US, 30)
            for run in runs:
                self.assertTrue(run.is_generated)
                self.assertLessEqual(set(run.quantities), set(kind.quantities))
                self.assertTrue(run.reason is None or run.reason in kind.reasons, (each.plan.name, run.reason))
                self.assertTrue(1 <= len(run.attempts) <= 2)
                self.assertEqual(run.attempts[-1]["reason"], run.reason)
                if kind.phases and run.reason is None:
                    total = sum(run.quantities.get(phase, 0.0) for phase in kind.phases)
                    self.assertAlmostEqual(total, run.quantities["total"], delta=0.001)
        database.close()

    def test_it_ends_with_open_faults_of_five_domains_that_show(self) -> None:
        one = prepared()
        found = one.book.open(BEGUN_US)
        self.assertEqual({fault.domain for fault in found}, {"provider", "service", "machine", "local", "certificate"})
        database = Database(one.file)
        with database.reading() as connection:
            probes = {each.id: each for each in inventory.probes(connection)}
            names = {each.id: each.name for each in inventory.vantage_points(connection)}
            states = {
                (probes[each.probe_id].name, names[each.vantage_point_id]): each.state
                for each in inventory.active_streams(connection)
            }
        database.close()
        # Provider, machine, local network, a silent point, and a certificate that nobody renewed.
        self.assertNotEqual(states["reach the booking site", "Lundhavn"], State.FINE)
        self.assertNotEqual(states["call the bridge, from home", "Tobias R."], State.FINE)
        self.assertEqual(states["call the bridge", "Averil"], State.BREACHED)
        self.assertEqual(states["reach the booking site, at sea", "MV Guillemot"], State.SILENT)
        self.assertEqual(states["certificate of the ticket gates", "North"], State.DEGRADED)
        self.assertEqual(states["reach the booking site", "Brannick"], State.FINE)
        share = sum(state is State.FINE for state in states.values()) / len(states)
        self.assertGreater(share, 0.75)

    def test_progress_rises_to_the_whole(self) -> None:
        shares = prepared().shares
        self.assertEqual(shares, sorted(shares))
        self.assertEqual(shares[-1], 1)

    def test_changes_were_told_and_found(self) -> None:
        with contextlib.closing(sqlite3.connect(prepared().file)) as connection:
            sources = {row[0] for row in connection.execute("SELECT DISTINCT source FROM change")}
        self.assertLessEqual({"release", "path"}, sources)


class TheScenario(unittest.TestCase):
    def test_its_size(self) -> None:
        kinds = [one.kind for one in POINTS]
        self.assertEqual([kinds.count(one) for one in ("site", "mobile", "public", "personal")], [6, 3, 3, 14])
        self.assertEqual(len(TARGETS), 14)
        runs_a_day = sum(len(plan.points) * DAY_US / plan.interval_us for plan in PLANS)
        self.assertTrue(60_000 < runs_a_day < 80_000, runs_a_day)
        self.assertGreaterEqual(len(KINDS), 18)

    def test_limits_are_of_what_is_measured_and_names_are_made_up(self) -> None:
        """RFC 2606 names; RFC 5737, RFC 3849 and RFC 1918 addresses."""
        for plan in PLANS:
            self.assertLessEqual({limit.quantity for limit in plan.limits}, set(kind_named(plan.kind).quantities))
        world = prepared().book.world
        ours = [ipaddress.ip_network(one) for one in (
            "192.0.2.0/24", "198.51.100.0/24", "203.0.113.0/24", "10.0.0.0/8", "172.16.0.0/12", "192.168.0.0/16",
            "2001:db8::/32",
        )]  # fmt: skip
        addresses = [one for host in world.topology.hosts.values() for one in (host.address, host.address_v6) if one]
        self.assertEqual(len(addresses), len(set(addresses)))
        for one in addresses:
            address = ipaddress.ip_address(one)
            self.assertTrue(any(address in each for each in ours if each.version == address.version), one)
        for host in world.topology.hosts.values():
            self.assertTrue(not host.reverse or host.reverse.endswith(".example"))

    def test_the_coast_is_geojson_and_the_harbours_lie_on_its_islands(self) -> None:
        """RFC 7946: a collection of polygons, rings closed and counterclockwise."""
        told = orjson.loads(COAST.read_bytes())
        self.assertEqual(told["type"], "FeatureCollection")
        islands = {}
        for feature in told["features"]:
            (ring,) = feature["geometry"]["coordinates"]
            self.assertEqual(ring[0], ring[-1])
            twice = sum(a[0] * b[1] - b[0] * a[1] for a, b in itertools.pairwise(ring))
            self.assertGreater(twice, 0, feature["properties"])
            islands[feature["properties"]["name"]] = ring
        for name in ("Lundhavn", "Brannick", "Ostrey", "Vessna", "Kelmouth", "Averil"):
            place = PLACES[name]
            longitudes, latitudes = zip(*islands[name], strict=True)
            self.assertTrue(min(longitudes) <= place.longitude <= max(longitudes), name)
            self.assertTrue(min(latitudes) <= place.latitude <= max(latitudes), name)


class ManyAtOnce(unittest.TestCase):
    """What judges a past in columns does what judges results one by one."""

    @given(st.lists(st.one_of(st.none(), st.floats(0, 50)), min_size=1, max_size=40))
    def test_levels(self, values: list[float | None]) -> None:
        limits = (Limit("rtt", 20, 40, 15),)
        column = np.array([np.nan if one is None else one for one in values])
        is_ok = np.array([index % 7 != 3 for index in range(len(values))])
        many = run_levels(is_ok, {"rtt": column}, limits)
        one_by_one = [
            run_level(bool(good), {} if value is None else {"rtt": value}, limits)
            for good, value in zip(is_ok, values, strict=True)
        ]
        self.assertEqual(many.tolist(), [int(one) for one in one_by_one])

    @settings(max_examples=200)
    @given(
        st.lists(st.tuples(st.integers(1, 400), st.sampled_from([0, 0, 0, 0, 1, 2, 3])), min_size=1, max_size=60),
        st.sampled_from([Judgement(), Judgement(1, 1), Judgement(3, 5)]),
    )
    def test_states(self, steps: list[tuple[int, int]], judgement: Judgement) -> None:
        times = np.cumsum([step for step, _ in steps], dtype=np.int64)
        levels = np.array([level for _, level in steps], dtype=np.int8)
        quiet = silent_after(60, 15)
        many, changes = replay(StreamState(State.FINE, True, ()), None, times, levels, judgement, quiet)
        state, last, seen = StreamState(State.FINE, True, ()), None, []
        for now, level in zip(times.tolist(), levels.tolist(), strict=True):
            if last is not None:
                before = state
                state = after_time(state, last, now, 60, 15)
                if state is not before:
                    seen.append((last + quiet, State.SILENT))
            shown = state.state
            state = after_run(state, Level(level), judgement)
            if state.state is not shown:
                seen.append((now, state.state))
            last = now
        self.assertEqual((many, changes), (state, seen))

    def test_a_hop_that_did_not_answer_is_no_other_path(self) -> None:
        self.assertTrue(is_same_fact("path", "a > b|c > d", "a > * > d"))
        self.assertFalse(is_same_fact("path", "a > b > d", "a > b > c > d"))
        self.assertFalse(is_same_fact("address", "a", "*"))


class AfterTheStart(unittest.TestCase):
    def test_everything_is_measured_by_the_real_probes(self) -> None:
        """Whatever the hub holds from after the start came out of `probes.repetition.run_probe`, and nothing else."""
        prepared_us = time.time_ns() // 1000 - 10 * 60_000_000
        one = Prepared(13, prepared_us)
        begun_us = time.time_ns() // 1000
        self.fills_the_minutes_of_preparing(one, prepared_us, begun_us)
        told: list[Result] = []
        real = repetition.run_probe

        async def noted(*arguments: object, **options: object) -> Result:
            result = await real(*arguments, **options)  # type: ignore[arg-type]
            told.append(result)
            return result

        with HubProcess(one.folder / "hub", KUPPEL_READERS="0") as hub:
            told_of = Change(0, begun_us, None, ChangeSource.MAINTENANCE, "tide gauges", "", "", "lab")
            preparation.tell_hub(one.folder, hub.port, told_of)
            points = LivePoints(one.book.world, hub.url, one.folder, POINTS)
            with mock.patch("kuppel.agent.schedule.run_probe", noted):
                asyncio.run(self.until_told(points, told, 150))
        database = Database(one.file)
        silent = "MV Guillemot"
        with database.reading() as connection:
            names = {each.id: each.name for each in inventory.vantage_points(connection)}
            streams = inventory.active_streams(connection)
            after = {each.id: history.runs(connection, each.id, begun_us, begun_us + DAY_US, 100) for each in streams}
        database.close()
        with contextlib.closing(sqlite3.connect(one.file)) as plain:
            subjects = plain.execute(
                "SELECT subject FROM change WHERE source = 'maintenance' AND time_us >= ?", (begun_us,)
            )
            self.assertIn(("tide gauges",), subjects.fetchall())
        live = {run.time_us for runs in after.values() for run in runs}
        self.assertFalse([run for runs in after.values() for run in runs if run.is_generated])
        self.assertLessEqual(live, {result.started_us for result in told})
        self.assertGreater(len(live), 100)
        measuring = {names[each.vantage_point_id] for each in streams if after[each.id]}
        self.assertEqual(measuring, {point.name for point in POINTS} - {silent})
        self.fills_the_gap_of_a_later_start(one, time.time_ns() // 1000 + 3 * 3_600_000_000)

    def fills_the_minutes_of_preparing(self, one: Prepared, from_us: int, to_us: int) -> None:
        """Every slot since the past ended has its run, and who sent it was seen then; a silent one long before."""
        preparation.fill_gap(one.settings, one.book, to_us, lambda _: None, has_measured=False)
        database = Database(one.file)
        streams = preparation.stream_plans(database, one.settings)
        with database.reading() as connection:
            counts = totals.run_counts(connection, [each.stream_id for each in streams], from_us, to_us)
            seen = {each.name: each.seen_us for each in inventory.vantage_points(connection)}
        database.close()
        for each in streams:
            wanted = 0 if each.point == "MV Guillemot" else slots(each, from_us, to_us).size
            self.assertEqual(counts[each.stream_id][1], wanted, each)
        self.assertLess(seen.pop("MV Guillemot"), from_us - 3_600_000_000)
        self.assertTrue(all(from_us <= each < to_us for each in seen.values()), seen)

    @staticmethod
    async def until_told(points: LivePoints, told: list[Result], enough: int) -> None:
        """Until so many results are there, and a little longer, so that they reach the hub."""
        task = asyncio.create_task(points.run())
        for _ in range(240):
            await asyncio.sleep(0.5)
            if len(told) >= enough:
                break
        await asyncio.sleep(4)
        task.cancel()
        with contextlib.suppress(asyncio.CancelledError):
            await task

    def fills_the_gap_of_a_later_start(self, one: Prepared, later_us: int) -> None:
        """Three hours later: what is missing since is made up, once."""
        again = FaultBook.kept(one.folder)
        assert again is not None
        self.assertEqual(again.recipe, one.book.recipe)
        written = preparation.fill_gap(one.settings, again, later_us, lambda _: None)
        expected = sum(
            slots(each, later_us - 3 * 3_600_000_000, later_us).size
            for each in preparation.stream_plans(Database(one.file), one.settings)
            if each.point != "MV Guillemot"
        )
        self.assertAlmostEqual(written / expected, 1, delta=0.05)


if __name__ == "__main__":
    unittest.main()

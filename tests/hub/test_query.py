"""Questions to what was measured: exact and within 1 % say the same, and what cannot be asked is named."""

import tempfile
import time
import unittest
import unittest.mock
from pathlib import Path
from typing import Any

import duckdb
import numpy as np

from kuppel.core.reason import Reason
from kuppel.core.result import Attempt, Result
from kuppel.hub.engine import query
from kuppel.hub.engine import statistic as engine_statistic
from kuppel.hub.readers import Readers, ReadersBusy
from kuppel.store import inventory
from kuppel.store.compaction import Compaction, Keep
from kuppel.store.database import Database
from kuppel.store.intake import NumberedResult, store_results
from tests.hub.running import HubInside

MINUTE = 60_000_000
DAY = 86_400_000_000


def stream_count(database: Database) -> int:
    with database.reading() as connection:
        return len(inventory.active_streams(connection))


def end_of_process(_database: Database) -> None:
    import os

    os._exit(9)


class QueryCase(unittest.TestCase):
    """A hub with two streams over six days: one steady, one that is slow on its last day and fails now and then."""

    @classmethod
    def setUpClass(cls) -> None:
        cls.hub = cls.enterClassContext(HubInside())
        point, _ = cls.hub.enrol()
        other, _ = cls.hub.enrol("Ostrey")
        cls.hub.add_probe([point, other])
        cls.streams = [one["stream"] for one in cls.hub.streams()]
        cls.now = time.time_ns() // 1000 // DAY * DAY + 5 * MINUTE
        cls.from_us = cls.now - 6 * DAY
        generator = np.random.default_rng(5)
        cls.values: dict[int, dict[int, float | None]] = {one: {} for one in cls.streams}
        results = []
        for time_us in range(cls.from_us, cls.now, 10 * MINUTE):
            for one in cls.streams:
                is_slow = one == cls.streams[1]
                scale = 400 if is_slow and time_us > cls.now - DAY else 100
                value = round(float(scale * generator.lognormal(0, 0.2)), 1)
                is_failed = is_slow and generator.random() < 0.1
                cls.values[one][time_us] = None if is_failed else value
                quantities = {} if is_failed else {"total": value}
                reason = Reason.TIMEOUT if is_failed else None
                result = Result(time_us, reason, quantities, {}, (Attempt(time_us, 5, reason),))
                results.append(NumberedResult(0, one, result))
        hub = cls.hub.app.state.hub
        hub.writer.write(lambda connection: store_results(connection, results, is_generated=False))
        Compaction(hub.database, hub.writer).run(cls.now)

    def ask(self, path: str, status: int = 200, from_us: int | None = None, **params: Any) -> dict[str, Any]:
        def told(time_us: int) -> str:
            return np.datetime64(time_us, "us").astype(str) + "Z"

        window = {"from": told(self.from_us if from_us is None else from_us), "to": told(self.now)}
        params = {name: told(value) if name.startswith("other") else value for name, value in params.items()}
        answer = self.hub.client.get(f"/api/query/{path}", params=window | params)
        self.assertEqual(answer.status_code, status, answer.text)
        found: dict[str, Any] = answer.json()
        return found

    def own(self, stream: int, from_us: int, to_us: int) -> np.ndarray:
        return np.array([v for at, v in self.values[stream].items() if v is not None and from_us <= at < to_us])


class Windows(QueryCase):
    STATISTICS = ("min", "mean", "max", "count", "failed", "p50", "p95")

    def check(self, found: dict[str, Any], rtol: float) -> None:
        width = round(found["width_s"] * 1e6)
        starts = [int(np.datetime64(one.removesuffix("Z"), "us").astype(int)) for one in found["starts"]]
        for told in found["streams"]:
            own = self.values[told["stream"]]
            for at, start in enumerate(starts):
                inside = [v for time_us, v in own.items() if start <= time_us < start + width]
                kept = np.array([one for one in inside if one is not None])
                columns = {name: column[at] for name, column in told["columns"].items()}
                self.assertEqual((columns["count"], columns["failed"]), (kept.size, len(inside) - kept.size))
                if kept.size == 0:
                    self.assertIsNone(columns["p50"])
                    continue
                self.assertEqual((columns["min"], columns["max"]), (kept.min(), kept.max()))
                self.assertAlmostEqual(columns["mean"], kept.mean(), places=3)
                for name, share in (("p50", 50), ("p95", 95)):
                    expected = np.percentile(kept, share, method="inverted_cdf")
                    self.assertLessEqual(abs(columns[name] - expected), rtol * expected + 1e-3)

    def test_exact_when_there_are_few_samples(self) -> None:
        found = self.ask("windows", streams=self.streams, statistics=self.STATISTICS, points=50)
        self.assertEqual((found["method"], found["unit"], found["quantity"]), ("exact", "ms", "total"))
        self.check(found, 0)

    def test_from_summaries_of_hours_and_days_within_one_percent(self) -> None:
        for points in (100, 6, 2):
            with unittest.mock.patch.object(engine_statistic, "MOST_SAMPLES", 10):
                found = self.ask("windows", streams=self.streams, statistics=self.STATISTICS, points=points)
            self.assertEqual(found["method"], "within 1 %")
            self.assertEqual(found["width_s"] % 3600, 0)
            self.check(found, 0.01)

    def test_a_day_on_which_every_run_failed_is_counted(self) -> None:
        """Such a day has no summary of the quantity, only of its runs; finished or not, its failures must be told."""
        hub = self.enterContext(HubInside())
        point, _ = hub.enrol()
        hub.add_probe([point])
        stream = hub.streams()[0]["stream"]
        inner = hub.app.state.hub
        results = []
        for time_us in range(self.from_us, self.now, 10 * MINUTE):
            is_failed = not self.from_us + DAY <= time_us < self.from_us + 2 * DAY
            reason = Reason.TIMEOUT if is_failed else None
            quantities = {} if is_failed else {"total": 100.0}
            results.append(
                NumberedResult(0, stream, Result(time_us, reason, quantities, {}, (Attempt(time_us, 5, reason),)))
            )
        expected = sum(one.result.reason is not None for one in results)
        inner.writer.write(lambda connection: store_results(connection, results, is_generated=False))
        for is_finished in (False, True):
            if is_finished:
                Compaction(inner.database, inner.writer).run(self.now)
            for points in (2, 100):
                with unittest.mock.patch.object(engine_statistic, "MOST_SAMPLES", 10):
                    found = query.slices(
                        inner.database, [stream], None, self.from_us, self.now, points, ["failed", "count"]
                    )
                columns = found.streams[stream]
                self.assertEqual(columns["failed"].sum(), expected, (is_finished, points))
                self.assertEqual(columns["count"].sum(), len(results) - expected)

    def test_samples_that_are_no_longer_kept_are_answered_from_summaries(self) -> None:
        hub = self.hub.app.state.hub
        before = self.ask("windows", streams=self.streams[:1], statistics=["count"], points=6)
        Compaction(hub.database, hub.writer).retire(self.now, Keep(DAY, 2 * DAY, 900 * DAY))
        try:
            found = self.ask("windows", streams=self.streams[:1], statistics=["count"], points=6)
            self.assertEqual(found["method"], "within 1 %")
            total = sum(filter(None, before["streams"][0]["columns"]["count"]))
            self.assertEqual(sum(filter(None, found["streams"][0]["columns"]["count"])), total)
        finally:
            type(self).setUpClass()

    def test_what_cannot_be_asked_is_named(self) -> None:
        for params, field in (
            ({"streams": self.streams, "statistics": ["median"]}, "statistics"),
            ({"streams": self.streams, "quantity": "loudness"}, "quantity"),
            ({"streams": self.streams, "quantity": "rtt"}, "quantity"),
            ({"streams": []}, "streams"),
        ):
            self.assertEqual(self.ask("windows", 422, **params)["field"], field)
        self.ask("windows", 404, streams=[999])


class TopList(QueryCase):
    def test_the_worst_come_first_exactly_or_from_sketches(self) -> None:
        for most in (engine_statistic.MOST_SAMPLES, 10):
            with unittest.mock.patch.object(engine_statistic, "MOST_SAMPLES", most):
                for statistic in ("p95", "mean", "max", "failed"):
                    found = self.ask("top", statistic=statistic)
                    self.assertEqual([one["stream"] for one in found["streams"]], self.streams[::-1], statistic)
                    self.assertEqual(found["of"], 2)
                best = self.ask("top", statistic="p50", order="best", count=1, from_us=self.now - DAY)
                self.assertEqual([one["stream"] for one in best["streams"]], self.streams[:1])
                slow = self.ask("top", statistic="mean", count=1)["streams"][0]["figure"]
                values = self.own(self.streams[1], self.from_us, self.now)
                reach = 1.96 * values.std(ddof=1) / values.size**0.5
                self.assertAlmostEqual(slow["value"], values.mean(), places=3)
                self.assertAlmostEqual(slow["high"] - slow["value"], reach, delta=0.05 * reach)
                self.assertEqual((slow["count"], slow["unit"]), (values.size, "ms"))


class Spread(QueryCase):
    def test_classes_count_every_value(self) -> None:
        values = np.concatenate([self.own(one, self.from_us, self.now) for one in self.streams])
        expected = np.histogram(values, [-np.inf, 90, 110, 300, np.inf])[0].tolist()
        found = self.ask("distribution", streams=self.streams, edges=[90, 110, 300])
        self.assertEqual([one["count"] for one in found["classes"]], expected)
        self.assertEqual((found["classes"][0]["from"], found["classes"][3]["to"], found["method"]), (None, None, "exact"))
        with unittest.mock.patch.object(engine_statistic, "MOST_SAMPLES", 10):
            near = self.ask("distribution", streams=self.streams, edges=[90, 110, 300])
        self.assertEqual(near["count"], values.size)
        for one, two in zip(near["classes"], found["classes"], strict=True):
            self.assertAlmostEqual(one["share"], two["share"], delta=0.05)
        self.assertEqual(self.ask("distribution", 422, streams=self.streams, edges=[5, 5])["field"], "edges")


class Comparison(QueryCase):
    def test_a_change_is_clear_and_no_change_is_not(self) -> None:
        for most in (engine_statistic.MOST_SAMPLES, 10):
            with unittest.mock.patch.object(engine_statistic, "MOST_SAMPLES", most):
                found = self.ask("comparison", streams=self.streams, from_us=self.now - DAY)
            steady, slow = found["streams"]
            self.assertEqual((steady["difference"]["is_clear"], slow["difference"]["is_clear"]), (False, True))
            self.assertLess(steady["difference"]["low"], 0)
            self.assertGreater(slow["difference"]["low"], 200)
            self.assertAlmostEqual(slow["difference"]["value"], slow["now"]["value"] - slow["before"]["value"], places=3)

    def test_shares_of_runs_and_a_window_of_ones_own(self) -> None:
        other = {"other_from": self.from_us, "other_to": self.from_us + 2 * DAY}
        found = self.ask("comparison", streams=self.streams, statistic="availability", from_us=self.now - 2 * DAY, **other)
        self.assertEqual(found["quantity"], "availability")
        self.assertEqual(found["streams"][0]["now"]["value"], 1)
        self.assertEqual(found["streams"][0]["difference"]["value"], 0)
        self.assertAlmostEqual(found["streams"][1]["before"]["value"], 0.9, delta=0.06)


class Processes(QueryCase):
    def test_a_question_is_answered_elsewhere_and_errors_come_back(self) -> None:
        readers = Readers(self.hub.app.state.hub.database, 1)
        self.addCleanup(readers.close)
        readers.warm_up()
        self.assertEqual(readers.ask(stream_count), 2)
        with self.assertRaisesRegex(ValueError, "edges"):
            readers.ask(query.distribution, self.streams, None, [3, 2], self.from_us, self.now)
        found = readers.ask(query.slices, self.streams, None, self.from_us, self.now, 10, ["count"])
        self.assertEqual(set(found.streams), set(self.streams))

    def test_a_reader_that_dies_is_replaced(self) -> None:
        readers = Readers(self.hub.app.state.hub.database, 1)
        self.addCleanup(readers.close)
        with self.assertRaises(ReadersBusy):
            readers.ask(end_of_process)
        self.assertEqual(readers.ask(stream_count), 2)


class Changes(unittest.TestCase):
    def test_they_are_told_found_and_taken_back(self) -> None:
        hub = self.enterContext(HubInside())
        point, _ = hub.enrol()
        hub.add_probe([point])
        target = hub.client.get("/api/targets").json()[0]["id"]
        new = {"source": "release", "subject": "booking API", "before": "4.17.0", "after": "4.18.0", "target": target}
        made = hub.client.post("/api/changes", json=new)
        self.assertEqual(made.status_code, 201, made.text)
        told = hub.client.get("/api/changes", params={"target": target}).json()
        # A probe that was added is a change of what is measured, too.
        self.assertEqual([one["source"] for one in told], ["release", "configuration"])
        self.assertIn("added probe front page", told[1]["subject"])
        self.assertEqual((told[0]["actor"], told[0]["after"]), ("tests of admin", "4.18.0"))
        self.assertEqual(hub.client.delete(f"/api/changes/{made.json()['id']}").status_code, 204)
        self.assertEqual(len(hub.client.get("/api/changes").json()), 1)
        self.assertIn("change release booking API", hub.client.get("/api/record").text)

    def test_what_cannot_be_told_is_named(self) -> None:
        hub = self.enterContext(HubInside())
        for wrong, field in (
            ({"source": "path"}, "source"),
            ({"source": "storm"}, "source"),
            ({"subject": ""}, "subject"),
            ({"time": "2026-01-02T00:00:00Z", "until": "2026-01-01T00:00:00Z"}, "until"),
        ):
            answer = hub.client.post("/api/changes", json={"source": "notice", "subject": "works"} | wrong)
            self.assertEqual((answer.status_code, answer.json()["field"]), (422, field))
        answer = hub.client.post("/api/changes", json={"source": "notice", "subject": "works", "target": 99})
        self.assertEqual(answer.status_code, 404)


class Export(QueryCase):
    def test_runs_are_read_back_by_another_library(self) -> None:
        """By duckdb: every run once, its values and why it failed, whether its day is finished or not."""
        answer = self.hub.client.get(
            "/api/export/runs.parquet",
            params={
                "from": np.datetime64(self.from_us, "us").astype(str) + "Z",
                "to": np.datetime64(self.now, "us").astype(str) + "Z",
            },
        )
        self.assertEqual(answer.status_code, 200)
        self.assertIn("attachment", answer.headers["content-disposition"])
        with tempfile.NamedTemporaryFile(suffix=".parquet") as file:
            Path(file.name).write_bytes(answer.content)
            table = f"read_parquet('{file.name}')"
            found = duckdb.sql(f"SELECT epoch_us(time), stream, total, is_ok, reason FROM {table}").fetchall()
            notes = dict(
                duckdb.sql(f"SELECT key::VARCHAR, value::VARCHAR FROM parquet_kv_metadata('{file.name}')").fetchall()
            )
            names = duckdb.sql(f"SELECT DISTINCT vantage_point, target, probe, kind FROM {table} ORDER BY 1").fetchall()
        expected = [
            (time_us, str(stream), value, value is not None, "timeout" if value is None else None)
            for stream, own in self.values.items()
            for time_us, value in own.items()
        ]
        self.assertEqual(sorted(found, key=str), sorted(expected, key=str))
        self.assertEqual(notes["unit.total"], "ms")
        self.assertEqual([one[0] for one in names], ["Brannick", "Ostrey"])

    def test_a_stream_that_is_not_there_is_told_before_anything_is_sent(self) -> None:
        self.assertEqual(self.hub.client.get("/api/export/runs.parquet", params={"streams": [999]}).status_code, 404)


class Room(QueryCase):
    def test_sizes_growth_and_commits(self) -> None:
        told = self.hub.client.get("/api/store").json()
        kinds = {one["name"]: one for one in told["kinds"]}
        self.assertEqual(told["bytes"], sum(one["bytes"] for one in told["kinds"]))
        database = self.hub.app.state.hub.database.place
        # The file, and what of it lies in the log still; a page or two of SQLite's own are in no table.
        self.assertAlmostEqual(told["bytes"], database.stat().st_size, delta=20 * 16_384)
        self.assertEqual((kinds["samples"]["keep_days"], kinds["details"]["keep_days"]), (400, 35))
        self.assertGreater(kinds["samples"]["bytes_per_day"], 0)
        self.assertGreaterEqual(told["finished_days"], 4)
        self.assertGreater(told["commits"]["count"], 0)
        self.assertLessEqual(told["commits"]["p50_ms"], told["commits"]["p99_ms"])
        self.assertTrue(told["sentence"])

    def test_growth_is_what_the_days_take(self) -> None:
        """Per day, within a tenth, what the rows of the finished days hold; counted here row by row."""
        told = {one["name"]: one for one in self.hub.client.get("/api/store").json()["kinds"]}
        with self.hub.app.state.hub.database.reading() as connection:
            query = "SELECT count(DISTINCT key / 1099511627776), sum(length(payload)) FROM hour_summaries"
            days, size = connection.exec_driver_sql(query).one()
        self.assertAlmostEqual(told["hours"]["bytes_per_day"] / (size / days), 1, delta=0.25)


class Loss(unittest.TestCase):
    def test_the_matrix_adds_up_packets_over_finished_days_and_rows(self) -> None:
        """Lost packets over sent ones (RFC 7680), counted here one by one; the window begins and ends within a day."""
        hub = self.enterContext(HubInside())
        point, _ = hub.enrol()
        hub.add_probe([point], kind="icmp", settings={"host": "192.0.2.7"}, limits=[])
        stream = hub.streams()[0]["stream"]
        inner = hub.app.state.hub
        now = time.time_ns() // 1000 // DAY * DAY + 40 * MINUTE
        generator = np.random.default_rng(8)
        sent: dict[int, float] = {}
        results = []
        for time_us in range(now - 4 * DAY, now, 10 * MINUTE):
            sent[time_us] = float(generator.integers(0, 6))
            quantities = {"rtt": 5.0, "sent": 5.0, "lost": sent[time_us]}
            results.append(NumberedResult(0, stream, Result(time_us, None, quantities, {}, (Attempt(time_us, 5),))))
        inner.writer.write(lambda connection: store_results(connection, results, is_generated=False))
        for is_finished in (False, True):
            if is_finished:
                self.assertEqual(Compaction(inner.database, inner.writer).run(now + 2 * DAY), 5)
            for from_us in (now - 4 * DAY, now - 3 * DAY + 95 * MINUTE, now - 70 * MINUTE):
                told = np.datetime64(from_us, "us").astype(str) + "Z", np.datetime64(now, "us").astype(str) + "Z"
                params = {"from": told[0], "to": told[1], "measure": "loss"}
                (cell,) = hub.client.get("/api/matrix", params=params).json()["cells"]
                lost = [one for time_us, one in sent.items() if time_us >= from_us]
                self.assertEqual(cell["figure"]["count"], 5 * len(lost))
                self.assertAlmostEqual(cell["figure"]["value"], sum(lost) / (5 * len(lost)))

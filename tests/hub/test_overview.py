"""Pages in figures, the matrix against what is usual and against another window.

Every figure is worked out again from the samples that were put in, by numpy and statsmodels.
"""

import unittest
import unittest.mock
from typing import Any

import numpy as np
from statsmodels.stats.proportion import proportion_confint

from kuppel.hub.engine import pool, statistic
from kuppel.hub.engine.usual import WEEKS, UsualKeeper
from kuppel.store import totals
from kuppel.store import usual as kept_usual
from kuppel.store.days import TIMES
from tests.hub.test_query import DAY, MINUTE, QueryCase

HOUR = 60 * MINUTE


def iso(time_us: int) -> str:
    return f"{np.datetime64(time_us, 'us')}Z"


class OverviewCase(QueryCase):
    def get(self, path: str, from_us: int, status: int = 200, **params: Any) -> Any:
        answer = self.hub.client.get(f"/api/{path}", params={"from": iso(from_us), "to": iso(self.now)} | params)
        self.assertEqual(answer.status_code, status, answer.text)
        return answer.json()

    def together(self, from_us: int, to_us: int | None = None) -> np.ndarray:
        return np.concatenate([self.own(one, from_us, self.now if to_us is None else to_us) for one in self.streams])


class Overviews(OverviewCase):
    """The two streams of one target, over their last day: one is slow and fails now and then."""

    def test_stretches_are_over_all_runs_of_the_streams(self) -> None:
        found = self.get("overview", self.now - DAY, of="target", id=1)
        self.assertEqual((found["kind"], found["quantity"], found["unit"]), ("http", "total", "ms"))
        for row, days in zip(found["rows"], (1, 1, 7, 30), strict=True):
            values = self.together(self.now - days * DAY)
            for name, share in (("p50", 50), ("p95", 95)):
                wanted = np.percentile(values, share, method="inverted_cdf")
                self.assertAlmostEqual(row[name]["value"], wanted, delta=0.011 * wanted)
            runs = [one for own in self.values.values() for at, one in own.items() if at >= self.now - days * DAY]
            ok = sum(one is not None for one in runs)
            low, high = proportion_confint(ok, len(runs), method="wilson")
            told = row["answered"]
            self.assertAlmostEqual(told["value"], ok / len(runs))
            self.assertAlmostEqual(told["low"], low, places=6)
            self.assertAlmostEqual(told["high"], high, places=6)
        before = np.median(self.together(self.now - 2 * DAY, self.now - DAY))
        self.assertAlmostEqual(
            found["rows"][1]["change"], np.median(self.together(self.now - DAY)) / before - 1, delta=0.03
        )

    def test_members_have_their_mean_and_most(self) -> None:
        found = self.get("overview", self.now - DAY, of="all")
        for member in found["members"]:
            values = self.own(member["stream"], self.now - DAY, self.now)
            self.assertAlmostEqual(member["mean"], values.mean(), places=6)
            self.assertEqual(member["most"], values.max())
            self.assertAlmostEqual(member["p50"]["value"], np.percentile(values, 50, method="inverted_cdf"))

    def test_runs_and_targets_are_in_classes_by_their_own_limits(self) -> None:
        """Limits are 650 (degraded, which is where it clears, too) and 800 ms."""
        found = self.get("overview", self.now - DAY, of="all")
        for member in found["members"]:
            own = [one for at, one in self.values[member["stream"]].items() if at >= self.now - DAY]
            values = np.array([one for one in own if one is not None])
            self.assertEqual(
                member["counts"],
                {
                    "clear": int((values <= 650).sum()),
                    "within": 0,
                    "degraded": int(((values > 650) & (values <= 800)).sum()),
                    "breached": int((values > 800).sum()),
                    "failed": len(own) - values.size,
                },
            )
        (target,) = found["targets"]
        counts = np.array(list(target["counts"].values()))
        wanted = int(np.percentile(np.repeat(np.arange(5), counts), 95, method="inverted_cdf"))
        self.assertEqual(target["answer"], ["clear", "within", "degraded", "breached", "failed"][wanted])

    def test_distributions_say_the_same_as_samples(self) -> None:
        exact = self.get("overview", self.now - 3 * DAY, of="all")
        with unittest.mock.patch.object(pool, "_MOST_SAMPLES", 10):
            rough = self.get("overview", self.now - 3 * DAY, of="all")
        self.assertNotEqual(exact["rows"][0]["p50"]["method"], rough["rows"][0]["p50"]["method"])
        for one, other in zip(exact["percentiles"], rough["percentiles"], strict=True):
            self.assertAlmostEqual(one["figure"]["value"], other["figure"]["value"], delta=0.011 * one["figure"]["value"])
        for one, other in zip(exact["members"], rough["members"], strict=True):
            self.assertEqual(sum(one["counts"].values()), sum(other["counts"].values()))

    def test_vantage_points_over_day_week_and_month(self) -> None:
        found = self.get("overview/points", self.now - 6 * HOUR, of="all")
        by_name = {one["name"]: one for one in found["points"]}
        for name, stream in zip(("Brannick", "Ostrey"), self.streams, strict=True):
            for stretch, length in (("window", 6 * HOUR), ("day", DAY), ("week", 7 * DAY), ("month", 30 * DAY)):
                wanted = np.percentile(self.own(stream, self.now - length, self.now), 50, method="inverted_cdf")
                self.assertAlmostEqual(by_name[name][stretch]["value"], wanted, delta=0.011 * wanted)

    def test_a_series_of_all_together(self) -> None:
        for most in (60_000, 1):
            with unittest.mock.patch.object(pool, "_MOST_SAMPLES", most):
                found = self.get("overview/series", self.from_us, of="target", id=1, kind="http", points=24)
            width = round(found["width_s"] * 1e6)
            for at, start in enumerate(found["starts"]):
                start_us = int(np.datetime64(start.removesuffix("Z"), "us").astype(int))
                values = self.together(start_us, start_us + width)
                self.assertEqual(found["counts"][at], values.size)
                if values.size:
                    wanted = np.percentile(values, 50, method="inverted_cdf")
                    self.assertAlmostEqual(found["p50"][at], wanted, delta=0.011 * wanted)
            failed = sum(one is None for own in self.values.values() for one in own.values())
            self.assertEqual(sum(found["failed"]), failed)

    def test_the_matrix_tells_any_statistic(self) -> None:
        """By numpy over the samples; from the summaries of hours and days within 1 %, the mean and the worst exactly."""
        for most, within in ((120_000, 0.0), (1, 0.011)):
            with unittest.mock.patch.object(statistic, "MOST_SAMPLES", most):
                for measure, wanted in (
                    ("p99", lambda values: np.percentile(values, 99, method="inverted_cdf")),
                    ("mean", np.mean),
                    ("worst", np.max),
                ):
                    found = self.get("matrix", self.now - 3 * DAY, measure=measure, quantity="total", kind="http")
                    self.assertEqual(found["quantity"], "total")
                    for cell in found["cells"]:
                        own = wanted(self.own(cell["shown"], self.now - 3 * DAY, self.now))
                        bound = own * within if measure == "p99" else 1e-6
                        self.assertAlmostEqual(cell["figure"]["value"], own, delta=bound + 1e-9)
                        self.assertEqual(cell["figure"]["unit"], "ms")
                        # What is usual is known of the main quantity's median and bad end alone.
                        self.assertIsNone(cell["departure"])

    def test_a_quantity_that_a_kind_does_not_measure_has_no_cell(self) -> None:
        found = self.get("matrix", self.now - DAY, quantity="rtt")
        self.assertEqual([one["shown"] for one in found["cells"]], [None, None])
        found = self.get("matrix", self.now - DAY, quantity="first_byte")
        self.assertEqual({one["shown"] for one in found["cells"]}, set(self.streams))
        self.assertEqual([one["figure"]["value"] for one in found["cells"]], [None, None])
        self.assertEqual(self.get("matrix", self.now - DAY, 422, quantity="warmth")["field"], "quantity")

    def test_what_is_usual_for_all_together(self) -> None:
        """Each hour's percentiles over the runs of both, by numpy; of an hour of the week, the median of its weeks."""
        found = self.get("overview/usual", self.now - DAY, of="target", id=1, kind="http")
        until_us = self.now // DAY * DAY
        for at, start in enumerate(found["starts"]):
            start_us = int(np.datetime64(start.removesuffix("Z"), "us").astype(int))
            # Six days hold each hour of the week once: the one of the last day, or of the same day of the week before.
            hour_us = start_us if start_us + HOUR <= until_us else start_us - 7 * DAY
            values = self.together(hour_us, hour_us + HOUR)
            if values.size == 0:
                continue
            self.assertEqual(found["counts"][at], values.size)
            for name, share in (("low", 5), ("centre", 50), ("high", 95)):
                wanted = np.percentile(values, share, method="inverted_cdf")
                self.assertAlmostEqual(found[name][at], wanted, delta=0.011 * wanted)
        self.assertGreater(sum(found["counts"]), 200)
        self.assertEqual(self.get("overview/usual", self.now - DAY, 422, of="all", kind="icmp")["field"], "kind")

    def test_failed_runs_newest_first_with_why(self) -> None:
        found = self.get("overview/failed", self.now - DAY, of="vantage_point", id=2)
        times = [at for at, one in self.values[self.streams[1]].items() if one is None and at >= self.now - DAY]
        self.assertEqual(
            [one["time"] for one in found],
            [iso(at).replace(".000000Z", "Z") for at in sorted(times, reverse=True)[: len(found)]],
        )
        self.assertEqual({one["reason"] for one in found}, {"timeout"})

    def test_groups_and_what_is_not_covered(self) -> None:
        group = {"name": "web", "description": "", "tags": [], "members": [{"kind": "vantage_point", "id": 1}]}
        made = self.hub.client.post("/api/groups", json=group).json()["id"]
        found = self.get("overview", self.now - DAY, of="group", id=made)
        self.assertEqual([one["stream"] for one in found["members"]], [self.streams[0]])
        self.assertEqual(found["bare"], ["Ostrey"])
        self.hub.client.delete(f"/api/groups/{made}")

    def test_what_is_not_there_is_named(self) -> None:
        self.assertIn("group 99", self.get("overview", self.now - DAY, 404, of="group", id=99)["title"])
        problem = self.get("overview/series", self.now - DAY, 422, of="all", kind="icmp")
        self.assertEqual(problem["field"], "kind")

    def test_totals_are_sums_over_rows_and_finished_days(self) -> None:
        """Windows that begin and end within days, before and after what is compressed; against the samples."""
        database = self.hub.app.state.hub.database
        for from_us, to_us in ((self.from_us + 5 * HOUR, self.now), (self.now - 30 * HOUR, self.now - 3 * HOUR)):
            wanted = [(stream, name) for stream in self.streams for name in ("total", TIMES)]
            with database.reading() as connection:
                found = totals.totals(connection, wanted[::2], from_us, to_us)
                counts = totals.run_counts(connection, self.streams, from_us, to_us)
            for stream in self.streams:
                values = self.own(stream, from_us, to_us)
                told = found[stream, "total"]
                self.assertEqual((told.count, told.most), (values.size, values.max()))
                self.assertAlmostEqual(told.sum, values.sum(), places=6)
                runs = sum(from_us <= at < to_us for at in self.values[stream])
                self.assertEqual(counts[stream], (values.size, runs))


class Departures(OverviewCase):
    """The second stream is four times as slow on its last day as on the days before."""

    @classmethod
    def setUpClass(cls) -> None:
        # The hub would find what is usual up to the last midnight, the slow day included.
        cls.enterClassContext(unittest.mock.patch("kuppel.hub.app._keep_usual", unittest.mock.AsyncMock()))
        super().setUpClass()
        hub = cls.hub.app.state.hub
        cls.kept = UsualKeeper(hub.database, hub.writer, hub.readers).run(cls.now - DAY)

    def cells(self, **params: Any) -> dict[int, dict[str, Any]]:
        found = self.get("matrix", self.now - 6 * HOUR, **params)
        return {one["shown"]: one for one in found["cells"]}

    def test_what_is_usual_is_kept_once_a_day(self) -> None:
        hub = self.hub.app.state.hub
        self.assertEqual(self.kept, 2)
        self.assertEqual(UsualKeeper(hub.database, hub.writer, hub.readers).run(self.now - DAY), 0)
        with hub.database.reading() as connection:
            kept = kept_usual.usual_of(connection, self.streams)
        until_us = (self.now - DAY) // DAY * DAY
        for stream, one in kept.items():
            runs = [v for at, v in self.values[stream].items() if until_us - WEEKS * 7 * DAY <= at < until_us]
            self.assertAlmostEqual(one.answered or 0, sum(v is not None for v in runs) / len(runs))
            self.assertIsNone(one.lost)
            self.assertGreater(int(one.pattern.count.min()), 11)

    def test_a_slow_stream_is_tinted_and_a_steady_one_is_not(self) -> None:
        for measure in ("p50", "p95"):
            cells = self.cells(measure=measure)
            levels = [cells[one]["departure"]["level"] for one in self.streams]
            self.assertEqual(levels[0], 0)
            self.assertEqual(levels[1], 4)
        median = np.median(self.own(self.streams[1], self.from_us, self.now - DAY))
        usual = self.cells(measure="p50")[self.streams[1]]["departure"]["usual"]
        self.assertAlmostEqual(usual, median, delta=0.2 * median)

    def test_against_another_window(self) -> None:
        against = {"against_from": iso(self.now - 2 * DAY), "against_to": iso(self.now - DAY - 6 * MINUTE)}
        cells = self.cells(measure="p50", **against)
        steady, slow = (cells[one]["departure"] for one in self.streams)
        self.assertEqual((steady["level"], slow["level"]), (0, 4))
        then = np.percentile(
            self.own(self.streams[1], self.now - 2 * DAY, self.now - DAY - 6 * MINUTE), 50, method="inverted_cdf"
        )
        self.assertAlmostEqual(slow["usual"], then, places=4)
        self.assertEqual(self.cells(measure="availability", **against)[self.streams[0]]["departure"]["level"], 0)

    def test_half_a_window_is_refused(self) -> None:
        problem = self.get("matrix", self.now - DAY, 422, against_from=iso(self.now - DAY))
        self.assertEqual(problem["field"], "against_to")
        problem = self.get("matrix", self.now - DAY, 422, against_from=iso(self.now), against_to=iso(self.now - DAY))
        self.assertEqual(problem["field"], "against_from")

    def test_the_first_is_what_others_are_held_against(self) -> None:
        found = self.ask("comparison", streams=self.streams, statistic="p50", from_us=self.now - DAY)
        first, second = found["streams"]
        self.assertIsNone(first["from_first"])
        apart = second["from_first"]
        self.assertAlmostEqual(apart["value"], second["now"]["value"] - first["now"]["value"])
        self.assertTrue(apart["low"] < apart["value"] < apart["high"])
        self.assertTrue(apart["is_clear"])

    def test_change_points_are_where_the_level_changed(self) -> None:
        found = self.get(f"streams/{self.streams[1]}/series", self.now - 2 * DAY, points=288)
        (change,) = [one for one in found["changes"] if one["what"] == "level"]
        at_us = int(np.datetime64(change["time"].removesuffix("Z"), "us").astype(int))
        self.assertAlmostEqual(at_us, self.now - DAY, delta=30 * MINUTE)
        self.assertAlmostEqual(change["after"] / change["before"], 4, delta=0.6)


if __name__ == "__main__":
    unittest.main()

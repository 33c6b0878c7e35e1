"""Changes, facts, and what others measured: kept with their window queries, refused when they cannot be."""

import math

import numpy as np

from kuppel.core.change import Change, ChangeSource
from kuppel.core.error import SettingsError
from kuppel.core.histogram import Buckets, ExponentialHistogram
from kuppel.store import changes, history, metrics
from kuppel.store.database import Connection
from kuppel.store.intake import NumberedResult, store_results
from kuppel.store.metrics import Point
from tests.store.test_store import StoreCase, a_result

SECOND = 1_000_000


class Changes(StoreCase):
    def add(self, **of: object) -> int:
        told = {"id": 0, "time_us": 100, "until_us": None, "source": ChangeSource.RELEASE, "subject": "booking API",
                "before": "4.17.0", "after": "4.18.0", "actor": "signe"}  # fmt: skip
        one = Change(**(told | of))  # type: ignore[arg-type]
        return self.writer.write(lambda connection: changes.add_change(connection, one))

    def found(self, from_us: int = 0, to_us: int = 1000, **of: object) -> list[int]:
        with self.database.reading() as connection:
            return [one.id for one in changes.changes(connection, from_us, to_us, **of)]  # type: ignore[arg-type]

    def test_they_are_found_by_where_they_happened(self) -> None:
        stream = self.a_stream()
        everywhere = self.add()
        of_target = self.add(target_id=self.target)
        of_point = self.add(vantage_point_id=self.points[0])
        elsewhere = self.add(vantage_point_id=self.points[1])
        of_stream = self.add(stream_id=stream)
        self.assertEqual(set(self.found()), {everywhere, of_target, of_point, elsewhere, of_stream})
        self.assertEqual(set(self.found(stream_id=stream)), {everywhere, of_target, of_point, of_stream})
        self.assertEqual(set(self.found(target_id=self.target)), {everywhere, of_target, of_stream})
        self.assertEqual(set(self.found(vantage_point_id=self.points[0])), {everywhere, of_point, of_stream})

    def test_what_lasts_is_found_while_it_lasts(self) -> None:
        lasting = self.add(until_us=500, source=ChangeSource.MAINTENANCE)
        short = self.add(time_us=300, subject="roster")
        self.assertEqual(self.found(200, 400), [short, lasting])
        self.assertEqual(self.found(500, 600), [])
        self.assertEqual(self.found(source=ChangeSource.MAINTENANCE), [lasting])
        self.assertEqual(self.found(find="roster 4.18"), [short])
        self.assertEqual(self.found(find="100%"), [])

    def test_a_fact_that_changes_is_a_change(self) -> None:
        stream = self.a_stream()
        for at, address in enumerate(("192.0.2.7", "192.0.2.7", "192.0.2.9", "192.0.2.7")):
            one = NumberedResult(at + 1, stream, a_result((at + 1) * SECOND, address=address))
            self.take([one], at + 1)
        with self.database.reading() as connection:
            found = changes.changes(connection, 0, 10 * SECOND)
            facts = history.facts(connection, stream, 10 * SECOND)
        told = [(one.time_us, one.source, one.before, one.after, one.stream_id) for one in found]
        expected = [
            (4 * SECOND, ChangeSource.ADDRESS, "192.0.2.9", "192.0.2.7", stream),
            (3 * SECOND, ChangeSource.ADDRESS, "192.0.2.7", "192.0.2.9", stream),
        ]
        self.assertEqual(told, expected)
        spans = [(one.value, one.from_us, one.until_us) for one in facts]
        second = SECOND
        self.assertEqual(
            spans,
            [
                ("192.0.2.7", second, 3 * second),
                ("192.0.2.9", 3 * second, 4 * second),
                ("192.0.2.7", 4 * second, None),
            ],
        )

    def test_what_was_remembered_of_a_commit_that_failed_is_forgotten(self) -> None:
        """A series and a fact made in a commit that was undone must be made again by the next."""
        stream = self.a_stream()
        one = NumberedResult(1, stream, a_result(SECOND, address="192.0.2.7"))

        def fails(connection: Connection) -> None:
            store_results(connection, [one], is_generated=False)
            raise RuntimeError("after it was stored")

        with self.assertRaises(RuntimeError):
            self.writer.write(fails)
        self.take([one], 1)
        with self.database.reading() as connection:
            self.assertEqual(history.facts(connection, stream, 10 * SECOND)[0].value, "192.0.2.7")
            found = history.samples(connection, [stream], ["total"], 0, 10 * SECOND)
        self.assertEqual(found[stream, "total"][1].tolist(), [100.0])


class Metrics(StoreCase):
    def series(self, unit: str = "ms", **attributes: str) -> int:
        return self.writer.write(lambda connection: metrics.series_id(connection, "otlp", "duration", unit, attributes))

    def test_one_series_has_one_unit(self) -> None:
        one = self.series(service="api", route="/a")
        self.assertEqual(self.series(route="/a", service="api"), one)
        self.assertNotEqual(self.series(route="/b", service="api"), one)
        with self.assertRaises(SettingsError) as caught:
            self.series("s", service="api", route="/a")
        self.assertEqual((caught.exception.field, caught.exception.value), ("unit", "s"))
        with self.database.reading() as connection:
            known = metrics.all_series(connection, "otlp", "duration")
        self.assertEqual([one.attributes["route"] for one in known], ["/a", "/b"])

    def test_points_of_a_window(self) -> None:
        one, other = self.series(), self.series(route="/b")
        told = [
            Point(at * 60 * SECOND, (at + 1) * 60 * SECOND, at, at * 2.5, 1.0 if at else None, at + 1.0) for at in range(9)
        ]
        self.writer.write(lambda connection: metrics.add_points(connection, one, told))
        self.writer.write(lambda connection: metrics.add_points(connection, one, told[:3]))
        self.writer.write(lambda connection: metrics.add_points(connection, other, told[:1]))
        with self.database.reading() as connection:
            found = metrics.points(connection, [one, other], 0, 7 * 60 * SECOND)
        self.assertEqual(found[one].counts.tolist(), list(range(7)))
        self.assertEqual((found[one].sums.sum(), found[one].most.max()), (52.5, 7))
        self.assertTrue(math.isnan(found[one].least[0]))
        self.assertEqual(found[other].counts.size, 1)
        self.writer.write(lambda connection: metrics.retire(connection, 6 * 60 * SECOND))
        with self.database.reading() as connection:
            self.assertEqual(metrics.points(connection, [one], 0, 10**12)[one].counts.tolist(), [6, 7, 8])

    def test_what_cannot_be_is_refused_whole(self) -> None:
        one = self.series()
        good = Point(0, SECOND, 1, 1.0)
        for wrong, field in (
            (Point(0, SECOND, 1, math.nan), "sum"),
            (Point(0, SECOND, -1, 1.0), "count"),
            (Point(SECOND, 0, 1, 1.0), "until"),
            (Point(0, SECOND, 1, 1.0, math.inf), "min"),
            (Point(0, SECOND, 1, 1.0, 3.0, 2.0), "min"),
        ):
            with self.assertRaises(SettingsError) as caught:
                self.writer.write(lambda connection, wrong=wrong: metrics.add_points(connection, one, [good, wrong]))  # type: ignore[misc]
            self.assertEqual(caught.exception.field, field)
        with self.database.reading() as connection:
            self.assertEqual(metrics.points(connection, [one], 0, 10**12), {})

    def test_histograms_come_back_as_they_were(self) -> None:
        one = self.series()
        made = ExponentialHistogram(
            3, 2, 1e-6, Buckets(-4, np.array([1, 0, 7], np.int64)), Buckets(9, np.array([2], np.int64)), 12.5, -3.0, 8.0
        )
        self.writer.write(lambda connection: metrics.add_histograms(connection, one, [(60 * SECOND, 120 * SECOND, made)]))
        with self.database.reading() as connection:
            ((start, until, found),) = metrics.histograms(connection, one, 0, 10**12)
        self.assertEqual((start, until, found.count), (60 * SECOND, 120 * SECOND, 12))
        self.assertEqual(
            (found.scale, found.zero_threshold, found.sum, found.least, found.most), (3, 1e-6, 12.5, -3.0, 8.0)
        )
        self.assertEqual((found.positive.offset, found.positive.counts.tolist()), (-4, [1, 0, 7]))
        self.assertEqual((found.negative.offset, found.negative.counts.tolist()), (9, [2]))

"""The store: what is written once, read back, and refused."""

import sqlite3
import tempfile
import threading
import unittest
from functools import partial
from pathlib import Path

import numpy as np
import zstandard
from alembic import command
from alembic.autogenerate import compare_metadata
from alembic.config import Config
from alembic.migration import MigrationContext
from sqlalchemy import Connection, create_engine, text

from kuppel import store
from kuppel.core.duration import DAY_US
from kuppel.core.error import SettingsError
from kuppel.core.limit import Level, Limit
from kuppel.core.reason import Reason
from kuppel.core.result import Attempt, Result
from kuppel.core.sketch import Sketch
from kuppel.core.state import Judgement, State, StreamState
from kuppel.store import block, days, history, intake, inventory, rollup, states, summary, tables, totals
from kuppel.store.database import Database, DatabaseUnusable
from kuppel.store.intake import NumberedResult
from kuppel.store.inventory import NotFound, Probe, Target
from kuppel.store.states import StateNote
from kuppel.store.tables import metadata
from kuppel.store.writer import StoreBusy, StoreFull, Writer


def a_result(time_us: int, total: float = 100.0, reason: Reason | None = None, **facts: str) -> Result:
    quantities = {} if reason else {"total": total, "connect": total / 10}
    return Result(time_us, reason, quantities, facts, (Attempt(time_us, 1000, reason, "seen"),), {"status": 200})


def a_probe(target: int, points: tuple[int, ...], **changed: object) -> Probe:
    values = {
        "id": 0, "name": "front page", "kind": "http", "target_id": target, "settings": {"url": "http://a.example/"},
        "interval_us": 60_000_000, "attempts": 2, "attempt_gap_us": 0, "interface": None, "source": None,
        "limits": (Limit("total", 650, 800, 600),), "judgement": Judgement(3, 5), "is_enabled": True,
        "vantage_point_ids": points,
    }  # fmt: skip
    return Probe(**(values | changed))  # type: ignore[arg-type]


DAY = 20_000 * DAY_US


def _third_sketch(of: Sketch) -> bytes:
    """A sketch as the third version wrote it: four octets a bucket."""
    buckets = np.empty(of.keys.size, np.dtype([("key", "<i2"), ("count", "<u2")]))
    buckets["key"], buckets["count"] = of.keys, of.counts
    return buckets.tobytes()


def _third_hours(hours: dict[int, summary.Summary]) -> bytes:
    """A day's hours as the third version wrote them."""
    told = [hours[hour] for hour in sorted(hours)]
    columns = [[round(one.sum, 6) for one in told], [one.least for one in told], [one.most for one in told]]
    values = [block.encode_values(np.array(one, dtype=np.float64)) for one in columns]
    whole = np.array([(hour, hours[hour].count, hours[hour].failed, hours[hour].sketch.keys.size) for hour in hours], "<u4")
    steps = np.concatenate([np.diff(one.sketch.keys, prepend=0) for one in told]).astype("<i2")
    counts = np.concatenate([one.sketch.counts for one in told]).astype("<u4")
    lengths = np.array([len(told), *(len(one) for one in values)], dtype="<u4")
    shuffled = [column.view(np.uint8).reshape(-1, column.itemsize).T.tobytes() for column in (steps, counts)]
    body = lengths.tobytes() + whole.T.tobytes() + b"".join(shuffled) + b"".join(values)
    return b"\6" + bytes(4) + zstandard.compress(body)


class StoreCase(unittest.TestCase):
    def setUp(self) -> None:
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.path = Path(folder.name) / "kuppel.db"
        self.database = self.opened()
        self.addCleanup(self.database.close)
        self.writer = Writer(self.database)
        self.addCleanup(self.writer.close)

    def opened(self) -> Database:
        """A new database; on PostgreSQL in `test_postgresql`."""
        return Database(self.path)

    def a_stream(self) -> int:
        """An inventory with two vantage points; the first stream's number."""
        description = {"kind": "site", "place": "", "provider": "", "version": "1", "addresses": []}
        self.points = [
            self.writer.write(partial(inventory.enrol, description=description | {"name": name}, token_hash=name, now_us=5))
            for name in ("Brannick", "Ostrey")
        ]
        self.target = self.writer.write(partial(inventory.add_target, new=Target(0, "booking site"))).id
        self.probe = self.writer.write(partial(inventory.add_probe, new=a_probe(self.target, tuple(self.points)), now_us=5))
        with self.database.reading() as connection:
            return inventory.active_streams(connection)[0].id

    def take(self, results: list[NumberedResult], up_to: int, spool: str = "spool-one") -> intake.Intake:
        return self.writer.write(
            lambda connection: intake.take_batch(connection, self.points[0], spool, results, up_to, refused=0)
        )


class Opening(StoreCase):
    def test_migrations_make_exactly_the_tables(self) -> None:
        with self.database.write_engine.connect() as connection:
            context = MigrationContext.configure(connection, opts={"compare_type": True})
            self.assertEqual(compare_metadata(context, metadata), [])

    def test_a_database_of_the_first_version_keeps_every_row(self) -> None:
        """Tables are rebuilt on the way; nothing that refers to them may go with that."""
        old = self.path.with_name("old.db")
        engine = create_engine(f"sqlite:///{old}")
        config = Config()
        config.set_main_option("script_location", str(Path(store.__file__).parent / "migrations"))
        with engine.begin() as connection:
            config.attributes["connection"] = connection
            command.upgrade(config, "0001")
            for statement in (
                "INSERT INTO vantage_point VALUES (7, 'Brannick', 'site', '', '', '', '[]', 'digest', 5, 5, NULL, NULL,"
                " 0, 0, 0, 0, 0, 0, 0)",
                "INSERT INTO spool VALUES (7, 'spool-one', 12)",
                "INSERT INTO target VALUES (3, 'gates', '')",
                "INSERT INTO probe VALUES (4, 'gates', 'tcp', 3, '{}', 1000000, 2, 0, NULL, NULL, '[]', 2, 3, 1)",
                "INSERT INTO stream VALUES (9, 4, 7, 1, 5, 'fine', 5, 'fine', '[]', NULL)",
                "INSERT INTO series VALUES (11, 9, 'connect')",
                "INSERT INTO fact VALUES (9, 'address', 5, '192.0.2.7')",
                "INSERT INTO state_change VALUES (9, 5, 'fine')",
            ):
                connection.exec_driver_sql(statement)
        engine.dispose()
        database = Database(old)
        self.addCleanup(database.close)
        with database.reading() as connection:
            self.assertEqual(inventory.streams_of(connection, 7)[0].id, 9)
            self.assertEqual(inventory.vantage_points(connection)[0].tags, [])
            for table in ("spool", "series", "fact", "state_change"):
                count = connection.exec_driver_sql(f"SELECT count(*) FROM {table}").scalar()
                self.assertEqual(count, 1, table)
            self.assertEqual(connection.exec_driver_sql("PRAGMA foreign_keys").scalar(), 1)

    def test_a_database_of_the_third_version_keeps_what_was_measured(self) -> None:
        """Rows get slots, keys of blocks turn round, sketches and hours are written anew: all tell the same afterwards."""
        old = self.path.with_name("old.db")
        engine = create_engine(f"sqlite:///{old}")
        config = Config()
        config.set_main_option("script_location", str(Path(store.__file__).parent / "migrations"))
        times = DAY + np.arange(100, dtype=np.int64) * 600_000_000
        values = np.round(np.random.default_rng(4).lognormal(3, 0.5, 100), 1)
        hours = summary.hours_of(DAY, times, values, times[:2])
        whole = summary.merged(list(hours.values()))
        with engine.begin() as connection:
            config.attributes["connection"] = connection
            command.upgrade(config, "0003")
            for statement in (
                "INSERT INTO target VALUES (3, 'gates', '')",
                "INSERT INTO vantage_point VALUES (7, 'Brannick', 'site', '', '', '', '[]', 'digest', 5, 5, NULL, NULL,"
                " 0, 0, 0, 0, 0, 0, 0, '[]')",
                "INSERT INTO probe VALUES (4, 'gates', 'tcp', 3, '{}', 1000000, 2, 0, NULL, NULL, '[]', 2, 3, 1, NULL)",
                "INSERT INTO stream VALUES (9, 4, 7, 1, 5, 'fine', 5, 'fine', '[]', NULL)",
                f"INSERT INTO mark VALUES ('horizon_us', {DAY + DAY_US})",
                f"INSERT INTO run VALUES ({DAY + DAY_US + 5}, 9, NULL, 0, '[]', '{{\"status\": 200}}')",
                f"INSERT INTO sample VALUES ({DAY + DAY_US + 5}, 12, 41.5)",
            ):
                connection.exec_driver_sql(statement)
            for number, name in ((11, days.TIMES), (12, "connect"), (13, days.CODES)):
                connection.exec_driver_sql("INSERT INTO series VALUES (?, 9, ?)", (number, name))
            blocks = {
                11: block.encode_times(times),
                12: block.encode_values(values),
                13: block.encode_codes(np.zeros(100, "u1")),
            }
            for number, payload in blocks.items():
                connection.exec_driver_sql("INSERT INTO block VALUES (?, ?)", (number * 2**20 + 20_000, payload))
            key = 12 * 2**20 + 20_000
            row = (key, 100, 2, whole.sum, whole.least, whole.most, _third_sketch(whole.sketch))
            connection.exec_driver_sql("INSERT INTO day_summary VALUES (?, ?, ?, ?, ?, ?, ?)", row)
            connection.exec_driver_sql("INSERT INTO hour_summaries VALUES (?, ?)", (key, _third_hours(hours)))
        engine.dispose()
        database = Database(old)
        self.addCleanup(database.close)
        with database.reading() as connection:
            found = history.samples(connection, [9], ["connect"], 0, 2**60)[9, "connect"]
            (run,) = history.runs(connection, 9, DAY + DAY_US, 2**60, 10)
            (told,) = rollup.day_summaries(connection, {9: "connect"}, DAY, DAY + DAY_US)
            packed = days.payloads(connection, tables.hour_summaries, [12], DAY, DAY + DAY_US)[12][DAY]
        self.assertEqual(found[0].tolist(), [*times.tolist(), DAY + DAY_US + 5])
        self.assertEqual(found[1].tolist(), [*values.tolist(), 41.5])
        self.assertEqual((run.detail, run.attempts, run.quantities), ({"status": 200}, [], {"connect": 41.5}))
        self.assertEqual(told.summary.sketch.counts.tolist(), whole.sketch.counts.tolist())
        self.assertEqual(told.summary.sketch.keys.tolist(), whole.sketch.keys.tolist())
        back = summary.decode_hours(packed)
        self.assertEqual({hour: one.count for hour, one in back.items()}, {hour: one.count for hour, one in hours.items()})
        for hour, one in hours.items():
            self.assertEqual(back[hour].sketch.keys.tolist(), one.sketch.keys.tolist())
            self.assertEqual((back[hour].least, back[hour].most), (one.least, one.most))

    def test_it_opens_again_with_what_was_there(self) -> None:
        self.a_stream()
        again = Database(self.path)
        self.addCleanup(again.close)
        with again.reading() as connection:
            self.assertEqual([one.name for one in inventory.vantage_points(connection)], ["Brannick", "Ostrey"])

    def test_write_ahead_log_and_read_only_readers(self) -> None:
        with self.database.reading() as connection:
            self.assertEqual(connection.execute(text("PRAGMA journal_mode")).scalar(), "wal")
            with self.assertRaisesRegex(Exception, "readonly"):
                connection.execute(text("DELETE FROM target"))

    def test_a_database_of_a_newer_version_is_refused(self) -> None:
        with sqlite3.connect(self.path) as connection:
            connection.execute("UPDATE alembic_version SET version_num = '9999'")
        connection.close()
        with self.assertRaisesRegex(DatabaseUnusable, r"newer Kuppel .*9999.*--data"):
            Database(self.path)

    def test_a_file_that_is_no_database_is_refused(self) -> None:
        stranger = self.path.with_name("letter.db")
        stranger.write_bytes(b"Dear harbour master, " * 100)
        with self.assertRaisesRegex(DatabaseUnusable, "not a Kuppel database"):
            Database(stranger)

    def test_a_folder_that_cannot_be_made_is_refused(self) -> None:
        with self.assertRaisesRegex(DatabaseUnusable, "--data"):
            Database(self.path / "below-a-file" / "kuppel.db")


class Taking(StoreCase):
    def test_each_result_once_however_it_is_cut(self) -> None:
        stream = self.a_stream()
        results = [NumberedResult(n, stream, a_result(n * 1000)) for n in range(1, 7)]
        first = self.take(results[:4], 4)
        again = self.take(results[:4], 4)
        other = self.take(results[2:], 6)
        self.assertEqual([len(one.taken) for one in (first, again, other)], [4, 0, 2])
        self.assertEqual([one.acknowledged for one in (first, again, other)], [4, 4, 6])
        self.assertEqual(again.repeated, 4)
        with self.database.reading() as connection:
            self.assertEqual(totals.run_counts(connection, [stream], 0, 10**12), {stream: (6, 6)})

    def test_a_new_spool_counts_anew(self) -> None:
        stream = self.a_stream()
        self.take([NumberedResult(1, stream, a_result(1000))], 1)
        self.assertEqual(len(self.take([NumberedResult(1, stream, a_result(2000))], 1, "spool-two").taken), 1)

    def test_a_late_answer_to_an_old_batch_takes_nothing_back(self) -> None:
        stream = self.a_stream()
        self.take([NumberedResult(9, stream, a_result(9000))], 9)
        self.assertEqual(self.take([NumberedResult(3, stream, a_result(3000))], 3).acknowledged, 9)

    def test_what_was_stored_is_read_back(self) -> None:
        stream = self.a_stream()
        self.take([NumberedResult(1, stream, a_result(1000, 123.25, address="192.0.2.1"))], 1)
        with self.database.reading() as connection:
            (run,) = history.runs(connection, stream, 0, 10**12, 10)
            samples = history.samples(connection, [stream], ["total"], 0, 10**12)
        self.assertEqual(run.quantities, {"total": 123.25, "connect": 12.325})
        self.assertEqual((run.reason, run.detail, run.attempts[0]["note"]), (None, {"status": 200}, "seen"))
        times, values = samples[stream, "total"]
        self.assertEqual((times.tolist(), values.tolist()), ([1000], [123.25]))

    def test_windows_are_half_open(self) -> None:
        stream = self.a_stream()
        self.take([NumberedResult(n, stream, a_result(n * 1000)) for n in (1, 2, 3)], 3)
        with self.database.reading() as connection:
            ok, failed = history.run_times(connection, stream, 1000, 3000)
        self.assertEqual((ok.tolist(), failed.tolist()), ([1000, 2000], []))

    def test_facts_are_stored_when_they_change(self) -> None:
        stream = self.a_stream()
        values = ["192.0.2.1", "192.0.2.1", "192.0.2.2", "192.0.2.2", "192.0.2.1"]
        self.take([NumberedResult(n, stream, a_result(n * 1000, address=value)) for n, value in enumerate(values, 1)], 5)
        self.take([NumberedResult(6, stream, a_result(500, address="192.0.2.9"))], 6)
        with self.database.reading() as connection:
            found = [(one.value, one.from_us) for one in history.facts(connection, stream, 10**12)]
        self.assertEqual(found, [("192.0.2.1", 1000), ("192.0.2.2", 3000), ("192.0.2.1", 5000)])


class Writing(StoreCase):
    def test_a_job_that_fails_is_undone_alone(self) -> None:
        hold = threading.Event()
        held = self.writer.submit(lambda _connection: hold.wait(5))
        good = self.writer.submit(partial(inventory.add_target, new=Target(0, "one")))

        def half(connection: Connection) -> None:
            inventory.add_target(connection, Target(0, "two"))
            raise SettingsError("name", "two", "be something else")

        bad = self.writer.submit(half)
        hold.set()
        held.result(5)
        good.result(5)
        with self.assertRaises(SettingsError):
            bad.result(5)
        with self.database.reading() as connection:
            self.assertEqual([one.name for one in inventory.targets(connection)], ["one"])

    def test_a_full_queue_says_come_again(self) -> None:
        small = Writer(self.database, capacity=2)
        self.addCleanup(small.close)
        hold, begun = threading.Event(), threading.Event()

        def wait(_connection: Connection) -> None:
            begun.set()
            hold.wait(5)

        small.submit(wait)
        begun.wait(5)
        for _ in range(2):
            small.submit(lambda _connection: None)
        with self.assertRaises(StoreBusy):
            small.submit(lambda _connection: None)
        hold.set()

    def test_closing_finishes_what_was_queued(self) -> None:
        other = Writer(self.database)
        futures = [other.submit(partial(inventory.add_target, new=Target(0, str(n)))) for n in range(200)]
        other.close()
        self.assertTrue(all(future.done() for future in futures))
        with self.database.reading() as connection:
            self.assertEqual(len(inventory.targets(connection)), 200)


class FullDisk(StoreCase):
    def test_a_full_disk_stores_nothing_of_the_batch_and_says_so(self) -> None:
        """SQLite's own limit on the number of pages gives its own error SQLITE_FULL."""
        stream = self.a_stream()

        def limit_pages(connection: Connection) -> None:
            pages = connection.execute(text("PRAGMA page_count")).scalar_one()
            connection.execute(text(f"PRAGMA max_page_count={pages + 2}"))

        self.writer.write(limit_pages)
        with self.assertRaises(StoreFull):
            self.take([NumberedResult(n, stream, a_result(n * 1000)) for n in range(1, 2000)], 1999)
        with self.database.reading() as connection:
            self.assertEqual(totals.run_counts(connection, [stream], 0, 10**12), {stream: (0, 0)})
        self.writer.write(lambda connection: connection.execute(text("PRAGMA max_page_count=1073741823")).scalar())
        self.assertEqual(len(self.take([NumberedResult(1, stream, a_result(1000))], 1).taken), 1)


class Inventory(StoreCase):
    def test_a_probe_is_read_back_whole(self) -> None:
        self.a_stream()
        with self.database.reading() as connection:
            self.assertEqual(inventory.probe(connection, self.probe.id), self.probe)

    def test_a_vantage_point_that_leaves_keeps_its_history(self) -> None:
        stream = self.a_stream()
        self.take([NumberedResult(1, stream, a_result(1000))], 1)
        changed = a_probe(self.target, (self.points[1],), id=self.probe.id)
        self.writer.write(partial(inventory.change_probe, changed=changed, now_us=9))
        with self.database.reading() as connection:
            self.assertEqual([one.vantage_point_id for one in inventory.active_streams(connection)], [self.points[1]])
            self.assertFalse(inventory.stream(connection, stream).is_active)
            self.assertEqual(len(history.runs(connection, stream, 0, 10**12, 5)), 1)
        back = a_probe(self.target, tuple(self.points), id=self.probe.id)
        self.writer.write(partial(inventory.change_probe, changed=back, now_us=9))
        with self.database.reading() as connection:
            self.assertIn(stream, [one.id for one in inventory.active_streams(connection)])

    def test_numbers_of_removed_streams_are_never_given_again(self) -> None:
        """Samples name their series without a foreign key: a number that came back would join strangers."""
        self.a_stream()
        with self.database.reading() as connection:
            before = {one.id for one in inventory.active_streams(connection)}
        self.writer.write(partial(inventory.remove_probe, probe_id=self.probe.id))
        self.writer.write(partial(inventory.add_probe, new=a_probe(self.target, tuple(self.points)), now_us=5))
        with self.database.reading() as connection:
            after = {one.id for one in inventory.active_streams(connection)}
        self.assertFalse(before & after)

    def test_bad_changes_name_field_and_remedy(self) -> None:
        self.a_stream()
        jobs = {
            "name": partial(inventory.add_target, new=Target(0, "booking site")),
            "target": partial(inventory.remove_target, target_id=self.target),
            "vantage_points": partial(inventory.add_probe, new=a_probe(self.target, (99,), name="x"), now_us=1),
            "kind": partial(
                inventory.change_probe, changed=a_probe(self.target, (), id=self.probe.id, kind="tcp"), now_us=1
            ),
        }
        for field, job in jobs.items():
            with self.assertRaises(SettingsError) as raised:
                self.writer.write(job)
            self.assertEqual(raised.exception.field, field)
        with self.assertRaises(NotFound):
            self.writer.write(partial(inventory.remove_probe, probe_id=99))

    def test_enrolling_again_withdraws_the_old_token(self) -> None:
        self.a_stream()
        description = {"name": "Brannick", "kind": "site", "place": "", "provider": "", "version": "2", "addresses": []}
        enrol = partial(inventory.enrol, description=description, token_hash="new", now_us=9)
        with self.assertRaisesRegex(SettingsError, "be free"):
            self.writer.write(enrol)
        again = self.writer.write(partial(enrol, known_id=self.points[0]))
        self.assertEqual(again, self.points[0])
        with self.database.reading() as connection:
            self.assertIsNone(inventory.vantage_point_by_token(connection, "Brannick"))
            found = inventory.vantage_point_by_token(connection, "new")
        assert found is not None
        self.assertEqual((found.id, found.version, found.enrolled_us), (again, "2", 5))


class States(StoreCase):
    def test_changes_become_spans(self) -> None:
        stream = self.a_stream()
        judged = StreamState(State.BREACHED, False, (Level.BREACHED, Level.BREACHED))
        changes = ((100, State.FINE), (200, State.DEGRADED), (300, State.BREACHED))
        note = StateNote(stream, judged, 300, 350, changes)
        self.writer.write(partial(states.keep_states, notes=[note]))
        with self.database.reading() as connection:
            spans = states.state_spans(connection, 150, 400, stream)
            columns = states.spans(connection, 150, 400)
            stored = inventory.stream(connection, stream)
        self.assertEqual(spans, [(150, 200, State.FINE), (200, 300, State.DEGRADED), (300, 400, State.BREACHED)])
        told = zip(columns.from_us.tolist(), columns.to_us.tolist(), columns.state.tolist(), strict=True)
        self.assertEqual(list(told), spans)
        self.assertEqual((stored.state, stored.judged, stored.last_run_us), (State.BREACHED, judged, 350))

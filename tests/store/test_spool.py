"""The agent's spool: in order, numbered once, bounded, the oldest detail first."""

import tempfile
import unittest
from pathlib import Path

from kuppel.agent.delivery import delivered
from kuppel.core.result import Attempt, Result
from kuppel.store.spool import Spool


def result(time_us: int, detail: bool = True) -> Result:
    return Result(time_us, None, {"rtt": 1.5}, {}, (Attempt(time_us, 10),), {"round_trips_us": [1500]} if detail else {})


class SpoolCase(unittest.TestCase):
    def setUp(self) -> None:
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.path = Path(folder.name) / "spool.db"

    def spool(self, most_results: int = 100, most_details: int = 100) -> Spool:
        spool = Spool(self.path, most_results=most_results, most_details=most_details)
        self.addCleanup(spool.close)
        return spool

    def test_results_come_in_the_order_of_measuring(self) -> None:
        spool = self.spool()
        for time in (10, 20, 30):
            spool.put(delivered(7, result(time)))
        self.assertEqual([(one.sequence, one.started_us) for one in spool.oldest(2)], [(1, 10), (2, 20)])
        self.assertEqual(spool.oldest(1)[0].detail, {"round_trips_us": [1500]})

    def test_numbers_go_on_after_a_restart_even_when_all_was_delivered(self) -> None:
        spool = self.spool()
        spool.put(delivered(7, result(10)))
        spool.forget(1)
        spool.close()
        again = self.spool()
        self.assertEqual(again.put(delivered(7, result(20))), 2)
        self.assertEqual(again.identity, spool.identity)

    def test_what_waits_survives_a_restart(self) -> None:
        spool = self.spool()
        spool.put(delivered(7, result(10)))
        spool.close()
        self.assertEqual([one.started_us for one in self.spool().oldest(9)], [10])

    def test_the_oldest_detail_goes_first_and_is_counted(self) -> None:
        spool = self.spool(most_results=10, most_details=2)
        for time in range(4):
            spool.put(delivered(7, result(time)))
        self.assertEqual([bool(one.detail) for one in spool.oldest(9)], [False, False, True, True])
        self.assertEqual(spool.status().dropped_details, 2)
        self.assertEqual([one.quantities for one in spool.oldest(9)], [{"rtt": 1.5}] * 4)

    def test_then_the_oldest_results(self) -> None:
        spool = self.spool(most_results=3)
        for time in range(5):
            spool.put(delivered(7, result(time, detail=False)))
        self.assertEqual([one.started_us for one in spool.oldest(9)], [2, 3, 4])
        status = spool.status()
        self.assertEqual((status.waiting, status.dropped_results), (3, 2))
        spool.close()
        self.assertEqual(self.spool(3).status().dropped_results, 2)

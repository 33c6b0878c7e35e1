"""Sentences: what a stream's and an estate's state mean, and figures with their units.

Units and spaces: the SI Brochure (9th edition, 5.4.3): a space stands between a number and its unit, `%` included; no
plural of a unit's symbol. Prefixes: ISO/IEC 80000-13 (MB is 10^6 octets). The wording itself has no source.
"""

import unittest
from dataclasses import replace

from kuppel.core.limit import Limit
from kuppel.core.quantity import QUANTITIES
from kuppel.core.reason import Reason
from kuppel.core.sentence import StreamReading, figure, stream_sentence
from kuppel.core.state import State
from kuppel.probes.registry import KINDS

LIMIT = Limit("total", degraded=650, breached=800, clear=600)
READING = StreamReading("Lundhavn", "booking API", "http", State.FINE, "total", 221.4, 30, {"total": 690.0}, None, (LIMIT,))


class Figures(unittest.TestCase):
    def test_a_space_stands_before_the_unit_and_three_digits_matter(self) -> None:
        for value, unit, told in (
            (1118.4, "ms", "1,118 ms"), (47.96, "ms", "48.0 ms"), (4.7, "ms", "4.70 ms"), (0.0461, "ms", "0.046 ms"),
            (0.246, "1", "24.6 %"), (0.9997, "1", "100 %"), (70.98, "d", "71 days"), (3.04, "d", "3.0 days"),
            (3, "{hop}", "3 hops"), (2.5, "{packet}", "2.50 packets"), (4.1, "{mos}", "4.10 of 5"), (93.2, "{R}", "93.2 R"),
            (-61, "dB[mW]", "-61.0 dBm"), (12.25, "Mbit/s", "12.2 Mbit/s"), (0.1, "{score}", "0.100"),
        ):  # fmt: skip
            self.assertEqual(figure(value, unit), told)

    def test_many_octets_are_told_in_multiples_of_a_thousand(self) -> None:
        for value, told in ((162, "162 B"), (65_535, "65,535 B"), (2e6, "2.0 MB"), (23_521_886_208, "23.5 GB")):
            self.assertEqual(figure(value, "By"), told)

    def test_every_unit_that_a_quantity_has_is_told_without_its_code(self) -> None:
        for quantity in QUANTITIES.values():
            with self.subTest(quantity.name):
                self.assertNotRegex(figure(12.5, quantity.unit), r"[{}\[\]]|By")


class Streams(unittest.TestCase):
    def told(self, **changed: object) -> str:
        return stream_sentence(replace(READING, **changed))  # type: ignore[arg-type]

    def test_fine_tells_the_median(self) -> None:
        self.assertEqual(self.told(), "Lundhavn fetches booking API in 221 ms, within its limits")
        self.assertEqual(self.told(limits=()), "Lundhavn fetches booking API in 221 ms")
        self.assertEqual(self.told(median=None), "Lundhavn fetches booking API, fine")

    def test_beyond_a_limit_tells_the_newest_run_and_the_worst_limit(self) -> None:
        self.assertEqual(
            self.told(state=State.DEGRADED), "Lundhavn fetches booking API in 690 ms, over its degraded limit of 650 ms"
        )
        self.assertEqual(
            self.told(state=State.BREACHED, newest={"total": 910.0}),
            "Lundhavn fetches booking API in 910 ms, over its breached limit of 800 ms",
        )
        self.assertEqual(
            self.told(state=State.DEGRADED, newest={"total": 620.0}),
            "Lundhavn fetches booking API in 620 ms, not yet clear",
        )

    def test_a_limit_of_another_quantity_is_named(self) -> None:
        limits = (LIMIT, Limit("certificate_days", degraded=30, breached=7))
        self.assertEqual(
            self.told(state=State.BREACHED, newest={"total": 100.0, "certificate_days": 6.2}, limits=limits),
            "Lundhavn fetches booking API in 100 ms, with 6.2 days left on its certificate, "
            "under its breached limit of 7.0 days",
        )

    def test_where_less_is_worse_it_is_under_its_limit(self) -> None:
        """A mean opinion score below 3.1 is "nearly all users dissatisfied" (ITU-T G.107, annex B; from memory)."""
        call = {
            "kind": "voice", "main": "mos", "newest": {"mos": 2.9}, "limits": (Limit("mos", degraded=3.6, breached=3.1),),
        }  # fmt: skip
        self.assertEqual(
            self.told(state=State.BREACHED, **call),
            "Lundhavn talks with booking API at 2.90 of 5, under its breached limit of 3.10 of 5",
        )

    def test_a_failed_run_tells_why(self) -> None:
        told = self.told(state=State.BREACHED, newest={}, newest_reason=Reason.CONNECTION_REFUSED)
        self.assertRegex(told, "^Lundhavn gets no good answer from booking API: .*refused")

    def test_silence_is_told_as_such_before_and_after_the_first_result(self) -> None:
        self.assertEqual(self.told(state=State.SILENT, runs=0, median=None), "Lundhavn has sent no result for booking API")
        self.assertEqual(self.told(state=State.SILENT), "Lundhavn has gone silent about booking API: no result")

    def test_every_kind_has_a_sentence_of_its_own(self) -> None:
        told = {
            kind.name: self.told(kind=kind.name, main=kind.main, median=0.5, newest={kind.main: 0.5})
            for kind in KINDS.values()
        }
        self.assertEqual(len(set(told.values())), len(KINDS))
        self.assertEqual(told["host"], "Lundhavn reads booking API and wakes 0.500 ms late, within its limits")
        self.assertEqual(told["dns"], "Lundhavn is answered by booking API in 0.500 ms, within its limits")

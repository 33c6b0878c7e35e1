"""RFC 6349's figures against the standard's own examples, and the loss-limited rate against its paper."""

import unittest

from kuppel.core.throughput import (
    bandwidth_delay_product,
    buffer_delay,
    highest_payload_rate,
    ideal_transfer_time,
    loss_limited_rate,
    minimum_window,
    tcp_efficiency,
    transfer_time_ratio,
)


class Rfc6349(unittest.TestCase):
    def test_bandwidth_delay_product_and_window(self) -> None:
        """RFC 6349 §3.3.1, table: rate, round trip, product in bits, window in kilo-octets."""
        for mbit, rtt_ms, bits, kilo in (
            (1.536, 20, 30_720, 3.84), (1.536, 50, 76_800, 9.60), (1.536, 100, 153_600, 19.20),
            (44.21, 10, 442_100, 55.26), (44.21, 15, 663_150, 82.89), (44.21, 25, 1_105_250, 138.16),
            (100, 1, 100_000, 12.5), (100, 2, 200_000, 25), (100, 5, 500_000, 62.5),
            (1000, 0.1, 100_000, 12.5), (1000, 0.5, 500_000, 62.5), (1000, 1, 1_000_000, 125),
            (10_000, 0.05, 500_000, 62.5), (10_000, 0.3, 3_000_000, 375),
        ):  # fmt: skip
            self.assertAlmostEqual(bandwidth_delay_product(mbit * 1e6, rtt_ms / 1e3), bits, delta=0.5)
            self.assertAlmostEqual(minimum_window(mbit * 1e6, rtt_ms / 1e3) / 1e3, kilo, delta=0.005)

    def test_highest_payload_rate(self) -> None:
        """RFC 6349 §4.1: a T3 of 44.21 Mbit/s with 1508-octet frames carries 42.8 Mbit/s; Ethernet of 100 Mbit/s, 1 and
        10 Gbit/s with 1538 octets on the wire 94.9, 949.3 and 9,492.8; a T1 1.48."""
        self.assertAlmostEqual(highest_payload_rate(44.21e6, overhead=8) / 1e6, 42.8, delta=0.05)
        for line, payload in ((100e6, 94.9), (1e9, 949.3), (10e9, 9492.8)):
            self.assertAlmostEqual(highest_payload_rate(line) / 1e6, payload, delta=0.06)
        self.assertAlmostEqual(highest_payload_rate(1.536e6, overhead=8) / 1e6, 1.48, delta=0.01)

    def test_efficiency_buffer_delay_and_ratio(self) -> None:
        """RFC 6349 §4.2: 2,000 of 102,000 octets again, 98.03 % (printed cut off); §4.3: 32 ms against 25 ms, 28 %."""
        self.assertAlmostEqual(tcp_efficiency(102_000, 2_000) * 100, 98.03, delta=0.01)
        self.assertAlmostEqual(buffer_delay(32, 25) * 100, 28)
        # 100 MB at 100 Mbit/s: 8.43 s (from the formula), and a transfer of 12.6 s takes half as long again.
        ideal = ideal_transfer_time(100_000_000, 100e6)
        self.assertAlmostEqual(ideal, 8.43, delta=0.005)
        self.assertAlmostEqual(transfer_time_ratio(12.64, ideal), 1.5, delta=0.01)


class LossLimited(unittest.TestCase):
    def test_the_papers_formula(self) -> None:
        """Mathis et al. 1997: MSS 1460, 100 ms, p = 1e-4 gives 14.305 Mbit/s, or 10.115 with delayed acknowledgements."""
        self.assertAlmostEqual(loss_limited_rate(1460, 0.1, 1e-4) / 1e6, 14.305, 3)
        self.assertAlmostEqual(loss_limited_rate(1460, 0.1, 1e-4, delayed_acks=True) / 1e6, 10.115, 3)

    def test_the_windows_of_rfc_3649(self) -> None:
        """RFC 3649 table 2: W = 1.2 / √p segments, so that a rate is W segments a round trip (±1)."""
        for loss, window in ((1e-2, 12), (1e-3, 38), (1e-4, 120), (1e-5, 379), (1e-6, 1200), (1e-8, 12_000)):
            found = loss_limited_rate(1500, 0.1, loss) * 0.1 / (1500 * 8)
            self.assertAlmostEqual(found / window, 1, delta=0.035)

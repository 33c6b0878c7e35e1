"""Trains on real sockets: sent at their times, whatever comes back meanwhile; and a clock that is set is noticed."""

import select
import socket
import statistics
import time
import unittest
from unittest import mock

from kuppel.core.reason import Reason
from kuppel.probes.kernel import pacing
from kuppel.probes.kernel.pacing import collect, steady_clock, transmit
from kuppel.probes.net import NetError

MS = 1_000_000


class Train(unittest.TestCase):
    def setUp(self) -> None:
        self.near, self.far = (socket.socket(socket.AF_INET, socket.SOCK_DGRAM) for _ in range(2))
        for one in (self.near, self.far):
            one.bind(("127.0.0.1", 0))
            self.addCleanup(one.close)
        self.near.connect(self.far.getsockname())
        self.far.connect(self.near.getsockname())
        self.far.setblocking(False)
        self.sent_ns: list[int] = []
        self.came: list[bytes] = []

    def send(self, number: int) -> None:
        self.sent_ns.append(time.monotonic_ns())
        self.near.send(number.to_bytes(2, "big"))

    def drain(self) -> None:
        while True:
            try:
                self.came.append(self.near.recv(100))
            except BlockingIOError:
                return

    def run_train(self, count: int, interval_us: int, timeout_us: int = 100_000, until: int | None = None) -> float:
        """How long it took, in ms."""
        begun = time.monotonic_ns()
        transmit(
            self.near, count, interval_us, timeout_us, self.send, self.drain, lambda: len(self.came) >= (until or count)
        )
        return (time.monotonic_ns() - begun) / MS

    def test_packets_leave_at_their_times_and_the_train_does_not_drift(self) -> None:
        """Against the schedule itself: never early, and late by little. A busy machine is late now and then, so that the
        best of five trains counts; one that drifted would be late in each."""
        for interval_us in (1_000, 5_000, 7_300):
            medians = []
            for _ in range(5):
                self.sent_ns.clear()
                begun_ns = time.monotonic_ns()
                self.run_train(40, interval_us, timeout_us=1000)
                late = [(at - begun_ns) / 1000 - number * interval_us for number, at in enumerate(self.sent_ns)]
                self.assertGreaterEqual(min(late), 0, interval_us)
                medians.append(statistics.median(late[20:]))
            self.assertLess(min(medians), 500, interval_us)

    def test_every_packet_goes_out_once_and_in_its_order(self) -> None:
        self.run_train(25, 500, timeout_us=1000)
        found = [int.from_bytes(self.far.recv(10), "big") for _ in range(25)]
        self.assertEqual(found, list(range(25)))
        with self.assertRaises(BlockingIOError):
            self.far.recv(10)

    def test_answers_are_taken_while_the_train_still_runs(self) -> None:
        """As each packet leaves, the answers to those before it are in; of a machine that stalls, in one train of five."""
        arrived: list[int] = []
        ordinary = self.send

        def send_and_answer(number: int) -> None:
            ordinary(number)
            self.far.send(self.far.recv(10))
            arrived.append(len(self.came))

        self.send = send_and_answer  # type: ignore[method-assign]
        trains = []
        for _ in range(5):
            arrived.clear()
            self.came.clear()
            # All there: nothing is waited for, though ten seconds were allowed.
            self.assertLess(self.run_train(10, 5_000, timeout_us=10_000_000), 5_000)
            self.assertEqual(len(self.came), 10)
            trains.append(list(arrived))
        self.assertIn(list(range(10)), trains)

    def test_what_does_not_come_is_waited_for_until_its_time_is_over(self) -> None:
        self.assertGreaterEqual(self.run_train(3, 1000, timeout_us=80_000), 2 + 80)
        self.assertEqual(self.came, [])

    def test_what_the_socket_refuses_names_the_packet(self) -> None:
        def refuse(number: int) -> None:
            if number == 2:
                raise OSError(101, "Network is unreachable")

        self.send = refuse  # type: ignore[method-assign]
        with self.assertRaises(NetError) as caught:
            self.run_train(5, 100)
        self.assertEqual(caught.exception.reason, Reason.NO_ROUTE)
        self.assertIn("packet 3", caught.exception.note)


class Collecting(unittest.TestCase):
    def test_it_ends_at_the_deadline_to_the_millisecond(self) -> None:
        poll = select.poll()
        early = []
        for wait_ms in (0, 1, 5, 20):
            deadline_ns = time.monotonic_ns() + wait_ms * MS
            collect(poll, deadline_ns, lambda: None)
            early.append(deadline_ns - time.monotonic_ns())
        self.assertLessEqual(max(early), 0)

    def test_a_deadline_that_is_over_takes_no_time_and_takes_nothing(self) -> None:
        taken: list[int] = []
        collect(select.poll(), time.monotonic_ns() - MS, lambda: taken.append(1), lambda: True)
        self.assertEqual(taken, [])


class Clock(unittest.TestCase):
    def test_a_clock_that_runs_on_says_nothing(self) -> None:
        with steady_clock():
            time.sleep(0.02)

    def test_a_clock_that_is_set_while_packets_are_under_way_is_told(self) -> None:
        real = time.time_ns
        for by_ns in (-3_600 * 1_000_000_000, -2 * MS, 2 * MS, 3_600 * 1_000_000_000):
            context = steady_clock()
            context.__enter__()
            with (
                mock.patch.object(pacing.time, "time_ns", lambda by=by_ns: real() + by),
                self.assertRaises(NetError) as caught,
            ):
                context.__exit__(None, None, None)
            self.assertEqual(caught.exception.reason, Reason.AGENT_ERROR)
            self.assertIn("clock was set", caught.exception.note)

    def test_what_time_daemons_do_is_no_step(self) -> None:
        """RFC 5905 §11.3: a clock is slewed by at most 500 ppm; over a train of 200 ms that is 100 µs."""
        context = steady_clock()
        context.__enter__()
        slewed_ns = time.time_ns() + 100_000
        with mock.patch.object(pacing.time, "time_ns", return_value=slewed_ns):
            context.__exit__(None, None, None)


if __name__ == "__main__":
    unittest.main()

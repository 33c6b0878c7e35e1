"""Throughput over real sockets: both ways, both transports, the day's budget, and who is not served."""

import asyncio
import http.client
import json
import socket
import tempfile
import threading
import unittest
from pathlib import Path
from typing import Any

from kuppel.core.reason import Reason
from kuppel.core.result import Observation
from kuppel.probes.kernel import KernelNet
from kuppel.probes.kernel.data_reflector import DataReflector
from kuppel.probes.kernel.ledger import Ledger
from kuppel.probes.net import Binding, NetError, Transfer, Transferred
from kuppel.probes.registry import KINDS
from tests.probes.simulated import SimulatedNet

KEY = "a key of the lab"
KIND = KINDS["throughput"]


def measured(net: Any, **settings: Any) -> Observation:
    return asyncio.run(KIND.attempt(KIND.parse({"host": "127.0.0.1", "duration_s": 1} | settings), net, Binding()))


class Transfers(unittest.TestCase):
    def setUp(self) -> None:
        self.net = KernelNet()
        self.addCleanup(self.net.close)
        self.reflector = DataReflector("127.0.0.1", 0, KEY)
        thread = threading.Thread(target=self.reflector.serve, daemon=True)
        thread.start()
        self.addCleanup(thread.join, 5)
        self.addCleanup(self.reflector.close)

    def test_tcp_moves_what_it_may_both_ways(self) -> None:
        found = measured(self.net, port=self.reflector.port, key=KEY, most_mb=4, streams=3, line_mbit=1000)
        self.assertIsNone(found.reason, found.note)
        ways = found.detail["by_way"]
        for way in ("up", "down"):
            self.assertLessEqual(ways[way]["octets"], 4_000_000)
            self.assertGreater(ways[way]["octets"], 3_900_000)
            rate = ways[way]["octets"] * 8 / ways[way]["elapsed_ms"] / 1000
            self.assertAlmostEqual(found.quantities[f"throughput_{way}"] / rate, 1, delta=0.05)
        self.assertEqual(
            found.quantities["throughput"], min(found.quantities["throughput_up"], found.quantities["throughput_down"])
        )
        self.assertLessEqual(found.quantities["tcp_efficiency"], 1)
        self.assertIn("transfer_time_ratio", found.quantities)

    def test_udp_keeps_its_rate(self) -> None:
        found = measured(self.net, port=self.reflector.port, key=KEY, transport="udp", rate_mbit=8, duration_s=1)
        self.assertIsNone(found.reason, found.note)
        self.assertEqual(found.quantities["sent"], 2 * (1_000_000 // 1200))
        for way in ("up", "down"):
            # The first packet begins the time, so it counts one gap less than was sent: 833 of 832.
            self.assertAlmostEqual(found.quantities[f"throughput_{way}"], 8, delta=0.8)

    def test_without_the_key_nothing_moves(self) -> None:
        for direction in ("up", "down"):
            with self.assertRaises(NetError) as raised:
                measured(self.net, port=self.reflector.port, key="another key", direction=direction)
            self.assertIn(raised.exception.reason, (Reason.NOT_PERMITTED, Reason.PROTOCOL_ERROR))

    def test_an_ordinary_web_server_is_no_reflector(self) -> None:
        with socket.create_server(("127.0.0.1", 0)) as server:

            def serve() -> None:
                for _ in range(2):
                    connection, _ = server.accept()
                    with connection:
                        connection.recv(4096)
                        connection.sendall(b"HTTP/1.1 404 Not Found\r\nContent-Length: 4\r\n\r\nnope")

            threading.Thread(target=serve, daemon=True).start()
            with self.assertRaises(NetError) as raised:
                measured(self.net, port=server.getsockname()[1], direction="down")
            self.assertEqual(raised.exception.reason, Reason.PROTOCOL_ERROR)

    def test_a_reflector_that_never_answers_ends_in_time(self) -> None:
        with socket.create_server(("127.0.0.1", 0)) as server, self.assertRaises(NetError) as raised:
            measured(self.net, port=server.getsockname()[1], timeout_ms=200, direction="down")
        self.assertEqual(raised.exception.reason, Reason.TIMEOUT)

    def test_hostile_requests_are_refused(self) -> None:
        run = "0123456789abcdef" * 2
        for method, path, body in (
            ("GET", "/", None),
            ("GET", "/down/../../etc/passwd", None),
            ("GET", "/down/short", None),
            ("POST", f"/datagrams/{run}", json.dumps({"way": "down", "count": 10**9, "size": 1200, "rate_bit_s": 10**9})),
            ("POST", f"/datagrams/{run}", json.dumps({"way": "down", "count": 10**6, "size": 9000, "rate_bit_s": 1})),
        ):
            connection = http.client.HTTPConnection("127.0.0.1", self.reflector.port, timeout=5)
            connection.request(method, path, body, {"Authorization": f"Bearer {KEY}"})
            self.assertIn(connection.getresponse().status, (404, 422), path)
            connection.close()

    def test_datagrams_go_only_to_who_asked(self) -> None:
        """A stranger who finds the port gets nothing: it must show the run's number."""
        run = "0123456789abcdef" * 2
        connection = http.client.HTTPConnection("127.0.0.1", self.reflector.port, timeout=5)
        body = json.dumps({"way": "down", "count": 5, "size": 100, "rate_bit_s": 1_000_000})
        connection.request("POST", f"/datagrams/{run}", body, {"Authorization": f"Bearer {KEY}"})
        port = json.loads(connection.getresponse().read())["port"]
        connection.close()
        with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as stranger:
            stranger.settimeout(0.3)
            stranger.sendto(b"x" * 28, ("127.0.0.1", port))
            with self.assertRaises(TimeoutError):
                stranger.recv(2000)


class Budget(unittest.TestCase):
    def test_a_day_never_has_more_than_its_budget(self) -> None:
        ledger = Ledger()
        moved = 0
        for hour in range(24):
            try:
                ledger.reserve("a", 30, 100, now_s=hour * 3600)
                moved += 30
            except NetError as error:
                self.assertEqual(error.reason, Reason.BUDGET_SPENT)
        self.assertEqual(moved, 90)
        ledger.reserve("b", 100, 100, now_s=0)
        ledger.reserve("a", 30, 100, now_s=86_400)

    def test_what_was_not_used_is_given_back(self) -> None:
        net = SimulatedNet(on_transfer=lambda wanted: Transferred(wanted.most_octets // 10, 1_000_000))
        for _ in range(10):  # of 20 MB a run 2 MB are moved: ten runs fit into 38, where only one would without
            measured(net, most_mb=10, budget_mb_a_day=38)
        with self.assertRaises(NetError) as raised:
            measured(net, most_mb=10, budget_mb_a_day=38)
        self.assertEqual(raised.exception.reason, Reason.BUDGET_SPENT)

    def test_a_transfer_that_broke_off_stays_spent(self) -> None:
        def breaks(_wanted: Transfer) -> Transferred:
            raise NetError(Reason.CONNECTION_RESET, "simulated")

        net = SimulatedNet(on_transfer=breaks)
        for expected in (Reason.CONNECTION_RESET, Reason.BUDGET_SPENT):
            with self.assertRaises(NetError) as raised:
                measured(net, most_mb=10, budget_mb_a_day=30)
            self.assertEqual(raised.exception.reason, expected)

    def test_it_outlives_its_process(self) -> None:
        with tempfile.TemporaryDirectory() as folder:
            path = Path(folder) / "ledger.json"
            Ledger(path).reserve("a", 80, 100, now_s=5)
            with self.assertRaises(NetError):
                Ledger(path).reserve("a", 30, 100, now_s=6)
            path.write_text("{damaged")
            with self.assertRaises(NetError):
                Ledger(path).reserve("a", 1, 100, now_s=7)

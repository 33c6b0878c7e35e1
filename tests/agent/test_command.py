"""The command line: every kind by hand, readable and as JSON; whether a machine can measure; what is collected."""

import asyncio
import json
import shutil
import subprocess
import sys
import tempfile
import threading
import time
import unittest
from pathlib import Path
from typing import Any

from kuppel.agent.update import Updating
from kuppel.lab.authority import Authority
from kuppel.lab.calls import CallService
from kuppel.lab.names import NameService
from kuppel.lab.services import TcpService, Treatment, WebService, same_for_all
from kuppel.probes.kernel.reflectors import ReflectorPorts, Reflectors
from kuppel.probes.registry import KINDS
from kuppel.wire.delivery import AssignedProbe, Assignment, Binding, Update


def kuppel(*words: str) -> tuple[int, str]:
    """Status and words of a command."""
    done = subprocess.run(
        [sys.executable, "-m", "kuppel.cli", *words], capture_output=True, text=True, timeout=60, check=False
    )
    return done.returncode, done.stdout + done.stderr


class StandIns:
    """A stand-in for every kind, in a thread of its own."""

    def __init__(self) -> None:
        self.ready = threading.Event()
        self.ending = threading.Event()
        self.ports: dict[str, int] = {}
        self.thread = threading.Thread(target=lambda: asyncio.run(self.serve()), daemon=True)
        self.thread.start()
        self.ready.wait(10)

    async def serve(self) -> None:
        body = Treatment(body=b'<h1>Next sailing</h1>{"seats": 4}', headers=(("Content-Type", "text/html"),))
        records: dict[tuple[str, str], tuple[str, ...]] = {("a.example", "A"): ("192.0.2.1",)}
        authority = Authority()
        self.authority = authority.certificate
        reflectors = Reflectors("127.0.0.1", ReflectorPorts(0, None, 0))
        reflectors.start()
        async with (
            WebService(treat=same_for_all(body)) as web,
            WebService(credential=authority.issue(["localhost"], days=30)) as secure,
            TcpService() as tcp,
            NameService(records=records) as names,
            CallService() as calls,
        ):
            self.ports = {
                "web": web.port, "tls": secure.port, "tcp": tcp.port, "names": names.port, "sip": calls.port,
                "speech": calls.speech_port, **reflectors.ports,
            }  # fmt: skip
            self.ready.set()
            await asyncio.to_thread(self.ending.wait)
        reflectors.close()

    def close(self) -> None:
        self.ending.set()
        self.thread.join(10)


class ByHand(unittest.TestCase):
    @classmethod
    def setUpClass(cls) -> None:
        cls.stand_ins = StandIns()
        cls.addClassCleanup(cls.stand_ins.close)

    def words(self, folder: Path) -> dict[str, list[str]]:
        ports = self.stand_ins.ports
        url = f"http://127.0.0.1:{ports['web']}/"
        (folder / "steps.json").write_text(json.dumps([{"name": "look", "url": url}]))
        (folder / "authority.pem").write_text(self.stand_ins.authority)
        return {
            "icmp": ["127.0.0.1", "count=2", "interval_ms=5"],
            "tcp": ["127.0.0.1", f"port={ports['tcp']}"],
            "udp": ["127.0.0.1", f"port={ports['two_way']}", "count=3"],
            "path": ["127.0.0.1", "names=false"],
            "dns": ["127.0.0.1", f"port={ports['names']}", "name=a.example"],
            "tls": [
                "localhost", f"port={ports['tls']}", "family=ipv4", f"authority=@{folder}/authority.pem",
            ],
            "http": [url],
            "transaction": [f"@{folder}/steps.json"],
            "page": [url, "quiet_ms=200", "expect_text=Next sailing"],
            "voice": ["127.0.0.1", f"port={ports['speech']}", "duration_s=1", f"sip=sip:b@127.0.0.1:{ports['sip']}"],
            "throughput": ["127.0.0.1", f"port={ports['data']}", "most_mb=1", "duration_s=1"],
            "host": [],
        }  # fmt: skip

    def test_every_kind(self) -> None:
        with tempfile.TemporaryDirectory() as name:
            words = self.words(Path(name))
            self.assertEqual(set(words), set(KINDS))
            for kind, told in words.items():
                if kind == "page" and not shutil.which("chromium"):
                    continue
                with self.subTest(kind):
                    status, text = kuppel("probe", kind, *told)
                    self.assertEqual(status, 0, text)
                    self.assertTrue(text.startswith(f"{KINDS[kind].label}: ok"), text)

    def test_as_json_and_what_goes_wrong(self) -> None:
        status, text = kuppel("probe", "tcp", "127.0.0.1", f"port={self.stand_ins.ports['tcp']}", "--json")
        self.assertEqual(status, 0)
        self.assertIn("connect", json.loads(text)["quantities"])
        status, text = kuppel("probe", "tcp", "127.0.0.1", "port=9")
        self.assertEqual(status, 1)
        self.assertTrue(text.startswith("connect: failed, the connection was refused"), text)
        for words, told in (
            (["smoke", "x"], "kind is 'smoke'"),
            (["icmp"], "settings.host"),
            (["icmp", "192.0.2.1", "count=none"], "settings.count"),
            (["transaction", "@/no/such/file"], "No such file"),
        ):
            status, text = kuppel("probe", *words)
            self.assertEqual(status, 2, text)
            self.assertIn(told, text)


class Collected(unittest.TestCase):
    def test_a_person_sees_what_is_collected_and_no_secret(self) -> None:
        def assigned(kind: str, settings: dict[str, Any]) -> AssignedProbe:
            return AssignedProbe(
                stream=1,
                kind=kind,
                settings=settings,
                interval_us=60_000_000,
                attempts=1,
                attempt_gap_us=0,
                binding=Binding(),
            )

        with tempfile.TemporaryDirectory() as folder:
            self.assertEqual(kuppel("collected", "--state", folder)[0], 2)
            probes = [assigned("host", {"processes": True}), assigned("udp", {"host": "192.0.2.1", "key": "very-secret"})]
            Path(folder, "assignment.json").write_text(Assignment(probes=probes).model_dump_json())
            status, text = kuppel("collected", "--state", folder)
        self.assertEqual(status, 0, text)
        self.assertIn("processor, memory, disks, network cards, Wi-Fi, processes", text)
        self.assertNotIn("very-secret", text)
        self.assertNotIn("connections", text)


class SelfTest(unittest.TestCase):
    def test_a_hub_that_is_not_there_is_told_as_missing(self) -> None:
        status, text = kuppel("self-test", "--hub", "http://127.0.0.1:9")
        self.assertEqual(status, 1, text)
        self.assertIn("missing  hub: http://127.0.0.1:9 does not answer", text)
        self.assertIn("good  Python", text)


class Updates(unittest.IsolatedAsyncioTestCase):
    async def test_only_a_due_update_of_another_version_is_tried_and_not_again_at_once(self) -> None:
        fetched: list[str] = []

        class Hub:
            async def package(self, version: str) -> bytes:
                fetched.append(version)
                return b"no wheel at all"

        with tempfile.TemporaryDirectory() as folder:
            updating = Updating(Hub(), Path(folder))  # type: ignore[arg-type]
            now_us = time.time_ns() // 1000
            from kuppel import __version__

            for update in (
                None,
                Update(version=__version__, due_us=0),
                Update(version="99.0.0", due_us=now_us + 1_000_000),
            ):
                await updating.consider(update, now_us)
            self.assertEqual(fetched, [])
            due = Update(version="99.0.0", due_us=now_us)
            await updating.consider(due, now_us)  # it cannot be installed, and this process goes on
            await updating.consider(due, now_us)
            self.assertEqual(fetched, ["99.0.0"])

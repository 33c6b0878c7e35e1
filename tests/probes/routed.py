"""The routed lab for tests: skipped, with its reason, where the machine does not allow it."""

import asyncio
import contextlib
import subprocess
import sys
import unittest
from collections.abc import Iterator
from typing import Any

from kuppel.core.result import Observation
from kuppel.lab.netns import LabUnavailable, NamespaceNet, built
from kuppel.probes.net import Binding
from kuppel.probes.registry import KINDS


class RoutedLab(unittest.TestCase):
    """A lab for a whole class of tests."""

    DELAY_MS = 0.0
    LOSS = 0.0

    @classmethod
    def setUpClass(cls) -> None:
        context = built(delay_ms=cls.DELAY_MS, loss=cls.LOSS)
        try:
            cls.lab, cls.log = context.__enter__()
        except LabUnavailable as why:
            raise unittest.SkipTest(f"no routed lab on this machine: {why}") from None
        cls.addClassCleanup(context.__exit__, None, None, None)
        cls.net: NamespaceNet = cls.lab.net("client")
        cls.addClassCleanup(cls.net.close)

    @contextlib.contextmanager
    def reflecting(self, name: str) -> Iterator[dict[str, int]]:
        """The far ends of probes, in a namespace; their ports."""
        ports = {"two_way": 862, "speech": 5004, "data": 8471}
        command = [sys.executable, "-m", "kuppel.cli", "reflect", "--speech-port", "5004", "--data-port", "8471"]
        inside = ["nsenter", "-t", str(self.lab.pid(name)), "-n", *command]
        with subprocess.Popen(inside, stdout=subprocess.PIPE) as process:
            assert process.stdout is not None
            process.stdout.readline()  # it says that it answers
            try:
                yield ports
            finally:
                process.terminate()

    def measured(self, kind: str, **settings: Any) -> Observation:
        found = KINDS[kind]
        return asyncio.run(found.attempt(found.parse(settings), self.net, Binding()))

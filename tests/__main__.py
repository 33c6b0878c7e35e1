"""Runs the tests: `python -m tests` for all, `python -m tests core hub` for some folders."""

import doctest
import faulthandler
import importlib
import logging
import pkgutil
import re
import subprocess
import sys
import tempfile
import time
import unittest
import warnings
from pathlib import Path
from typing import ClassVar

import structlog

import kuppel.core
import kuppel.probes
import kuppel.wire

_LONGEST_S = 45 * 60
_SLOWEST = 12
HERE = Path(__file__).parent
FOLDERS = ("core", "wire", "probes", "store", "agent", "hub", "lab", "web")
COMPUTING, STORING = ("core", "wire", "lab"), ("store", "hub")


def suite(folders: list[str]) -> unittest.TestSuite:
    found = unittest.TestSuite()
    for folder in folders:
        found.addTests(unittest.defaultTestLoader.discover(str(HERE / folder), "test_*.py", str(HERE.parent)))
    for package in (kuppel.core, kuppel.wire, kuppel.probes):
        folder = package.__name__.removeprefix("kuppel.")
        if folder in folders:
            for module in pkgutil.iter_modules(package.__path__):
                found.addTests(doctest.DocTestSuite(importlib.import_module(f"{package.__name__}.{module.name}")))
    return found


class Timed(unittest.TextTestResult):
    """Keeps how long each test took, its setting up included."""

    taken: ClassVar[list[tuple[float, str]]] = []

    def startTest(self, test: unittest.TestCase) -> None:  # noqa: N802 (unittest's own name)
        self._begun = time.monotonic()
        super().startTest(test)

    def stopTest(self, test: unittest.TestCase) -> None:  # noqa: N802
        self.taken.append((time.monotonic() - self._begun, test.id()))
        super().stopTest(test)


def run(folders: list[str]) -> tuple[int, int, int]:
    """Run some folders in this process: passed, failed, skipped."""
    # A run that hangs says where, and fails, instead of waiting for ever.
    faulthandler.dump_traceback_later(_LONGEST_S, exit=True)
    structlog.configure(wrapper_class=structlog.make_filtering_bound_logger(logging.CRITICAL))
    logging.getLogger("asyncio").setLevel(logging.ERROR)
    warnings.filterwarnings("ignore", message=".*starlette.testclient.*")
    before = len(Timed.taken)
    result = unittest.TextTestRunner(warnings=None, resultclass=Timed).run(suite(folders))
    for seconds, name in sorted(Timed.taken[before:], reverse=True)[:_SLOWEST]:
        print(f"{seconds:6.1f} s  {name}")
    failed = len(result.failures) + len(result.errors) + len(result.unexpectedSuccesses)
    skipped = len(result.skipped)
    return result.testsRun - failed - skipped, failed, skipped


def told(passed: int, failed: int, skipped: int) -> str:
    return f"{passed} passed, {failed} failed" + (f", {skipped} skipped" if skipped else "")


class Beside:
    """Folders that run in a process of their own meanwhile; what it says is said when it is over."""

    def __init__(self, folders: list[str]) -> None:
        self._said = tempfile.TemporaryFile("w+")  # noqa: SIM115 (read when the process is over)
        command = [sys.executable, "-m", "tests", *folders]
        self._process = subprocess.Popen(command, stdout=self._said, stderr=subprocess.STDOUT, cwd=HERE.parent)

    def wait(self) -> tuple[int, int, int]:
        self._process.wait()
        self._said.seek(0)
        words = self._said.read()
        print(words, flush=True)
        found = re.search(r"^(\d+) passed, (\d+) failed(?:, (\d+) skipped)?$", words, re.MULTILINE)
        # One that broke off before it could count has failed.
        return (0, 1, 0) if found is None else (int(found[1]), int(found[2]), int(found[3] or 0))


def everything() -> tuple[int, int, int]:
    """All folders: those that only compute beside those that only store; what measures time, by itself."""
    beside = Beside(list(COMPUTING))
    counts = [run(list(STORING)), beside.wait(), run([one for one in FOLDERS if one not in COMPUTING + STORING])]
    passed, failed, skipped = (sum(column) for column in zip(*counts, strict=True))
    return passed, failed, skipped


def main() -> int:
    folders = sys.argv[1:]
    unknown = [folder for folder in folders if folder not in FOLDERS]
    if unknown:
        print(f"There is no folder {unknown[0]} of tests; there are {', '.join(FOLDERS)}.")
        return 2
    counts = run(folders) if folders else everything()
    print(told(*counts))
    passed, failed, _ = counts
    return 1 if failed or not passed else 0


sys.exit(main())

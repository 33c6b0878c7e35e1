"""Runs the tests: `python -m tests` for all, `python -m tests core hub` for some folders."""

import doctest
import faulthandler
import importlib
import logging
import pkgutil
import sys
import unittest
import warnings
from pathlib import Path

import structlog

import kuppel.core
import kuppel.probes
import kuppel.wire

_LONGEST_S = 45 * 60
HERE = Path(__file__).parent
FOLDERS = ("core", "wire", "probes", "store", "agent", "hub", "lab", "web")


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


def main() -> int:
    folders = sys.argv[1:] or list(FOLDERS)
    unknown = [folder for folder in folders if folder not in FOLDERS]
    if unknown:
        print(f"There is no folder {unknown[0]} of tests; there are {', '.join(FOLDERS)}.")
        return 2
    # A run that hangs says where, and fails, instead of waiting for ever.
    faulthandler.dump_traceback_later(_LONGEST_S, exit=True)
    structlog.configure(wrapper_class=structlog.make_filtering_bound_logger(logging.CRITICAL))
    logging.getLogger("asyncio").setLevel(logging.ERROR)
    warnings.filterwarnings("ignore", message=".*starlette.testclient.*")
    result = unittest.TextTestRunner(warnings=None).run(suite(folders))
    failed = len(result.failures) + len(result.errors) + len(result.unexpectedSuccesses)
    skipped = len(result.skipped)
    passed = result.testsRun - failed - skipped
    print(f"{passed} passed, {failed} failed" + (f", {skipped} skipped" if skipped else ""))
    return 1 if failed or not passed else 0


sys.exit(main())

"""The real thing for browser tests: the demo as `./run demo` starts it, and Debian's Chromium looking at it."""

import atexit
import functools
import os
import socket
import subprocess
import sys
import tempfile
import time
import unittest
from pathlib import Path
from typing import Any
from urllib.parse import urlsplit

import httpx
from playwright.sync_api import Browser, Page, Playwright, sync_playwright

from kuppel.lab.skerry.estate import PEOPLE as DEMO_PEOPLE

ROOT = Path(__file__).parents[2]
WEB = ROOT / "web" / "dist"
AXE = ROOT / "web" / "node_modules" / "axe-core" / "axe.min.js"
_CHROMIUM = "/usr/bin/chromium"
_ARGUMENTS = [
    "--no-sandbox",
    "--disable-gpu",
    "--disable-quic",
    "--no-first-run",
    "--disable-background-networking",
    "--disable-component-update",
    "--disable-sync",
]
# Who signs in for whom: the demo's people, by their roles.
PEOPLE = {one.role.value: {"name": one.name, "password": one.password} for one in DEMO_PEOPLE}
# Enough for a week to look back on; the demo itself has more.
_DAYS = 9
_READY_WITHIN_S = 240
_PATIENCE_MS = 20_000


class Demo:
    """The demo in a process of its own, on a free block of ports, with a folder of its own."""

    def __init__(self, days: int) -> None:
        self._folder = tempfile.TemporaryDirectory()
        self.port = free_ports(32)
        self.url = f"http://127.0.0.1:{self.port}"
        command = [sys.executable, "-m", "kuppel.cli", "demo", "--folder", self._folder.name, "--web", str(WEB)]
        command += ["--days", str(days)]
        self._process = subprocess.Popen([*command, "--port", str(self.port)], stdout=subprocess.DEVNULL, cwd=ROOT)
        deadline = time.monotonic() + _READY_WITHIN_S
        while not _answers(f"{self.url}/api/ready"):
            if self._process.poll() is not None or time.monotonic() > deadline:
                raise TimeoutError("the demo did not become ready; its words are above")
            time.sleep(0.2)

        self.api = httpx.Client(base_url=f"{self.url}/api/", trust_env=False, timeout=30)
        self.api.headers["Sec-Fetch-Site"] = "same-origin"
        self.api.post("session", json=PEOPLE["admin"]).raise_for_status()

    def ask(self, path: str) -> Any:
        return self.api.get(path).raise_for_status().json()

    def stream(self, probe: str, point: str) -> int:
        """The number of the stream of that probe from that vantage point."""
        found: int = next(
            one["stream"] for one in self.ask("streams") if one["probe"] == probe and one["vantage_point"] == point
        )
        return found

    def stop(self) -> int:
        self._process.terminate()
        status = self._process.wait(40)
        self._folder.cleanup()
        return status


@functools.cache
def playwright() -> Playwright:
    return sync_playwright().start()


@functools.cache
def browser() -> Browser:
    return playwright().chromium.launch(executable_path=_CHROMIUM, args=_ARGUMENTS)


_demos: list[Demo] = []


def demo(days: int = _DAYS) -> Demo:
    """One demo for all browser tests: its history takes a while to make. The first who asks says how much there is."""
    if not _demos:
        _demos.append(Demo(days))
    return _demos[0]


@atexit.register
def stop() -> None:
    """Stop what was started."""
    while _demos:
        _demos.pop().stop()
    if browser.cache_info().currsize:
        browser().close()
        browser.cache_clear()
    if playwright.cache_info().currsize:
        playwright().stop()
        playwright.cache_clear()


def new_page(width: int = 1280, height: int = 800, theme: str = "light", *, is_bare: bool = False) -> Page:
    """A page of a browser that nobody used before, in a fixed zone; `is_bare` lets a test put a script of its own in."""
    context = browser().new_context(
        bypass_csp=is_bare,
        viewport={"width": width, "height": height},
        color_scheme=theme,  # type: ignore[arg-type]
        timezone_id="Europe/Oslo",
        locale="en-GB",
    )
    page = context.new_page()
    page.set_default_timeout(_PATIENCE_MS)
    return page


def sign_in(page: Page, url: str, name: str, password: str) -> None:
    """Sign in without the form: the cookie is the browser's all the same."""
    answer = page.context.request.post(f"{url}/api/session", data={"name": name, "password": password})
    assert answer.ok, answer.text()


class BrowserCase(unittest.TestCase):
    """A page on the demo. Whatever it does, it may not complain on its console nor ask anybody but its hub."""

    role: str | None = "reader"

    def setUp(self) -> None:
        self.page = new_page()
        if self.role is not None:
            sign_in(self.page, demo().url, **PEOPLE[self.role])
        self._is_refused = False
        self.complaints: list[str] = []
        self.strangers: list[str] = []
        self.page.on("console", lambda told: self.complaints.append(told.text) if told.type == "error" else None)
        self.page.on("pageerror", lambda error: self.complaints.append(str(error)))
        self.page.on("request", self._note_request)
        self.addCleanup(self.page.context.close)

    def tearDown(self) -> None:
        refused = "the server responded with a status of 422"
        self.assertEqual([one for one in self.complaints if not (self._is_refused and refused in one)], [])
        self.assertEqual(self.strangers, [])

    def allow_problem(self) -> None:
        """What the browser says of an answer that refuses is no complaint of the page's own."""
        self._is_refused = True

    def _note_request(self, request: Any) -> None:
        if urlsplit(request.url).hostname not in ("127.0.0.1", None):
            self.strangers.append(request.url)

    def open(self, path: str) -> None:
        self.page.goto(demo().url + path)
        self.page.locator("h1").first.wait_for()

    def query(self) -> str:
        return urlsplit(self.page.url).query

    def path(self) -> str:
        return urlsplit(self.page.url).path


def free_ports(count: int) -> int:
    """The first of `count` neighbouring ports that are free on every loopback address that the demo uses."""
    for first in range(20_000 + os.getpid() % 7_000, 60_000, count):
        taken = []
        try:
            for port in range(first, first + count):
                sock = socket.socket()
                taken.append(sock)
                sock.bind(("0.0.0.0", port))
        except OSError:
            continue
        finally:
            for sock in taken:
                sock.close()
        return first
    raise OSError("no free ports")


def _answers(url: str) -> bool:
    try:
        return httpx.get(url, trust_env=False).is_success
    except httpx.HTTPError:
        return False

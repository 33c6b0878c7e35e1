"""The real thing for browser tests: the demo as `./run demo` starts it, and Debian's Chromium looking at it."""

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
_READY_WITHIN_S = 120
_PATIENCE_MS = 20_000


class Demo:
    """The demo in a process of its own, on a free block of ports, with a folder of its own."""

    def __init__(self) -> None:
        self._folder = tempfile.TemporaryDirectory()
        self.port = free_ports(4)
        self.url = f"http://127.0.0.1:{self.port}"
        command = [sys.executable, "-m", "kuppel.cli", "demo", "--folder", self._folder.name, "--web", str(WEB)]
        self._process = subprocess.Popen([*command, "--port", str(self.port)], stdout=subprocess.DEVNULL, cwd=ROOT)
        deadline = time.monotonic() + _READY_WITHIN_S
        while not _answers(f"{self.url}/api/ready"):
            if self._process.poll() is not None or time.monotonic() > deadline:
                raise TimeoutError("the demo did not become ready; its words are above")
            time.sleep(0.2)

    def ask(self, path: str) -> Any:
        return httpx.get(f"{self.url}/api/{path}", trust_env=False, timeout=30).raise_for_status().json()

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


@functools.cache
def demo() -> Demo:
    """One demo for all browser tests: its history takes a while to make."""
    return Demo()


def stop() -> None:
    """Stop what was started; a module of browser tests calls it when it is done."""
    if demo.cache_info().currsize:
        demo().stop()
        demo.cache_clear()
    if browser.cache_info().currsize:
        browser().close()
        browser.cache_clear()
    if playwright.cache_info().currsize:
        playwright().stop()
        playwright.cache_clear()


def new_page(width: int = 1280, height: int = 800, theme: str = "light") -> Page:
    """A page of a browser that nobody used before, in a fixed zone."""
    context = browser().new_context(
        viewport={"width": width, "height": height},
        color_scheme=theme,  # type: ignore[arg-type]
        timezone_id="Europe/Oslo",
        locale="en-GB",
    )
    page = context.new_page()
    page.set_default_timeout(_PATIENCE_MS)
    return page


class BrowserCase(unittest.TestCase):
    """A page on the demo. Whatever it does, it may not complain on its console nor ask anybody but its hub."""

    width = 1280
    height = 800
    theme = "light"

    def setUp(self) -> None:
        self.page = new_page(self.width, self.height, self.theme)
        self.complaints: list[str] = []
        self.strangers: list[str] = []
        self.page.on("console", lambda told: self.complaints.append(told.text) if told.type == "error" else None)
        self.page.on("pageerror", lambda error: self.complaints.append(str(error)))
        self.page.on("request", self._note_request)
        self.addCleanup(self.page.context.close)

    def tearDown(self) -> None:
        self.assertEqual(self.complaints, [])
        self.assertEqual(self.strangers, [])

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

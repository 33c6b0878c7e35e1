"""One page load in a headless Chromium of its own, and what the browser says of it.

Playwright and Chromium are looked for only when a page is to be loaded: an agent without them runs every other kind.
"""

import base64
import contextlib
import importlib.util
import io
import json
import re
import secrets
import shutil
import tempfile
import threading
import time
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import psutil

from kuppel.core.reason import Reason
from kuppel.core.vitals import Frame, Shift, Stretch
from kuppel.probes.net import NetError, PageLoad, PageLoaded

_EXECUTABLES = ("chromium", "chromium-browser", "chrome")
_FLAGS = (
    "--disable-gpu", "--disable-quic", "--no-first-run", "--disable-background-networking",
    "--disable-component-update", "--disable-sync", "--mute-audio",
)  # fmt: skip
# Browsers at once on a machine: more would measure each other.
_ONE_AT_A_TIME = threading.BoundedSemaphore(1)
_BINS = 16
# Beginning, ending and reading a load take so long at most.
_GRACE_S = 8.0
_MOST_ENTRIES, _MOST_FRAMES = 200, 400
# After the load, as long as nothing was painted yet.
_LATEST_PAINT_S = 3.0

_OBSERVE = """
window.__seen = {paint: {}, lcp: null, shifts: [], tasks: []};
const note = (type, act) => {
  try { new PerformanceObserver((list) => list.getEntries().forEach(act)).observe({type, buffered: true}) } catch (_) {}
};
note('paint', (one) => { window.__seen.paint[one.name] = one.startTime });
note('largest-contentful-paint', (one) => { window.__seen.lcp = one.renderTime || one.loadTime || one.startTime });
note('layout-shift', (one) => window.__seen.shifts.push([one.startTime, one.value, one.hadRecentInput]));
note('longtask', (one) => window.__seen.tasks.push([one.startTime, one.startTime + one.duration]));
"""
_READ = """() => ({
  ...window.__seen,
  navigation: performance.getEntriesByType('navigation')[0]?.toJSON() ?? null,
  origin: performance.timeOrigin,
})"""

_REFUSALS = (
    ("ERR_NAME_NOT_RESOLVED", Reason.NAME_NOT_FOUND),
    ("ERR_CONNECTION_REFUSED", Reason.CONNECTION_REFUSED),
    ("ERR_CONNECTION_RESET", Reason.CONNECTION_RESET),
    ("ERR_EMPTY_RESPONSE", Reason.CONNECTION_RESET),
    ("ERR_CONNECTION_TIMED_OUT", Reason.CONNECT_TIMEOUT),
    ("ERR_ADDRESS_UNREACHABLE", Reason.NO_ROUTE),
    ("ERR_INTERNET_DISCONNECTED", Reason.NO_ROUTE),
    ("ERR_CERT_", Reason.CERTIFICATE_INVALID),
    ("ERR_SSL_", Reason.TLS_FAILED),
    ("ERR_PROXY", Reason.PROXY_FAILED),
    ("ERR_TUNNEL", Reason.PROXY_FAILED),
    ("ERR_TOO_MANY_REDIRECTS", Reason.TOO_MANY_REDIRECTS),
)


def _executable() -> str | None:
    return next((found for name in _EXECUTABLES if (found := shutil.which(name))), None)


def browser_missing() -> str:
    """What this machine lacks for page loads, in words; empty when they can be measured."""
    if _executable() is None:
        return f"none of {', '.join(_EXECUTABLES)} is on the path"
    if any(importlib.util.find_spec(name) is None for name in ("playwright", "PIL")):
        return "the agent was installed without its part for pages: kuppel[page]"
    return ""


def load(page: PageLoad) -> PageLoaded:
    """Load the page once, with nothing kept from before; blocks for at most its timeout, and a second to begin and end.

    Raises
    ------
    NetError
        with reason `no_browser` when this machine has none.
    """
    if missing := browser_missing():
        raise NetError(Reason.NO_BROWSER, missing)
    from playwright.sync_api import Error, sync_playwright

    if not _ONE_AT_A_TIME.acquire(timeout=page.timeout_us / 1e6):
        raise NetError(Reason.AGENT_ERROR, "other page loads took all the time of this agent's browser")
    try:
        mark = f"--kuppel-load={secrets.token_hex(8)}"
        with tempfile.TemporaryDirectory() as folder, sync_playwright() as driver, _killed_when_late(page, mark):
            browser = driver.chromium.launch(executable_path=_executable(), args=[mark, *_FLAGS, *_arguments(page)])
            try:
                return _Loading(page, browser, Path(folder) / "load.har").run()
            finally:
                browser.close()
    except Error as error:
        raise NetError(Reason.AGENT_ERROR, f"the browser failed: {_first_line(error)}") from None
    finally:
        _ONE_AT_A_TIME.release()


@contextlib.contextmanager
def _killed_when_late(page: PageLoad, mark: str) -> Iterator[None]:
    """A page's script may keep its browser busy for ever; then the browser is ended from outside."""

    def kill() -> None:
        for process in psutil.process_iter(["cmdline"]):
            if mark in (process.info["cmdline"] or ()):
                with contextlib.suppress(psutil.Error):
                    process.kill()

    timer = threading.Timer(page.timeout_us / 1e6 + _GRACE_S, kill)
    timer.daemon = True
    timer.start()
    try:
        yield
    finally:
        timer.cancel()


def _arguments(page: PageLoad) -> list[str]:
    found = [f"--host-resolver-rules={', '.join(f'MAP {name} {_bracketed(to)}' for name, to in page.addresses)}"]
    # A sandbox needs user namespaces, which a root account of a container does not have.
    return ["--no-sandbox", *(found if page.addresses else [])]


def _bracketed(address: str) -> str:
    return f"[{address}]" if ":" in address else address


def _first_line(error: BaseException) -> str:
    return str(error).strip().split("\n")[0][:300]


class _Loading:
    def __init__(self, page: PageLoad, browser: Any, har: Path) -> None:
        self._wanted = page
        self._har = har
        self._context = browser.new_context(
            viewport={"width": page.width, "height": page.height},
            ignore_https_errors=not page.is_verified,
            proxy={"server": page.proxy} if page.proxy else None,
            record_har_path=str(har),
            record_har_content="omit",
            locale="en-GB",
        )
        self._context.add_init_script(_OBSERVE)
        self._page = self._context.new_page()
        self._frames: list[tuple[float, str]] = []
        self._console: list[str] = []
        self._failed: list[str] = []
        self._open = 0
        self._quiet_since = time.monotonic()

    def run(self) -> PageLoaded:
        page = self._page
        page.on("console", self._said)
        page.on("pageerror", lambda one: self._console.append(str(one)[:300]))
        page.on("request", lambda _: self._counted(1))
        page.on("requestfinished", lambda _: self._counted(-1))
        page.on("requestfailed", self._request_failed)
        session = self._context.new_cdp_session(page)
        session.on("Page.screencastFrame", lambda event: self._frame(session, event))
        session.send("Page.startScreencast", {"format": "jpeg", "quality": 30, "maxWidth": 320, "everyNthFrame": 1})
        reason, note, status, text = self._go()
        seen: dict[str, Any] = {}
        screenshot = ""
        if reason is None:
            with contextlib.suppress(Exception):
                seen = page.evaluate(_READ)
        if reason is not None or (self._wanted.expect_text and self._wanted.expect_text not in text):
            screenshot = self._screenshot()
        with contextlib.suppress(Exception):
            session.send("Page.stopScreencast")
        self._context.close()  # writes the HAR
        return self._loaded(reason, note, status, text, seen, screenshot)

    def _go(self) -> tuple[Reason | None, str, int, str]:
        from playwright.sync_api import Error
        from playwright.sync_api import TimeoutError as Late

        page = self._page
        deadline = time.monotonic() + self._wanted.timeout_us / 1e6
        try:
            answer = page.goto(self._wanted.url, timeout=self._wanted.timeout_us / 1e3, wait_until="load")
        except Late:
            return Reason.TIMEOUT, f"the page was not loaded within {self._wanted.timeout_us / 1e6:.3g} s", 0, ""
        except Error as error:
            words = _first_line(error)
            found = next((reason for mark, reason in _REFUSALS if mark in words), Reason.PROTOCOL_ERROR)
            code = re.search(r"net::(ERR_\w+)", words)
            return found, code[1] if code else words, 0, ""
        self._settle(deadline)
        text = ""
        with contextlib.suppress(Error):
            text = page.evaluate("() => document.documentElement.innerText.slice(0, 200000)") or ""
        return None, "", answer.status if answer is not None else 0, text

    def _settle(self, deadline: float) -> None:
        """Until at most two requests are under way for the quiet time and something was painted, or there is no time left.
        A machine that is busy paints late; a page may have nothing to paint."""
        quiet_s = self._wanted.quiet_us / 1e6
        paints_until = min(deadline, time.monotonic() + _LATEST_PAINT_S)
        while (now := time.monotonic()) < deadline:
            if self._open <= 2 and now - self._quiet_since >= quiet_s and (now > paints_until or self._is_painted()):
                return
            self._page.wait_for_timeout(50)

    def _is_painted(self) -> bool:
        """Whether the browser has told of content and of the largest of it."""
        with contextlib.suppress(Exception):
            return bool(self._page.evaluate("() => window.__seen.lcp !== null"))
        return False

    def _said(self, message: Any) -> None:
        if message.type == "error":
            self._console.append(message.text[:300])

    def _counted(self, change: int) -> None:
        was_quiet = self._open <= 2
        self._open = max(0, self._open + change)
        if not was_quiet and self._open <= 2:
            self._quiet_since = time.monotonic()

    def _request_failed(self, request: Any) -> None:
        self._counted(-1)
        self._failed.append(f"{request.url[:200]}: {request.failure or 'failed'}")

    def _frame(self, session: Any, event: dict[str, Any]) -> None:
        if len(self._frames) < _MOST_FRAMES:
            self._frames.append((float(event["metadata"]["timestamp"]), event["data"]))
        with contextlib.suppress(Exception):
            session.send("Page.screencastFrameAck", {"sessionId": event["sessionId"]})

    def _screenshot(self) -> str:
        with contextlib.suppress(Exception):
            shot = self._page.screenshot(type="jpeg", quality=35, scale="css", timeout=3000)
            return base64.b64encode(_smaller(shot)).decode()
        return ""

    def _loaded(
        self, reason: Reason | None, note: str, status: int, text: str, seen: dict[str, Any], screenshot: str
    ) -> PageLoaded:
        archive = _archive(self._har)
        origin_s = float(seen.get("origin") or 0) / 1e3
        entries = archive.get("log", {}).get("entries", [])
        failed = [
            f"{one['request']['url'][:200]}: status {one['response']['status']}"
            for one in entries
            if int(one["response"]["status"]) >= 400
        ]
        return PageLoaded(
            reason,
            note,
            status,
            text,
            {
                name: float(value)
                for name, value in (seen.get("navigation") or {}).items()
                if isinstance(value, int | float)
            },
            (seen.get("paint") or {}).get("first-paint"),
            (seen.get("paint") or {}).get("first-contentful-paint"),
            seen.get("lcp"),
            tuple(Shift(float(at), float(score), bool(had)) for at, score, had in seen.get("shifts", [])),
            tuple(Stretch(float(start), float(end)) for start, end in seen.get("tasks", [])),
            tuple(_histograms(self._frames, origin_s)),
            tuple(dict.fromkeys((*self._failed, *failed))),
            tuple(self._console),
            archive,
            screenshot,
        )


def _smaller(jpeg: bytes) -> bytes:
    from PIL import Image

    with Image.open(io.BytesIO(jpeg)) as image:
        image.thumbnail((800, 600))
        out = io.BytesIO()
        image.convert("RGB").save(out, "JPEG", quality=40)
        return out.getvalue()


def _histograms(frames: list[tuple[float, str]], origin_s: float) -> list[Frame]:
    """Each frame's counts of red, green and blue in a few bins each."""
    try:
        from PIL import Image
    except ImportError:
        return []
    found = []
    for taken_s, data in frames:
        with Image.open(io.BytesIO(base64.b64decode(data))) as image:
            counts = image.convert("RGB").resize((160, 100)).histogram()
        width = 256 // _BINS
        binned = tuple(sum(counts[at : at + width]) for at in range(0, len(counts), width))
        found.append(Frame(max(0.0, (taken_s - origin_s) * 1e3), binned))
    return found


def _archive(path: Path) -> dict[str, Any]:
    """The HAR (1.2) of the load, without what identifies anybody: no cookies, no header but the type, no bodies."""
    try:
        archive = json.loads(path.read_text())
        log = archive["log"]
    except (OSError, ValueError, KeyError):
        return {}
    log["entries"] = log["entries"][:_MOST_ENTRIES]
    for entry in log["entries"]:
        for name in list(entry):
            if name.startswith("_"):
                del entry[name]
        for side in (entry["request"], entry["response"]):
            side["cookies"] = []
            side["headers"] = [one for one in side["headers"] if one["name"].lower() == "content-type"]
            for name in list(side):
                if name.startswith("_"):
                    del side[name]
        entry["request"].pop("postData", None)
        entry["response"]["content"].pop("text", None)
    for page in log.get("pages", []):
        for name in list(page):
            if name.startswith("_"):
                del page[name]
    for name in list(log):
        if name.startswith("_"):
            del log[name]
    return {"log": log}

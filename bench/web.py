"""From a click to the last paint of the screens that people look at most, on the demo with 45 days: `./run bench web`.

A screen is at rest when no question is open and nothing in its main part changed for 150 ms; what counts is the frame after
the last change. Cold: a browser that has nothing of Kuppel, from entering the address. Warm: a click on a link of a page
that runs. Server time is what the browser waited for the first octet of the slowest question.
"""

import gzip
import json
import os
import time
from typing import Any

from playwright.sync_api import Page

from bench.machine import Steal
from kuppel.core.percentile import percentile
from tests.web import large as large_matrix
from tests.web import stage
from tests.web.stage import demo, new_page

COLD, WARM = 5, 12
LIVE_S = 40

_WATCH = """(() => {
  const bench = (window.bench = { begun: 0, last: 0, open: 0 })
  const asked = window.fetch
  window.fetch = (...told) => {
    bench.open += 1
    return asked(...told).finally(() => setTimeout(() => (bench.open -= 1), 0))
  }
  const paint = () => requestAnimationFrame(() => setTimeout(() => (bench.last = performance.now()), 0))
  const begin = () => { bench.begun = bench.last = performance.now(); performance.clearResourceTimings() }
  addEventListener('click', begin, true)
  const look = () => new MutationObserver((all) => {
    if (all.some((one) => (one.target.nodeType === 1 ? one.target : one.target.parentElement)?.closest('main'))) paint()
  }).observe(document.documentElement, { childList: true, subtree: true, characterData: true, attributes: true })
  document.documentElement ? look() : addEventListener('DOMContentLoaded', look)
})()"""
_AT_REST = "() => bench.last > bench.begun && bench.open === 0 && performance.now() - bench.last > 150"
_TOLD = """() => {
  const all = performance.getEntriesByType('resource').filter((one) => one.startTime >= bench.begun)
  const api = all.filter((one) => one.name.includes('/api/') && !one.name.endsWith('/api/live'))
  return {
    ms: bench.last - bench.begun,
    server: Math.max(0, ...api.map((one) => one.responseStart - one.requestStart)),
    bytes: all.reduce((sum, one) => sum + one.transferSize, 0),
    requests: all.length,
  }
}"""


def settled(page: Page) -> dict[str, float]:
    page.wait_for_function(_AT_REST, timeout=30_000)
    told: dict[str, float] = page.evaluate(_TOLD)
    return told


def fresh() -> Page:
    page = new_page()
    page.add_init_script(_WATCH)
    stage.sign_in(page, demo().url, **stage.PEOPLE["admin"])
    return page


def cold(path: str) -> dict[str, float]:
    page = fresh()
    page.goto(demo().url + path, wait_until="commit")
    found = settled(page)
    page.context.close()
    return found


def warm(page: Page, path: str) -> dict[str, float]:
    """From the access page, which asks for little, by a link as the application's own are."""
    page.goto(demo().url + "/store")
    settled(page)
    time.sleep(0.3)
    page.evaluate(
        """(path) => {
          const link = document.querySelector('nav a[href="/matrix"]') ?? document.querySelector('nav a')
          const router = document.querySelector('#app').__vue_app__.config.globalProperties.$router
          link.addEventListener('click', (event) => { event.preventDefault(); event.stopImmediatePropagation()
            void router.push(path) }, { capture: true, once: true })
        }""",
        path,
    )
    page.locator('nav a[href="/matrix"]').click()
    return settled(page)


def script_octets() -> int:
    """Octets of script, compressed by gzip, that the first screen loads."""
    page = fresh()
    seen: list[bytes] = []
    page.on(
        "response",
        lambda answer: seen.append(answer.body()) if answer.request.resource_type == "script" else None,
    )
    page.goto(demo().url + "/now")
    page.wait_for_function(_AT_REST)
    page.context.close()
    return sum(len(gzip.compress(one, 9)) for one in seen)


def large() -> tuple[float, float]:
    """A matrix of 200 × 60 cells: from its answer until it is drawn, and a step from cell to cell, in ms."""
    page = fresh()
    large_matrix.serve(page)
    page.goto(demo().url + "/store")
    settled(page)
    time.sleep(0.3)
    page.locator('nav a[href="/matrix"]').click()
    settled(page)
    # Its 5 MB come from this process and not from a hub: how long they take says nothing.
    drawn = page.evaluate(
        """() => bench.last - Math.max(...performance.getEntriesByType('resource')
          .filter((one) => one.name.includes('/api/matrix')).map((one) => one.responseEnd))"""
    )
    page.locator("[data-cell='0-0']").focus()
    taken = page.evaluate(
        """async () => {
          const frame = () => new Promise((done) => requestAnimationFrame(done))
          const begun = performance.now()
          for (let step = 0; step < 40; step++) {
            document.activeElement.dispatchEvent(new KeyboardEvent('keydown', {
              key: step % 2 ? 'ArrowRight' : 'ArrowDown', bubbles: true }))
            await frame()
          }
          return (performance.now() - begun) / 40
        }"""
    )
    page.context.close()
    return float(drawn), float(taken)


def live_share() -> float:
    """The share of one processor that the page of Now takes while results arrive."""
    page = fresh()
    page.goto(demo().url + "/now")
    page.wait_for_function(_AT_REST)
    time.sleep(3)
    session = page.context.new_cdp_session(page)
    session.send("Performance.enable")

    def busy() -> float:
        metrics: list[dict[str, Any]] = session.send("Performance.getMetrics")["metrics"]
        return next(float(one["value"]) for one in metrics if one["name"] == "TaskDuration")

    before, begun = busy(), time.monotonic()
    time.sleep(LIVE_S)
    share = (busy() - before) / (time.monotonic() - begun)
    page.context.close()
    return share


def main() -> None:
    demo(days=int(os.environ.get("BENCH_DAYS", "45")))
    time.sleep(30)  # what is usual is found, every probe has run
    front = demo().stream("booking front page", "Lundhavn")
    screens = {
        "Now": "/now",
        "Matrix": "/matrix",
        "stream, 24 h": f"/streams/{front}?span=8d",
        "stream, 45 d": f"/streams/{front}?span=13mo&window={45 * 86_400}",
    }
    print(f"{'screen':<14}{'':>6}{'median':>9}{'p95':>9}{'server':>9}{'octets':>10}{'requests':>10}")
    every: dict[str, list[float]] = {"cold": [], "warm": []}
    with Steal() as steal:
        page = fresh()
        for name, path in screens.items():
            cold(path)  # the readers' first question of a kind loads code
            for how in ("cold", "warm"):
                told = [cold(path) if how == "cold" else warm(page, path) for _ in range(COLD if how == "cold" else WARM)]
                times = [one["ms"] for one in told]
                every[how] += times
                print(
                    f"{name:<14}{how:>6}{percentile(times, 0.5):>6.0f} ms{percentile(times, 0.95):>6.0f} ms"
                    f"{percentile([one['server'] for one in told], 0.5):>6.0f} ms"
                    f"{percentile([one['bytes'] for one in told], 0.5):>10,.0f}"
                    f"{percentile([float(one['requests']) for one in told], 0.5):>10.0f}"
                )
        page.context.close()
        drawn, step = large()
        print(f"Matrix of 200 × 60 cells: drawn after {drawn:.0f} ms, a step from cell to cell {step:.0f} ms")
        script = script_octets()
        share = live_share()
    stage.stop()
    print(
        f"script of the first load: {script / 1000:.0f} kB gzip; live updates of Now: {share:.1%} of a core; {steal.told()}"
    )
    print(
        json.dumps(
            {
                "warm_p95_ms": round(percentile(every["warm"], 0.95)),
                "cold_p95_ms": round(percentile(every["cold"], 0.95)),
                "script_kb": round(script / 1000, 1),
                "live_cpu": round(share, 4),
            }
        )
    )


if __name__ == "__main__":
    main()

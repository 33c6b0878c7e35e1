"""From the end of a measurement to the screen: a hub, an agent, a browser, one probe a second.

Each new run's first appearance in the list of latest runs is noted by the page itself, on the same machine's clock.
"""

import json
import subprocess
import sys
import tempfile
import time
from datetime import datetime
from pathlib import Path

from bench.machine import Steal
from kuppel.core.percentile import percentile
from tests.hub.running import PASSWORD, TOKEN, HubProcess
from tests.web import stage

WATCH_S = 60

_WATCH = """() => {
  window.seen = {}
  const look = () => document.querySelectorAll('[data-run]').forEach((row) => {
    const time = row.querySelector('[title]').textContent.trim()
    window.seen[time] ??= Date.now()
  })
  look(); window.seen = Object.fromEntries(Object.keys(window.seen).map((time) => [time, 0]))
  new MutationObserver(look).observe(document.body, { childList: true, subtree: true, characterData: true })
}"""


def main() -> None:
    with tempfile.TemporaryDirectory() as folder:
        hub = HubProcess(Path(folder) / "hub")
        hub.start(stage.WEB)
        agent = subprocess.Popen(
            [
                sys.executable,
                "-m",
                "kuppel.cli",
                "agent",
                "--hub",
                hub.url,
                "--name",
                "Brannick",
                "--state",
                f"{folder}/agent",
            ],
            env={"KUPPEL_AGENT_TOKEN": TOKEN, "PATH": "/usr/bin:/bin"},
            stderr=subprocess.DEVNULL,
        )
        try:
            lags = _watched(hub)
        finally:
            agent.terminate()
            agent.wait(10)
            hub.stop()
            stage.stop()
    if not lags:
        raise SystemExit("No new run was seen.")
    within = sum(lag <= 2000 for lag in lags) / len(lags)
    print(f"{'runs':>5} {'p50, ms':>8} {'p95, ms':>8} {'max, ms':>8} {'within 2 s':>11}")
    print(f"{len(lags):>5} {percentile(lags, 0.5):>8.0f} {percentile(lags, 0.95):>8.0f} {max(lags):>8.0f} {within:>11.1%}")
    figures = {
        "runs": len(lags),
        "p50_ms": percentile(lags, 0.5),
        "p95_ms": percentile(lags, 0.95),
        "within_2s_ratio": within,
    }
    print(json.dumps({name: round(value, 3) for name, value in figures.items()}))


def _watched(hub: HubProcess) -> list[float]:
    """Milliseconds from the end of each run to the screen."""
    ask = hub.api
    while not (points := ask.get("vantage-points").json()):
        time.sleep(0.2)
    target = ask.post("targets", json={"name": "this hub"}).json()["id"]
    probe = {
        "name": "connect", "kind": "tcp", "target": target, "settings": {"host": "127.0.0.1", "port": hub.port},
        "interval_s": 1, "vantage_points": [points[0]["id"]],
    }  # fmt: skip
    ask.post("probes", json=probe).raise_for_status()
    stream = ask.get("streams").json()[0]["stream"]
    page = stage.new_page()
    stage.sign_in(page, hub.url, "reader", PASSWORD)
    page.goto(f"{hub.url}/streams/{stream}")
    page.locator("[data-run]").first.wait_for(timeout=30_000)
    page.evaluate(_WATCH)
    with Steal() as steal:
        time.sleep(WATCH_S)
    print(steal.told())
    seen: dict[str, int] = page.evaluate("window.seen")
    runs = ask.get(f"streams/{stream}/runs", params={"limit": 200}).json()["runs"]
    lags = []
    for run in runs:
        started = datetime.fromisoformat(run["time"])
        shown = page.evaluate(
            "time => new Date(time).toLocaleTimeString('en-GB')",
            started.timestamp() * 1000,
        )
        if seen.get(shown):
            ended_ms = started.timestamp() * 1000 + run["attempts"][-1]["duration_ms"]
            lags.append(seen[shown] - ended_ms)
    return lags


if __name__ == "__main__":
    main()

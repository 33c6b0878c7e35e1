"""Probes against the truth: the system's `ping`, a wire of known delay and loss, an agent's pace on one core, its memory,
and parallel ways.

    ./run bench probes [ping wire pace memory paths]

Figures in microseconds are differences of medians within one run; both sides share the machine and its noise.
"""

import asyncio
import contextlib
import json
import os
import re
import statistics
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable
from pathlib import Path
from typing import Any

import psutil

from bench.machine import Steal
from kuppel.agent.machine import LagMeter
from kuppel.agent.schedule import Schedule
from kuppel.core.result import Result
from kuppel.lab.names import NameService
from kuppel.lab.netns import SERVER, LabUnavailable, built, wire_log
from kuppel.lab.services import TcpService
from kuppel.probes.kernel import KernelNet
from kuppel.probes.net import Binding
from kuppel.probes.registry import KINDS
from kuppel.probes.repetition import run_probe
from kuppel.wire.delivery import AssignedProbe, Assignment
from kuppel.wire.delivery import Binding as WireBinding

HOST = "127.0.0.1"
_TURNS, _PACKETS = 10, 50
_PACE_S = 10
_PATH_RUNS = 100


def measured(net: KernelNet, kind: str, **settings: Any) -> Result:
    found = KINDS[kind]
    parsed = found.parse(settings)
    return asyncio.run(run_probe(found, parsed, net, binding=Binding(), attempts=1, attempt_gap_us=0))


def _pings(inside: list[str], host: str, gap_ms: int) -> list[float]:
    command = [*inside, "ping", "-n", "-c", str(_PACKETS), "-i", str(gap_ms / 1000), "-s", "56", host]
    told = subprocess.run(command, capture_output=True, text=True, check=True).stdout
    return [float(found) * 1000 for found in re.findall(r"time=([\d.]+) ms", told)]


def ping() -> dict[str, float]:
    """Median round trip against `ping`, idle, and while the agent makes 200 other runs a second."""
    net = KernelNet()
    measured(net, "icmp", host=HOST, count=5, interval_ms=5)
    found = {"ping_difference_us": _against_ping(net)}
    with _busy(200):
        found["ping_difference_busy_us"] = _against_ping(net)
    net.close()
    for name, difference in found.items():
        print(f"  {name:<28} {difference:>8.1f} µs")
    return found


def _against_ping(net: KernelNet) -> float:
    theirs: list[float] = []
    own: list[float] = []
    for _ in range(_TURNS):
        theirs += _pings([], HOST, 10)
        result = measured(net, "icmp", host=HOST, count=_PACKETS, interval_ms=10, size=56)
        own += [trip for trip in result.detail["round_trips_us"] if trip is not None]
    return abs(statistics.median(own) - statistics.median(theirs))


@contextlib.contextmanager
def _busy(runs_a_second: int) -> Any:
    """An agent's schedule in another process that makes so many TCP runs a second."""
    code = f"from bench.probes import keep_busy; keep_busy({runs_a_second})"
    process = subprocess.Popen([sys.executable, "-c", code])
    time.sleep(2)
    try:
        yield
    finally:
        process.kill()
        process.wait()


def keep_busy(runs_a_second: int) -> None:
    asyncio.run(_paced(runs_a_second, 3600, ("tcp",)))


def wire() -> dict[str, float]:
    """What probes say of a wire's delay and loss, against what it wrote down that it did."""
    found: dict[str, float] = {}
    with built(delay_ms=3) as (lab, log):
        net = lab.net("client")
        inside = ["nsenter", "-t", str(lab.pid("client")), "-n"]
        theirs = _pings(inside, SERVER, 10)
        trips = measured(net, "icmp", host=SERVER, count=100, interval_ms=10).detail["round_trips_us"]
        net.close()
        lab.cut()
        did = wire_log(log)
    applied_us = (statistics.median(did.forth_ns) + statistics.median(did.back_ns)) / 1000
    own_us = statistics.median([one for one in trips if one is not None])
    found["delay_error_us"] = abs(own_us - applied_us)
    found["ping_delay_error_us"] = abs(statistics.median(theirs) - applied_us)
    with built(loss=0.1) as (lab, log):
        net = lab.net("client")
        lost = measured(net, "icmp", host=SERVER, count=100, interval_ms=5, timeout_ms=200).quantities["lost"]
        net.close()
        lab.cut()
        did = wire_log(log)
    found["loss_error_packets"] = abs(lost - did.forth_lost - did.back_lost)
    ping_us = statistics.median(theirs)
    print(
        f"  applied {applied_us:,.0f} µs, measured {own_us:,.0f} µs, ping {ping_us:,.0f} µs; the rest is four hops of one"
    )
    print("  machine, and the wire's own waking")
    return found


async def _paced(runs_a_second: float, seconds: float, kinds: tuple[str, ...]) -> tuple[int, int]:
    """Good and failed runs of an agent's schedule with so many streams of an interval of one second."""
    good = failed = 0

    def take(_stream: int, result: Result) -> None:
        nonlocal good, failed
        good, failed = good + result.is_ok, failed + (not result.is_ok)

    records: dict[tuple[str, str], tuple[str, ...]] = {("a.example", "A"): ("192.0.2.1",)}
    async with TcpService() as tcp, NameService(records=records) as names:
        settings: dict[str, dict[str, Any]] = {
            "icmp": {"host": HOST, "count": 1},
            "tcp": {"host": HOST, "port": tcp.port},
            "dns": {"resolver": HOST, "port": names.port, "name": "a.example"},
        }
        probes = [
            AssignedProbe(
                stream=number, kind=kinds[number % len(kinds)], settings=settings[kinds[number % len(kinds)]],
                interval_us=1_000_000, attempts=1, attempt_gap_us=0, binding=WireBinding(),
            )
            for number in range(round(runs_a_second))
        ]  # fmt: skip
        net = KernelNet()
        schedule = Schedule(net, LagMeter(), "bench", take)
        await schedule.assign(Assignment(probes=probes))
        await asyncio.sleep(2)  # every stream has begun
        good = failed = 0
        begun = time.monotonic()
        await asyncio.sleep(seconds)
        made = round(good / (time.monotonic() - begun)), failed  # before stopping, which takes its time
        await schedule.stop()
        net.close()
    return made


def tell_pace(offered: int) -> None:
    print(*asyncio.run(_paced(offered, _PACE_S, ("icmp", "tcp", "dns"))))


def pace() -> dict[str, float]:
    """The most runs a second of one agent on one core: offered more until it makes less than 97 % of what is offered.

    The stand-ins share the core: what is told is what is left beside them.
    """
    best = 0
    for offered in (200, 400, 500, 600, 800, 1000):
        code = f"from bench.probes import tell_pace; tell_pace({offered})"
        told = subprocess.run(
            ["taskset", "-c", "0", sys.executable, "-c", code], capture_output=True, text=True, check=True
        )
        good, failed = (int(one) for one in told.stdout.split())
        print(f"  {offered:>5} runs/s offered, {good:>5} made, {failed} failed")
        best = max(best, good)
        if good < 0.97 * offered:
            break
    return {"runs_per_s": best}


def memory() -> dict[str, float]:
    """Resident memory of an agent process with 500 probes, after half a minute."""
    with tempfile.TemporaryDirectory() as folder:
        code = "import sys; from bench.probes import hold; hold(sys.argv[1])"
        process = subprocess.Popen([sys.executable, "-c", code, folder])
        time.sleep(30)
        rss = psutil.Process(process.pid).memory_info().rss / 2**20
        process.kill()
        process.wait()
    print(f"  {rss:.0f} MiB with 500 probes of icmp, tcp and dns, every 10 s")
    return {"rss_mib_500": round(rss, 1)}


def hold(folder: str) -> None:
    """An agent without its hub, which knows 500 probes from before."""
    from kuppel.agent.process import Agent
    from kuppel.agent.settings import AgentSettings

    kinds: list[tuple[str, dict[str, Any]]] = [
        ("icmp", {"host": HOST}),
        ("tcp", {"host": HOST, "port": 9}),
        ("dns", {"resolver": HOST, "port": 9, "name": "a.example"}),
    ]
    probes = [
        AssignedProbe(
            stream=n, kind=kinds[n % 3][0], settings=kinds[n % 3][1], interval_us=10_000_000, attempts=1, attempt_gap_us=0,
            binding=WireBinding(),
        )
        for n in range(500)
    ]  # fmt: skip
    (Path(folder) / "assignment.json").write_text(Assignment(probes=probes).model_dump_json())
    (Path(folder) / "token").write_text("none")
    os.chdir(folder)
    asyncio.run(Agent(AgentSettings(hub="http://127.0.0.1:9", state=Path(folder), name="bench")).run())


def paths() -> dict[str, float]:
    """In how many of a hundred runs both of two parallel ways were found."""
    with built() as (lab, _):
        net = lab.net("client")
        found = 0
        for _ in range(_PATH_RUNS):
            result = measured(net, "path", host=SERVER, names=False, path_mtu=False, gap_ms=0.2)
            found += result.quantities.get("parallel_paths") == 2
        net.close()
    print(f"  both ways in {found} of {_PATH_RUNS} runs")
    return {"parallel_found": found / _PATH_RUNS}


PARTS: dict[str, Callable[[], dict[str, float]]] = {
    "ping": ping, "wire": wire, "pace": pace, "memory": memory, "paths": paths,
}  # fmt: skip


def main() -> None:
    wanted = [one for one in sys.argv[1:] if one in PARTS] or list(PARTS)
    figures: dict[str, float] = {}
    with Steal() as steal:
        for name in wanted:
            print(f"{name}: {(PARTS[name].__doc__ or '').splitlines()[0]}")
            try:
                figures |= PARTS[name]()
            except LabUnavailable as why:
                print(f"  not on this machine: {why}")
    print(steal.told())
    print(json.dumps({name: round(value, 2) for name, value in figures.items()} | {"steal_ratio": round(steal.share, 3)}))


if __name__ == "__main__":
    main()

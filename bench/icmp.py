"""Reach against the system's `ping` on loopback, side by side: the same number of packets, turn by turn.

Trust the ratio: both share the machine and its noise.
"""

import asyncio
import json
import re
import statistics
import subprocess

from bench.machine import Steal
from kuppel.core.result import Result
from kuppel.probes.kernel import KernelNet
from kuppel.probes.net import Binding
from kuppel.probes.registry import kind_named
from kuppel.probes.repetition import run_probe

TURNS = 12
PACKETS = 50
INTERVAL_MS = 10
HOST = "127.0.0.1"


def ping_us() -> list[float]:
    """Round trips of one `ping`, in microseconds."""
    command = ["ping", "-n", "-c", str(PACKETS), "-i", str(INTERVAL_MS / 1000), "-s", "56", HOST]
    told = subprocess.run(command, capture_output=True, text=True, check=True).stdout
    return [float(found) * 1000 for found in re.findall(r"time=([\d.]+) ms", told)]


def kuppel_us(net: KernelNet) -> Result:
    """One run of the probe, as an agent makes it."""
    kind = kind_named("icmp")
    settings = kind.parse({"host": HOST, "count": PACKETS, "interval_ms": INTERVAL_MS, "size": 56})
    return asyncio.run(run_probe(kind, settings, net, binding=Binding(), attempts=1, attempt_gap_us=0))


def main() -> None:
    net = KernelNet()
    kuppel_us(net)  # the first run loads what later ones have
    pings: list[float] = []
    own: list[float] = []
    print(f"{'turn':>4} {'ping, µs':>10} {'kuppel, µs':>11} {'stamps':>15}")
    with Steal() as steal:
        for turn in range(TURNS):
            theirs = ping_us()
            result = kuppel_us(net)
            ours = [trip for trip in result.detail.get("round_trips_us", []) if trip is not None]
            if not ours:
                raise SystemExit(f"No reply was measured: {result.attempts[-1].note}")
            print(
                f"{turn + 1:>4} {statistics.median(theirs):>10.1f} {statistics.median(ours):>11.1f}"
                f" {result.detail['stamps']:>15}"
            )
            pings += theirs
            own += ours
    net.close()
    ping, kuppel = statistics.median(pings), statistics.median(own)
    print(
        f"medians of {len(pings)} and {len(own)} round trips: ratio {kuppel / ping:.2f}, difference {kuppel - ping:+.1f} µs"
    )
    print(steal.told())
    print(
        json.dumps(
            {
                "ping_us": round(ping, 1),
                "kuppel_us": round(kuppel, 1),
                "difference_us": round(kuppel - ping, 1),
                "ratio": round(kuppel / ping, 3),
                "packets": len(own),
                "steal_ratio": round(steal.share, 3),
            }
        )
    )


if __name__ == "__main__":
    main()

"""What the agent's own machine says of itself: psutil, and the files and tools of Linux for what psutil does not know."""

import contextlib
import re
import shutil
import socket
import subprocess
import threading
import time
from collections import Counter
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import psutil

from kuppel.core.percentile import percentile
from kuppel.probes.net import MachineAsked, MachineTold

_TOOL_S = 3.0
_LEAST_S, _MOST_S = 0.5, 7200.0
_REAL_DISKS = re.compile(r"^(sd[a-z]+|vd[a-z]+|xvd[a-z]+|nvme\d+n\d+|mmcblk\d+|hd[a-z]+)$")


@dataclass(frozen=True, slots=True)
class _Counters:
    """Counters that rates are made from."""

    at_s: float
    cpu: Any
    net: Any
    disk_read: int
    disk_write: int
    disk_ios: int
    disk_busy_ms: int


class Machine:
    """Rates are over the time since the reading before, or over half a second when there was none."""

    def __init__(self) -> None:
        self._before: _Counters | None = None
        self._lock = threading.Lock()

    def read(self, asked: MachineAsked) -> MachineTold:
        """Everything that was asked for; blocks for up to a second."""
        with self._lock:
            before = self._before
            lag_ms = _lag_ms()
            if before is None or not _LEAST_S <= time.monotonic() - before.at_s <= _MOST_S:
                before = _counters()
                time.sleep(_LEAST_S)
            after = _counters()
            self._before = after
        quantities = {"scheduling_lag": lag_ms} | _rates(before, after) | _levels()
        facts: dict[str, str] = {}
        detail: dict[str, Any] = {
            "disks": _disks(),
            "interfaces": _interfaces(),
            "over_s": round(after.at_s - before.at_s, 1),
        }
        gateway = _gateway()
        if gateway:
            facts["gateway"] = gateway
        wireless = _wireless()
        if wireless is not None:
            quantities |= wireless[0]
            facts |= wireless[1]
        if asked.services:
            states = {name: _service_state(name) for name in asked.services}
            quantities["services_down"] = float(sum(state != "active" for state in states.values()))
            facts["services"] = ", ".join(f"{name} {state}" for name, state in states.items())[:490]
        if asked.has_connections:
            found = _connections()
            quantities["connections"] = float(sum(count for _, count in found))
            detail["connections"] = [{"process": who, "peer": peer, "count": count} for (who, peer), count in found[:30]]
        if asked.has_processes:
            detail["processes"] = _processes()
            quantities["processes"] = float(len(psutil.pids()))
        return MachineTold(quantities, facts, detail)


def _lag_ms() -> float:
    """How late a thread wakes: the 95th percentile of twenty sleeps of 5 ms."""
    late = []
    for _ in range(20):
        begun = time.monotonic()
        time.sleep(0.005)
        late.append((time.monotonic() - begun - 0.005) * 1e3)
    return max(0.0, percentile(late, 0.95))


def _counters() -> _Counters:
    disks = psutil.disk_io_counters(perdisk=True) or {}
    real = [one for name, one in disks.items() if _REAL_DISKS.match(name)]
    return _Counters(
        time.monotonic(),
        psutil.cpu_times(),
        psutil.net_io_counters(pernic=True),
        sum(one.read_bytes for one in real),
        sum(one.write_bytes for one in real),
        sum(one.read_count + one.write_count for one in real),
        sum(one.read_time + one.write_time for one in real),
    )


def _rates(before: _Counters, after: _Counters) -> dict[str, float]:
    seconds = max(1e-3, after.at_s - before.at_s)
    found: dict[str, float] = {}
    spent = {name: getattr(after.cpu, name) - getattr(before.cpu, name) for name in after.cpu._fields}
    # Time of guests is counted in user and nice already.
    whole = sum(value for name, value in spent.items() if not name.startswith("guest"))
    if whole > 0:
        found["cpu_ratio"] = min(1.0, max(0.0, 1 - (spent["idle"] + spent.get("iowait", 0.0)) / whole))
        found["cpu_wait_ratio"] = max(0.0, spent.get("iowait", 0.0)) / whole
        found["cpu_steal_ratio"] = max(0.0, spent.get("steal", 0.0)) / whole
    cards = [name for name in after.net if name in before.net and name != "lo"]

    def grown(field: str) -> int:
        return sum(max(0, getattr(after.net[name], field) - getattr(before.net[name], field)) for name in cards)

    found["net_in"] = grown("bytes_recv") * 8 / seconds / 1e6
    found["net_out"] = grown("bytes_sent") * 8 / seconds / 1e6
    found["net_errors"] = float(grown("errin") + grown("errout") + grown("dropin") + grown("dropout"))
    found["disk_read"] = max(0, after.disk_read - before.disk_read) / seconds / 1e6
    found["disk_write"] = max(0, after.disk_write - before.disk_write) / seconds / 1e6
    operations = after.disk_ios - before.disk_ios
    if operations > 0:
        found["disk_latency"] = max(0, after.disk_busy_ms - before.disk_busy_ms) / operations
    return found


def _levels() -> dict[str, float]:
    memory, swap = psutil.virtual_memory(), psutil.swap_memory()
    found = {"memory_ratio": 1 - memory.available / memory.total, "memory_free": float(memory.available)}
    if swap.total:
        found["swap_ratio"] = swap.used / swap.total
    fullest = max((one["used_ratio"] for one in _disks()), default=None)
    if fullest is not None:
        found["disk_ratio"] = float(fullest)
    return found


def _disks() -> list[dict[str, Any]]:
    """Mounted file systems of real devices, each once."""
    found: dict[str, dict[str, Any]] = {}
    for part in psutil.disk_partitions(all=False):
        if part.device in found or "loop" in part.device:
            continue
        with contextlib.suppress(OSError):
            usage = psutil.disk_usage(part.mountpoint)
            if usage.total:
                found[part.device] = {
                    "mount": part.mountpoint,
                    "total": usage.total,
                    "free": usage.free,
                    "used_ratio": round(usage.used / (usage.used + usage.free), 4) if usage.used + usage.free else 0.0,
                }
    return list(found.values())[:20]


def _interfaces() -> list[dict[str, Any]]:
    addresses = psutil.net_if_addrs()
    return [
        {
            "name": name,
            "is_up": stats.isup,
            "speed_mbit": stats.speed,
            "mtu": stats.mtu,
            "addresses": [
                one.address for one in addresses.get(name, []) if one.family in (socket.AF_INET, socket.AF_INET6)
            ][:6],
        }
        for name, stats in psutil.net_if_stats().items()
        if name != "lo"
    ][:20]


def _gateway() -> str:
    """The default route's next hop, as the kernel lists it (little-endian words in hex)."""
    with contextlib.suppress(OSError, ValueError):
        for line in Path("/proc/net/route").read_text().splitlines()[1:]:
            card, where, gateway = line.split()[:3]
            if where == "00000000" and gateway != "00000000":
                return f"{socket.inet_ntoa(int(gateway, 16).to_bytes(4, 'little'))} by {card}"
    return ""


def _wireless() -> tuple[dict[str, float], dict[str, str]] | None:
    """Signal of the first wireless card, and, where the tool `iw` is there, its network, access point, channel and rate."""
    try:
        lines = Path("/proc/net/wireless").read_text().splitlines()[2:]
    except OSError:
        return None
    return parse_wireless(lines, _told) if lines else None


def parse_wireless(lines: list[str], told: Any) -> tuple[dict[str, float], dict[str, str]]:
    """Signal and network of a wireless card.

    Parameters
    ----------
    lines : of `/proc/net/wireless`, without its two lines of heads.
    told : runs a command and returns what it says, empty when it cannot.
    """
    card, values = lines[0].split(":", 1)
    words = values.split()
    quantities, facts = {"wifi_signal": float(words[2].rstrip("."))}, {"wifi_card": card.strip()}
    link = told(["iw", "dev", card.strip(), "link"])
    info = told(["iw", "dev", card.strip(), "info"])
    if found := re.search(r"Connected to ([0-9a-f:]{17})", link):
        facts["wifi_access_point"] = found[1]
    if found := re.search(r"SSID: (.+)", link):
        facts["wifi_network"] = found[1].strip()
    if found := re.search(r"signal: (-?\d+) dBm", link):
        quantities["wifi_signal"] = float(found[1])
    if found := re.search(r"tx bitrate: ([\d.]+) MBit/s", link):
        quantities["wifi_rate"] = float(found[1])
    if found := re.search(r"channel (\d+) \((\d+) MHz\)", info):
        facts["wifi_channel"] = f"{found[1]} ({found[2]} MHz)"
    return quantities, facts


def _told(command: list[str]) -> str:
    if shutil.which(command[0]) is None:
        return ""
    try:
        return subprocess.run(command, capture_output=True, text=True, timeout=_TOOL_S, check=False).stdout
    except (OSError, subprocess.TimeoutExpired):
        return ""


def _service_state(name: str) -> str:
    """What the service manager says; without one, whether a process of that name runs."""
    if state := _told(["systemctl", "is-active", "--", name]).strip():
        return state
    for process in psutil.process_iter(["name"]):
        if process.info["name"] == name:
            return "active"
    return "not running"


def _connections() -> list[tuple[tuple[str, str], int]]:
    """Open connections by process and peer, the most first; processes of others may be hidden."""
    names: dict[int, str] = {}
    counts: Counter[tuple[str, str]] = Counter()
    with contextlib.suppress(psutil.Error):
        for one in psutil.net_connections(kind="inet"):
            if not one.raddr:
                continue
            if one.pid is not None and one.pid not in names:
                with contextlib.suppress(psutil.Error):
                    names[one.pid] = psutil.Process(one.pid).name()
            counts[names.get(one.pid or 0, "not known"), f"{one.raddr.ip} port {one.raddr.port}"] += 1
    return counts.most_common()


def _processes() -> list[dict[str, Any]]:
    """The ten processes with most memory. Names only: what they were started with may hold secrets."""
    rows = []
    for process in psutil.process_iter(["name", "memory_info", "cpu_times"]):
        memory, cpu = process.info["memory_info"], process.info["cpu_times"]
        if memory is not None:
            spent_s = round(cpu.user + cpu.system, 1) if cpu else 0.0
            rows.append({"name": process.info["name"], "memory": memory.rss, "cpu_s": spent_s})
    return sorted(rows, key=lambda one: -int(one["memory"]))[:10]

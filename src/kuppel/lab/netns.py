"""A routed lab of real network namespaces: the machine's own network code, with links whose delay and loss are known.

    client ── r1 ─┬─ r2a ─┬─ r3 ══ server      ══ is a `Wire`: two TUN devices and a process that passes packets on, each
                  └─ r2b ─┘                       as late as it was told, and writes down how late it really was

Every namespace is held by a process; when those end, all of it is gone. Needs root and Linux.
"""

import contextlib
import ctypes
import json
import os
import shutil
import subprocess
import sys
import tempfile
from collections.abc import Iterator, Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, field
from pathlib import Path

from kuppel.probes.kernel.network import KernelNet

_CLONE_NEWNET = 0x40000000
_ROUTER = {
    "net/ipv4/ip_forward": "1",
    "net/ipv6/conf/all/forwarding": "1",
    # By flow, ports included, as providers' routers do.
    "net/ipv4/fib_multipath_hash_policy": "1",
    "net/ipv6/fib_multipath_hash_policy": "1",
    "net/ipv4/icmp_errors_use_inbound_ifaddr": "1",
    "net/ipv4/icmp_ratelimit": "0",
    "net/ipv6/icmp/ratelimit": "0",
    "net/ipv4/icmp_msgs_per_sec": "100000",
    "net/ipv6/conf/default/accept_dad": "0",
    "net/ipv6/conf/all/accept_dad": "0",
}


class LabUnavailable(Exception):
    """This machine does not allow the lab; the message says what is missing."""


def enter_namespace(pid: int) -> None:
    """Move the calling thread into the network namespace of a process.

    Raises
    ------
    OSError
    """
    with open(f"/proc/{pid}/ns/net") as file:
        library = ctypes.CDLL(None, use_errno=True)
        if library.setns(file.fileno(), _CLONE_NEWNET):
            code = ctypes.get_errno()
            raise OSError(code, os.strerror(code))


class NamespaceNet(KernelNet):
    """`KernelNet` whose exchanges run inside a namespace."""

    def __init__(self, pid: int, threads: int = 16) -> None:
        super().__init__(threads=threads)
        self._pool.shutdown()
        self._pool = ThreadPoolExecutor(threads, thread_name_prefix="exchange", initializer=lambda: enter_namespace(pid))


@dataclass(frozen=True, slots=True)
class WireLog:
    """What a wire did: the delay of every packet that it passed on (ns), and how many came and were dropped, each way."""

    forth_ns: list[int]
    back_ns: list[int]
    forth_came: int
    back_came: int
    forth_lost: int
    back_lost: int


@dataclass(slots=True)
class Lab:
    """Namespaces by name; made by `built`."""

    _anchors: dict[str, subprocess.Popen[bytes]] = field(default_factory=dict)
    _wires: list[subprocess.Popen[bytes]] = field(default_factory=list)

    def node(self, name: str) -> None:
        anchor = subprocess.Popen(["unshare", "-n", "sleep", "infinity"], stdout=subprocess.DEVNULL)
        own = os.stat("/proc/self/ns/net").st_ino
        while os.stat(f"/proc/{anchor.pid}/ns/net").st_ino == own:
            if anchor.poll() is not None:
                raise LabUnavailable("a network namespace cannot be made here")
        self._anchors[name] = anchor
        words = "; ".join(f"echo {value} >/proc/sys/{key} 2>/dev/null" for key, value in _ROUTER.items())
        self.run(name, ["sh", "-c", f"{words}; ip link set lo up"])

    def pid(self, name: str) -> int:
        return self._anchors[name].pid

    def run(self, name: str, command: Sequence[str]) -> str:
        """What a command says that runs inside a namespace."""
        inside = ["nsenter", "-t", str(self.pid(name)), "-n", *command]
        done = subprocess.run(inside, capture_output=True, text=True, check=False)
        if done.returncode:
            raise LabUnavailable(f"{' '.join(command)}: {done.stderr.strip() or done.returncode}")
        return done.stdout

    def link(self, one: str, other: str, network: int) -> None:
        """A cable: addresses 10.9.N.1 and .2, and 2001:db8:N::1 and ::2."""
        ends = ((one, f"to-{other}", 1), (other, f"to-{one}", 2))
        pids = [str(self.pid(name)) for name, _, _ in ends]
        made = ["ip", "link", "add", f"to-{other}", "netns", pids[0], "type", "veth"]
        subprocess.run([*made, "peer", "name", f"to-{one}", "netns", pids[1]], check=True, capture_output=True)
        for name, device, number in ends:
            self._address(name, device, network, number)

    def wire(self, one: str, other: str, network: int, *, delay_ms: float = 0, loss: float = 0, seed: int = 1) -> Path:
        """A link of known delay (each way) and loss; where its log will be written when the lab ends."""
        log = Path(tempfile.mkdtemp(prefix="kuppel-wire-")) / "log.json"
        told = {"pids": [self.pid(one), self.pid(other)], "delay_ms": delay_ms, "loss": loss, "seed": seed, "log": str(log)}
        process = subprocess.Popen(
            [sys.executable, "-m", "kuppel.lab.wire", json.dumps(told)], stdout=subprocess.PIPE, start_new_session=True
        )
        self._wires.append(process)
        assert process.stdout is not None
        if process.stdout.readline().strip() != b"ready":
            raise LabUnavailable("a TUN device cannot be made here")
        for name, device, number in ((one, "wire0", 1), (other, "wire0", 2)):
            self._address(name, device, network, number)
        return log

    def route(self, name: str, where: str, *via: str) -> None:
        """A route; along several next hops, equally."""
        family = ["-6"] if ":" in where else []
        hops = [word for one in via for word in ("nexthop", "via", one)] if len(via) > 1 else ["via", via[0]]
        self.run(name, ["ip", *family, "route", "replace", where, *hops])

    def net(self, name: str) -> NamespaceNet:
        return NamespaceNet(self.pid(name))

    def cut(self) -> None:
        """End the wires, which then write their logs."""
        for one in self._wires:
            one.terminate()
        for one in self._wires:
            one.wait(10)
            if one.stdout is not None:
                one.stdout.close()
        self._wires = []

    def close(self) -> None:
        self.cut()
        for one in self._anchors.values():
            one.kill()
            one.wait()

    def _address(self, name: str, device: str, network: int, number: int) -> None:
        batch = (
            f"addr add 10.9.{network}.{number}/24 dev {device}\n"
            f"addr add 2001:db8:{network}::{number}/64 dev {device} nodad\n"
            f"link set {device} up\n"
        )
        inside = ["nsenter", "-t", str(self.pid(name)), "-n", "ip", "-batch", "-"]
        subprocess.run(inside, input=batch, text=True, check=True, capture_output=True)
        if shutil.which("ethtool"):  # packets as they are sent, not gathered into larger ones
            offloads = ["tso", "off", "gso", "off", "gro", "off", "tx", "off"]
            with contextlib.suppress(LabUnavailable):
                self.run(name, ["ethtool", "-K", device, *offloads])


def wire_log(path: Path) -> WireLog:
    log = WireLog(**json.loads(path.read_text()))
    shutil.rmtree(path.parent)
    return log


SERVER, SERVER_V6 = "10.9.5.2", "2001:db8:5::2"


@contextlib.contextmanager
def built(*, delay_ms: float = 0, loss: float = 0, seed: int = 1) -> Iterator[tuple[Lab, Path]]:
    """The lab of the module's picture, and where its wire's log will be.

    Raises
    ------
    LabUnavailable
    """
    if os.geteuid() != 0:
        raise LabUnavailable("network namespaces need root")
    missing = [tool for tool in ("ip", "nsenter", "unshare") if not shutil.which(tool)]
    if missing or not os.path.exists("/dev/net/tun"):
        raise LabUnavailable(f"missing: {', '.join(missing) or '/dev/net/tun'}")
    lab = Lab()
    try:
        for name in ("client", "r1", "r2a", "r2b", "r3", "server"):
            lab.node(name)
        for one, other, network in (("client", "r1", 1), ("r1", "r2a", 2), ("r1", "r2b", 3), ("r2a", "r3", 4)):
            lab.link(one, other, network)
        lab.link("r2b", "r3", 6)
        log = lab.wire("r3", "server", 5, delay_ms=delay_ms, loss=loss, seed=seed)
        for where, near, forth, back in (
            ("{}/0".format("0.0.0.0"), "10.9.{}.1", "10.9.{}.2", "10.9.{}.1"),
            ("::/0", "2001:db8:{}::1", "2001:db8:{}::2", "2001:db8:{}::1"),
        ):
            lab.route("client", where, forth.format(1))
            lab.route("r1", where, forth.format(2), forth.format(3))
            lab.route("r2a", where, forth.format(4))
            lab.route("r2b", where, forth.format(6))
            lab.route("r3", where, back.format(4), back.format(6))
            lab.route("server", where, near.format(5))
            client = where.replace("0.0.0.0/0", "10.9.1.0/24").replace("::/0", "2001:db8:1::/64")
            lab.route("r2a", client, back.format(2))
            lab.route("r2b", client, back.format(3))
        yield lab, log
    finally:
        lab.close()

"""A link in user space: passes IP packets between two namespaces, late and lossy as told, and writes down what it did."""

import contextlib
import fcntl
import heapq
import json
import os
import random
import select
import signal
import struct
import sys
import time
from collections.abc import Sequence
from typing import Any

_TUNSETIFF, _IFF_TUN, _IFF_NO_PI = 0x400454CA, 0x0001, 0x1000


def _tun(name: str) -> int:
    device = os.open("/dev/net/tun", os.O_RDWR | os.O_NONBLOCK)
    fcntl.ioctl(device, _TUNSETIFF, struct.pack("16sH22x", name.encode(), _IFF_TUN | _IFF_NO_PI))
    return device


def _is_housekeeping(packet: bytes) -> bool:
    """IPv6 multicast: what neighbours say to each other, which nobody measures with."""
    return len(packet) > 24 and packet[0] >> 4 == 6 and packet[24] == 0xFF


def run(devices: Sequence[int], delay_ns: int, loss: float, seed: int) -> dict[str, Any]:
    """Pass packets on until asked to stop; what was done."""
    draw = random.Random(seed)
    waiting: list[tuple[int, int, int, int, bytes]] = []
    delays: list[list[int]] = [[], []]
    came, lost, number = [0, 0], [0, 0], 0
    stopping = []
    signal.signal(signal.SIGTERM, lambda *_: stopping.append(True))
    poll = select.poll()
    for one in devices:
        poll.register(one, select.POLLIN)
    while not stopping:
        left_ns = waiting[0][0] - time.monotonic_ns() if waiting else 50_000_000
        # The last millisecond is spun through: what is asked for is what is done.
        for device, _ in poll.poll(max(0, left_ns // 1_000_000)):
            way = devices.index(device)
            with contextlib.suppress(BlockingIOError):
                while True:
                    packet = os.read(device, 65_536)
                    if _is_housekeeping(packet):
                        continue
                    now_ns = time.monotonic_ns()
                    came[way] += 1
                    if draw.random() < loss:
                        lost[way] += 1
                        continue
                    number += 1
                    heapq.heappush(waiting, (now_ns + delay_ns, number, way, now_ns, packet))
        while waiting and waiting[0][0] <= (now_ns := time.monotonic_ns()):
            _, _, way, since_ns, packet = heapq.heappop(waiting)
            with contextlib.suppress(OSError):
                os.write(devices[1 - way], packet)
                delays[way].append(now_ns - since_ns)
    return {
        "forth_ns": delays[0], "back_ns": delays[1], "forth_came": came[0], "back_came": came[1],
        "forth_lost": lost[0], "back_lost": lost[1],
    }  # fmt: skip


def main() -> None:
    from kuppel.lab.netns import enter_namespace

    told = json.loads(sys.argv[1])
    devices = []
    for pid in told["pids"]:
        enter_namespace(pid)
        devices.append(_tun("wire0"))
    print("ready", flush=True)
    done = run(devices, round(told["delay_ms"] * 1e6), told["loss"], told["seed"])
    with open(told["log"], "w") as file:
        json.dump(done, file)


if __name__ == "__main__":
    main()

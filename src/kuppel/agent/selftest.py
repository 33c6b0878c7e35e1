"""Can this machine be a vantage point? Asked before an agent is started, and told in words."""

import socket
import sys
from collections.abc import Callable
from dataclasses import dataclass

import httpx

from kuppel.probes.kernel.browser import browser_missing
from kuppel.probes.kernel.echo import send_train
from kuppel.probes.net import Binding, EchoTrain, NetError


@dataclass(frozen=True, slots=True)
class Tested:
    """One thing that was looked at. What is not needed may fail: then only `is_needed` things cannot be measured."""

    name: str
    is_good: bool
    words: str
    is_needed: bool = False


def self_test(hub: str) -> list[Tested]:
    """Everything that an agent relies on."""
    return [
        Tested("Python", sys.version_info >= (3, 11), sys.version.split()[0], is_needed=True),
        *_hub(hub),
        _tried("reach", "echo requests may be sent", _echo),
        _tried("paths", "ICMP errors are handed back to unprivileged sockets", _error_queue),
        Tested("pages", *_browser()),
    ]


def _hub(hub: str) -> list[Tested]:
    try:
        with httpx.Client(base_url=hub, timeout=10, trust_env=False) as client:
            answer = client.get("/api/ready")
            answer.raise_for_status()
            elapsed_ms = answer.elapsed.total_seconds() * 1000
    except httpx.HTTPError as error:
        return [Tested("hub", False, f"{hub} does not answer: {type(error).__name__}", is_needed=True)]
    return [Tested("hub", True, f"{hub} answers in {elapsed_ms:.0f} ms", is_needed=True)]


def _tried(name: str, good: str, act: Callable[[], None]) -> Tested:
    try:
        act()
    except (NetError, OSError) as error:
        words = error.note if isinstance(error, NetError) else str(error)
        return Tested(name, False, words)
    return Tested(name, True, good)


def _echo() -> None:
    send_train(EchoTrain("127.0.0.1", 1, 1000, 56, 0, 500_000, Binding()), Binding())


def _error_queue() -> None:
    with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as sock:
        sock.setsockopt(socket.IPPROTO_IP, 11, 1)  # IP_RECVERR


def _browser() -> tuple[bool, str]:
    missing = browser_missing()
    return not missing, missing or "a browser is there"

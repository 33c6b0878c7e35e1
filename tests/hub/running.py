"""Hubs for tests: one in this process, asked directly; one in a process of its own, on a real port, that can be killed."""

import contextlib
import os
import signal
import socket
import subprocess
import sys
import tempfile
import time
from pathlib import Path
from types import TracebackType
from typing import Any, Self

import httpx
from fastapi.testclient import TestClient

from kuppel.hub.app import create_app
from kuppel.hub.settings import HubSettings

TOKEN = "enrol-with-this"
DESCRIPTION = {
    "name": "Brannick",
    "kind": "site",
    "place": "harbour office",
    "provider": "Vaskfiber",
    "version": "0",
    "addresses": [],
}


class HubInside:
    """A hub in this process. `client` asks it; `agent` asks it as an enrolled agent's vantage point does."""

    def __init__(self, **settings: Any) -> None:
        self.folder = tempfile.TemporaryDirectory()
        made = HubSettings(data=Path(self.folder.name), enrolment_token=TOKEN, **settings)  # type: ignore[arg-type]
        self.app = create_app(made)
        self.client = TestClient(self.app, raise_server_exceptions=False)

    def __enter__(self) -> Self:
        self.client.__enter__()
        return self

    def __exit__(self, *error: object) -> None:
        self.client.__exit__(None, None, None)
        self.folder.cleanup()

    def enrol(self, name: str = "Brannick") -> tuple[int, dict[str, str]]:
        """A vantage point's number, and the headers that its agent sends."""
        answer = self.client.post(
            "/api/agents/enrolments", json=DESCRIPTION | {"name": name}, headers={"Authorization": f"Bearer {TOKEN}"}
        )
        assert answer.status_code == 201, answer.text
        return answer.json()["vantage_point"], {"Authorization": f"Bearer {answer.json()['token']}"}

    def add_probe(self, points: list[int], **changed: Any) -> dict[str, Any]:
        """A stored probe with a target of its own."""
        name = changed.get("name", "front page")
        target = self.client.post("/api/targets", json={"name": f"target of {name}"}).json()["id"]
        new = {
            "name": name, "kind": "http", "target": target, "settings": {"url": "https://booking.skerry.example/"},
            "interval_s": 60, "vantage_points": points,
            "limits": [{"quantity": "total", "unit": "ms", "degraded": 650, "breached": 800}],
        }  # fmt: skip
        answer = self.client.post("/api/probes", json=new | changed)
        assert answer.status_code == 201, answer.text
        made: dict[str, Any] = answer.json()
        return made

    def streams(self) -> list[dict[str, Any]]:
        found: list[dict[str, Any]] = self.client.get("/api/streams").json()
        return found


class HubProcess:
    """A hub in a process of its own."""

    def __init__(self, folder: Path) -> None:
        self.folder = folder
        self.port = free_port()
        self.url = f"http://127.0.0.1:{self.port}"
        self._process: subprocess.Popen[bytes] | None = None

    def __enter__(self) -> Self:
        self.start()
        return self

    def __exit__(self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None) -> None:
        self.stop()

    def start(self, web: Path | None = None) -> None:
        options = ["--data", str(self.folder), "--port", str(self.port)]
        options += [] if web is None else ["--web", str(web)]
        environment = os.environ | {"KUPPEL_ENROLMENT_TOKEN": TOKEN, "KUPPEL_LOG_LEVEL": "error", "KUPPEL_DELIVERY_S": "2"}
        self._process = subprocess.Popen([sys.executable, "-m", "kuppel.cli", "hub", *options], env=environment)
        deadline = time.monotonic() + 30
        while time.monotonic() < deadline:
            with contextlib.suppress(httpx.HTTPError):
                if httpx.get(f"{self.url}/api/ready", trust_env=False).is_success:
                    return
            time.sleep(0.05)
        raise TimeoutError("the hub did not become ready")

    def kill(self) -> None:
        """As a power cut would: no chance to say anything."""
        self._end(signal.SIGKILL)

    def stop(self) -> int:
        return self._end(signal.SIGTERM)

    def _end(self, how: signal.Signals) -> int:
        process, self._process = self._process, None
        if process is None:
            return 0
        process.send_signal(how)
        return process.wait(15)


def free_port() -> int:
    with socket.socket() as sock:
        sock.bind(("127.0.0.1", 0))
        return int(sock.getsockname()[1])

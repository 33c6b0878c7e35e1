"""Takes the hub's version when it is due: installs the package that the hub serves, and starts anew in its place."""

import asyncio
import os
import sys
import time
from pathlib import Path

import structlog

from kuppel import __version__
from kuppel.agent.hub_client import HubClient
from kuppel.wire.delivery import Update

_AGAIN_S = 3600.0
_log = structlog.get_logger()


class Updating:
    """Looks at what the hub announced; tries once an hour at most."""

    def __init__(self, client: HubClient, state: Path) -> None:
        self._client = client
        self._state = state
        self._tried_s = 0.0

    async def consider(self, update: Update | None, now_us: int) -> None:
        """Install and restart when an update is due. Returns when there is none, it is not due, or it cannot be
        installed."""
        if update is None or update.version == __version__ or now_us < update.due_us:
            return
        if self._tried_s and time.monotonic() - self._tried_s < _AGAIN_S:
            return
        self._tried_s = time.monotonic()
        _log.info("updating", version=update.version, own=__version__)
        package = self._state / f"kuppel-{update.version}-py3-none-any.whl"
        package.write_bytes(await self._client.package(update.version))
        options = ["-m", "pip", "install", "--quiet", "--disable-pip-version-check"]
        process = await asyncio.create_subprocess_exec(
            sys.executable, *options, str(package), stderr=asyncio.subprocess.PIPE
        )
        _, told = await process.communicate()
        if process.returncode:
            _log.error("the update cannot be installed", reason=told.decode("utf-8", "replace")[-300:])
            return
        _log.info("starting anew", version=update.version)
        os.execv(sys.executable, [sys.executable, "-m", "kuppel.cli", *sys.argv[1:]])

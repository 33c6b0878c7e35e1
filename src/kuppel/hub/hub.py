"""The hub's parts, put together once and handed to every route."""

import asyncio
import hashlib
import secrets
import time
from pathlib import Path

from kuppel.hub.engine.judge import Judge
from kuppel.hub.live import LiveBus
from kuppel.hub.settings import HubSettings
from kuppel.store.database import Database
from kuppel.store.writer import Writer


def now_us() -> int:
    return time.time_ns() // 1000


def token_hash(token: str) -> str:
    """What is stored of a token. Tokens are 256 random bits, so a plain digest cannot be guessed back."""
    return hashlib.sha256(token.encode()).hexdigest()


class Hub:
    """Database, writer, judge and bus of one running hub."""

    def __init__(self, settings: HubSettings, database: Database, loop: asyncio.AbstractEventLoop) -> None:
        self.settings = settings
        self.database = database
        self.writer = Writer(database)
        self.bus = LiveBus(loop)
        self.judge = Judge(database, self.writer, self.bus, round(settings.delivery_s * 1e6))
        self.enrolment_token = enrolment_token(settings)

    def close(self) -> None:
        """Commit what is queued and let go of the database."""
        self.writer.close()
        self.database.close()


def database_path(settings: HubSettings) -> Path:
    return settings.data / "kuppel.db"


def enrolment_token(settings: HubSettings) -> str:
    """The configured token, or the one that the first start left in the data folder for its owner alone."""
    if settings.enrolment_token is not None:
        return settings.enrolment_token.get_secret_value()
    kept = settings.data / "enrolment-token"
    if not kept.exists():
        kept.touch(mode=0o600)
        kept.write_text(secrets.token_urlsafe(32) + "\n")
    return kept.read_text().strip()

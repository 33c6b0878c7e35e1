"""The hub's parts, put together once and handed to every route."""

import asyncio
import time
from collections.abc import Mapping
from typing import Any

from kuppel.core.access import Role
from kuppel.hub.engine import passwords
from kuppel.hub.engine.access import Access, add_first_admin
from kuppel.hub.engine.judge import Judge
from kuppel.hub.engine.trials import Trials
from kuppel.hub.engine.usual import UsualKeeper
from kuppel.hub.live import LiveBus
from kuppel.hub.readers import Readers
from kuppel.hub.sealing import Sealer, kept_key
from kuppel.hub.settings import DemoPerson, HubSettings
from kuppel.store import inventory, people
from kuppel.store.compaction import Compaction
from kuppel.store.database import Database, Place
from kuppel.store.inventory import Probe
from kuppel.store.writer import Writer

DATABASE_FILE = "kuppel.db"
_CREDENTIALS = "credentials of a probe"


def now_us() -> int:
    return time.time_ns() // 1000


class Hub:
    """Database, writer, judge, bus and guard of one running hub.

    Raises
    ------
    KeyUnusable
        when the key file does not belong to the database.
    """

    def __init__(self, settings: HubSettings, database: Database, loop: asyncio.AbstractEventLoop) -> None:
        self.settings = settings
        self.is_closing = False
        self.database = database
        self.sealer = Sealer(kept_key(settings.data / "secret-key"))
        self._check_key()
        self.writer = Writer(database)
        self.bus = LiveBus(loop)
        self.trials = Trials(loop)
        self.judge = Judge(database, self.writer, self.bus, round(settings.delivery_s * 1e6))
        self.compaction = Compaction(database, self.writer)
        self.readers = Readers(database, settings.readers)
        self.usual = UsualKeeper(database, self.writer, self.readers)
        self.access = Access(database, self.writer, settings.session_life)

    def first_start(self) -> str | None:
        """Make the first people; the first admin's one-time password, if one was made."""
        if self.settings.demo_people:
            add_demo_people(self.writer, self.database, self.settings.demo_people)
        return add_first_admin(self.writer, self.database, now_us())

    def credentials(self, probe: Probe) -> Mapping[str, Any]:
        """The secret part of a probe's settings."""
        if probe.sealed is None:
            return {}
        secret: dict[str, Any] = self.sealer.unseal(probe.sealed, _CREDENTIALS)
        return secret

    def sealed_credentials(self, secret: Mapping[str, Any]) -> bytes | None:
        return self.sealer.seal(dict(secret), _CREDENTIALS) if secret else None

    def close(self) -> None:
        """Commit what is queued and let go of the database."""
        self.readers.close()
        self.writer.close()
        self.database.close()

    def _check_key(self) -> None:
        with self.database.reading() as connection:
            for probe in inventory.probes(connection):
                self.credentials(probe)


def add_demo_people(writer: Writer, database: Database, wanted: list[DemoPerson]) -> None:
    """The demo's people, with the passwords that its sign-in page tells."""
    with database.reading() as connection:
        known = {one.name for one in people.people(connection)}
    for one in wanted:
        if one.name not in known:
            made = passwords.hashed(one.password)
            writer.write(
                lambda connection, one=one, made=made: people.add_person(  # type: ignore[misc]
                    connection, one.name, one.full_name, Role(one.role), made, now_us(), must_change=False
                )
            )


def database_place(settings: HubSettings) -> Place:
    """Where the hub's database is: a file in its folder, unless a server is named."""
    return settings.database_url or settings.data / DATABASE_FILE

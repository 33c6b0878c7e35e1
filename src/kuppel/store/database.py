"""Opening the database, migrated to this version: one engine to write and one to read. SQLite is in WAL mode."""

from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from sqlite3 import Connection as SqliteConnection
from typing import Any

from alembic import command
from alembic.config import Config
from alembic.migration import MigrationContext
from alembic.script import ScriptDirectory
from sqlalchemy import Connection, Engine, create_engine, event, make_url
from sqlalchemy.exc import DatabaseError, OperationalError
from sqlalchemy.pool import NullPool

from kuppel.store.dialect import is_sqlite

# `Connection` is what jobs and readers are handed; whoever names its type takes it from here.
__all__ = ["Connection", "Database", "DatabaseUnusable", "Place", "fold_log", "forget", "remembered"]

# A file of SQLite, or the URL of a PostgreSQL database.
Place = Path | str
_WRITERS_LOCK = 5_270_163
_MIGRATIONS = Path(__file__).parent / "migrations"


def remembered(connection: Connection, what: str) -> dict[Any, Any]:
    """What the writer knows of its own rows, so that it need not ask for them at each commit."""
    known: dict[str, dict[Any, Any]] = connection.info.setdefault("remembered", {})
    return known.setdefault(what, {})


def forget(connection: Connection) -> None:
    """Something was undone: what was remembered may be undone with it."""
    connection.info.pop("remembered", None)


def fold_log(database: "Database") -> None:
    """Move what is committed from SQLite's log into its file, as far as no reader needs it; nobody waits for that."""
    if database.write_engine.dialect.name == "sqlite":
        with database.write_engine.connect() as connection:
            _driver(connection).execute("PRAGMA wal_checkpoint(PASSIVE)").fetchall()


class DatabaseUnusable(Exception):
    """The database cannot be used; the message says why and what to do."""


class Database:
    """A Kuppel database, ready to read and write.

    Parameters
    ----------
    place : a file of SQLite, or the URL of a PostgreSQL database (`postgresql://user@host/name`).
    is_migrating : whether to bring it to this version; left out by readers of a database that a hub has opened.

    Raises
    ------
    DatabaseUnusable
        when it cannot be opened, is not a database, or was written by a newer Kuppel.
    """

    def __init__(self, place: Place, *, is_synchronous_full: bool = False, is_migrating: bool = True) -> None:
        self.place = place
        self._synchronous = "FULL" if is_synchronous_full else "NORMAL"
        if isinstance(place, Path):
            self._open_file(place, is_migrating)
        else:
            self._open_server(place, is_migrating)

    @property
    def name(self) -> str:
        """The database in words, without the password that its URL may hold."""
        return (
            str(self.place) if isinstance(self.place, Path) else make_url(self.place).render_as_string(hide_password=True)
        )

    def engine(self, connection: Connection) -> str:
        """Which database it is, and its version."""
        version = ".".join(str(part) for part in connection.dialect.server_version_info or ())
        return f"{'SQLite' if is_sqlite(connection) else 'PostgreSQL'} {version}"

    @contextmanager
    def reading(self) -> Iterator[Connection]:
        """A consistent read. Take what is needed and leave: an open read keeps the log from being folded in."""
        with self.read_engine.connect() as connection, connection.begin():
            yield connection

    def close(self) -> None:
        self.read_engine.dispose()
        self.write_engine.dispose()

    def _open_file(self, path: Path, is_migrating: bool) -> None:
        try:
            path.parent.mkdir(parents=True, exist_ok=True)
            self.write_engine = self._file_engine(path, "BEGIN IMMEDIATE", is_read_only=False)
            self.read_engine = self._file_engine(path, "BEGIN", is_read_only=True)
            if is_migrating:
                self._migrate()
        except (OperationalError, OSError) as error:
            cause = getattr(error, "orig", error)
            raise DatabaseUnusable(
                f"The database {path} cannot be opened: {cause}. Name a folder that Kuppel may write to with --data."
            ) from None
        except DatabaseError as error:
            raise DatabaseUnusable(
                f"{path} is not a Kuppel database: {error.orig}. Name another folder with --data, or move the file away."
            ) from None

    def _open_server(self, url: str, is_migrating: bool) -> None:
        try:
            made = make_url(url).set(drivername="postgresql+psycopg")
            self.write_engine = create_engine(made, hide_parameters=True, poolclass=NullPool)
            event.listen(self.write_engine, "begin", _wait_for_turn)
            # A snapshot of one moment, as SQLite's readers have.
            options = {"isolation_level": "REPEATABLE READ", "postgresql_readonly": True}
            self.read_engine = create_engine(made, hide_parameters=True, execution_options=options)
            if is_migrating:
                self._migrate()
        except ModuleNotFoundError:
            raise DatabaseUnusable(
                "PostgreSQL needs the package psycopg. Install it with: pip install 'kuppel[postgresql]'"
            ) from None
        except DatabaseError as error:
            raise DatabaseUnusable(
                f"The database {self.name} cannot be used: {error.orig}. Mend KUPPEL_DATABASE_URL, or start the database."
            ) from None

    def _file_engine(self, path: Path, begin: str, *, is_read_only: bool) -> Engine:
        # What is stored, passwords' hashes too, must not reach the log with an error.
        options: dict[str, Any] = {"hide_parameters": True}
        # To open a connection takes longer than most reads: as many stay open as are in use at once at the busiest, and the
        # one that was used last, whose pages are at hand, is used next.
        options |= {"pool_size": 20, "pool_use_lifo": True} if is_read_only else {"poolclass": NullPool}
        engine = create_engine(f"sqlite:///{path}", connect_args={"timeout": 30, "check_same_thread": False}, **options)

        @event.listens_for(engine, "connect")
        def on_connect(connection: SqliteConnection, _record: object) -> None:
            # The driver's own BEGIN is deferred and fails when a read turns into a write: we begin ourselves.
            connection.isolation_level = None
            cursor = connection.cursor()
            # Blocks of two kilobytes or so fill large pages better; heeded only when the file is made.
            cursor.execute("PRAGMA page_size=16384")
            cursor.execute("PRAGMA journal_mode=WAL")
            cursor.execute(f"PRAGMA synchronous={self._synchronous}")
            cursor.execute("PRAGMA foreign_keys=ON")
            cursor.execute("PRAGMA cache_size=-65536")
            cursor.execute("PRAGMA temp_store=MEMORY")
            # The writer folds the log in by itself, see `fold_log`.
            cursor.execute("PRAGMA wal_autocheckpoint=0")
            if is_read_only:
                cursor.execute("PRAGMA query_only=ON")
            cursor.close()

        @event.listens_for(engine, "begin")
        def on_begin(connection: Connection) -> None:
            connection.exec_driver_sql(begin)

        return engine

    def _migrate(self) -> None:
        config = Config()
        config.set_main_option("script_location", str(_MIGRATIONS))
        scripts = ScriptDirectory.from_config(config)
        with self.write_engine.connect() as connection:
            if not is_sqlite(connection):
                with connection.begin():
                    self._upgrade(connection, config, scripts)
                return
            # Rebuilding a table drops it, and with enforcement on that would take along every row that refers to it.
            # Outside a transaction, where alone SQLite heeds it.
            _driver(connection).execute("PRAGMA foreign_keys=OFF")
            with connection.begin():
                self._upgrade(connection, config, scripts)
                if broken := connection.exec_driver_sql("PRAGMA foreign_key_check").fetchall():
                    raise DatabaseUnusable(
                        f"Migrating {self.name} would leave {len(broken)} rows that refer to nothing; it stays as it was."
                        f" The first is in table {broken[0][0]}. Restore a backup, or start the Kuppel that wrote it."
                    )
            _driver(connection).execute("PRAGMA foreign_keys=ON")

    def _upgrade(self, connection: Connection, config: Config, scripts: ScriptDirectory) -> None:
        found = MigrationContext.configure(connection).get_current_revision()
        known = {script.revision for script in scripts.walk_revisions()}
        if found is not None and found not in known:
            raise DatabaseUnusable(
                f"The database {self.name} was written by a newer Kuppel (its revision is {found}, this program knows"
                f" up to {scripts.get_current_head()}). Start that newer Kuppel, or name another folder with --data."
            )
        config.attributes["connection"] = connection
        command.upgrade(config, "head")


def _wait_for_turn(connection: Connection) -> None:
    """One writer at a time, as SQLite's BEGIN IMMEDIATE has it: what a job read stays true until it commits."""
    connection.exec_driver_sql(f"SELECT pg_advisory_xact_lock({_WRITERS_LOCK})")


def _driver(connection: Connection) -> SqliteConnection:
    driver = connection.connection.driver_connection
    assert isinstance(driver, SqliteConnection)  # the one driver that is used
    return driver

"""Who is calling: sessions of people, tokens of programs and agents. What each may do is `core.access`."""

import hashlib
import secrets
import threading
import time
from dataclasses import dataclass, field

import structlog

from kuppel.core.access import SCOPES, Role, Scope, SessionLife, token_scopes, wait_us
from kuppel.hub.engine import passwords
from kuppel.store import inventory, people, record, tokens
from kuppel.store.database import Connection, Database
from kuppel.store.people import Person
from kuppel.store.record import Entry
from kuppel.store.tokens import EnrolmentToken
from kuppel.store.writer import Writer

# A session's or token's last use is stored this often at the most: every request would be a commit.
_NOTE_USE_EVERY_US = 60_000_000
# Refusals of one address that are recorded a minute; a flood of guesses must not fill the disk.
_REFUSALS_A_MINUTE = 10
_log = structlog.get_logger()


def digest(token: str) -> str:
    """What is stored of a token. Tokens are 256 random bits, so a plain digest cannot be guessed back."""
    return hashlib.sha256(token.encode()).hexdigest()


def new_token(purpose: str) -> str:
    """A token that says what it is for, so that one that leaked is recognised: `kuppel-api-…`."""
    return f"kuppel-{purpose}-{secrets.token_urlsafe(32)}"


class SignInRefused(Exception):
    """Wrong name or password; which of them is not told."""


class SignInWaits(Exception):
    """Too many wrong passwords: the next try may come after `wait_s`."""

    def __init__(self, wait_s: int) -> None:
        self.wait_s = wait_s
        super().__init__(f"wait {wait_s} s")


class TokenRefused(Exception):
    """A token that may not be used: whose it is or was, as far as that is known, and why."""

    def __init__(self, actor: str, why: str) -> None:
        self.actor = actor
        self.why = why
        super().__init__(why)


@dataclass(frozen=True, slots=True)
class Caller:
    """Whoever is calling, for the guard and the record. `session` is the digest of a person's session."""

    kind: str
    name: str
    address: str
    scopes: frozenset[Scope] = frozenset()
    person: Person | None = None
    session: str | None = None
    vantage_point_id: int | None = None


@dataclass(slots=True)
class _Refusals:
    since: float = 0.0
    count: int = 0


@dataclass(slots=True)
class _Use:
    """When a session or token was last seen in use, ahead of the store."""

    times: dict[str, int] = field(default_factory=dict)

    def is_due(self, key: str, now_us: int) -> bool:
        if now_us - self.times.get(key, 0) < _NOTE_USE_EVERY_US:
            return False
        if len(self.times) > 10_000:
            self.times.clear()
        self.times[key] = now_us
        return True


class Access:
    """Recognises callers, lets people in, and records who was refused."""

    def __init__(self, database: Database, writer: Writer, life: SessionLife) -> None:
        self._database = database
        self._writer = writer
        self._life = life
        self._uses = _Use()
        self._refusals: dict[str, _Refusals] = {}
        self._lock = threading.Lock()

    def by_session(self, name: str, address: str, now_us: int) -> Caller | None:
        """The person of a session that is still good, whose use it notes."""
        key = digest(name)
        with self._database.reading() as connection:
            session = people.session(connection, key)
        if session is None:
            return None
        # What is in memory may be newer than what was stored of it.
        used_us = max(session.used_us, self._uses.times.get(key, 0))
        if now_us >= self._life.ends_us(session.created_us, used_us):
            self._writer.write(lambda connection: people.end_session(connection, key))
            return None
        if self._uses.is_due(key, now_us):
            self._writer.write(lambda connection: people.note_session_use(connection, key, now_us))
        who = session.person
        return Caller("person", who.name, address, SCOPES[who.role], who, key)

    def by_api_token(self, token: str, address: str, now_us: int) -> Caller:
        """The program that shows a good token.

        Raises
        ------
        TokenRefused
        """
        with self._database.reading() as connection:
            found = tokens.api_token_by_digest(connection, digest(token))
        if found is None:
            raise TokenRefused("", "there is no such token")
        why = found.state.refusal(now_us) if found.owner.is_active else "its owner was shut out"
        if why is not None:
            raise TokenRefused(found.name, why)
        if self._uses.is_due(f"token {found.id}", now_us):
            self._writer.write(lambda connection: tokens.note_api_token_use(connection, found.id, now_us))
        scopes = token_scopes(found.scopes, found.owner.role)
        return Caller("token", f"{found.name} of {found.owner.name}", address, scopes, found.owner)

    def by_agent_token(self, token: str, address: str) -> Caller:
        """The agent that shows a good token.

        Raises
        ------
        TokenRefused
        """
        with self._database.reading() as connection:
            point = inventory.vantage_point_by_token(connection, digest(token))
        if point is None:
            raise TokenRefused("", "it is not, or no longer, an agent's")
        return Caller("agent", point.name, address, vantage_point_id=point.id)

    def sign_in(self, name: str, password: str, address: str, now_us: int, before: str | None) -> tuple[str, Person]:
        """A new session for the right name and password.

        Parameters
        ----------
        before : the session that the browser still shows; it ends, so that none is carried over a sign-in.

        Raises
        ------
        SignInWaits, SignInRefused
        """
        found = self.confirm(name, password, address, now_us)
        session = secrets.token_urlsafe(32)
        self._writer.write(lambda connection: _let_in(connection, found, digest(session), address, now_us, before))
        return session, found

    def confirm(self, name: str, password: str, address: str, now_us: int) -> Person:
        """The person to whom name and password belong.

        Raises
        ------
        SignInWaits, SignInRefused
        """
        with self._database.reading() as connection:
            found = people.person_named(connection, name)
            failures = people.failures(connection, name)
        waits_us = wait_us(failures, now_us)
        if waits_us:
            raise SignInWaits(-(-waits_us // 1_000_000))
        is_known = found is not None and found.is_active
        if not passwords.is_right(password, found.password_hash if found and is_known else None):
            self._writer.write(lambda connection: people.note_failure(connection, name, address, now_us))
            self.note_refusal(Entry(now_us, "person", name, address, "refused", "a wrong name or password"))
            raise SignInRefused
        assert found is not None  # or the password could not be right
        return found

    def note_refusal(self, entry: Entry) -> None:
        """Record a refusal, unless its address was refused too often in this minute."""
        _log.warning("refused", actor=entry.actor, address=entry.address, subject=entry.subject)
        with self._lock:
            if len(self._refusals) > 1000:
                self._refusals.clear()
            refusals = self._refusals.setdefault(entry.address, _Refusals())
            now = time.monotonic()
            if now - refusals.since > 60:
                refusals.since, refusals.count = now, 0
            refusals.count += 1
            if refusals.count > _REFUSALS_A_MINUTE:
                return
        self._writer.write(lambda connection: record.add_entry(connection, entry))


def _let_in(
    connection: Connection,
    who: Person,
    session: str,
    address: str,
    now_us: int,
    before: str | None,
) -> None:
    if before is not None:
        people.end_session(connection, digest(before))
    people.forget_failures(connection, who.name)
    people.open_session(connection, who.id, session, address, now_us)
    record.add_entry(connection, Entry(now_us, "person", who.name, address, "signed in", f"as {who.role}"))


def add_first_admin(writer: Writer, database: Database, now_us: int) -> str | None:
    """At the first start, an admin with a one-time password, which is returned; None when there are people already."""
    with database.reading() as connection:
        if people.people(connection):
            return None
    password = passwords.one_time_password()
    made = passwords.hashed(password)

    def job(connection: Connection) -> None:
        who = people.add_person(connection, "admin", "Admin", Role.ADMIN, made, now_us, must_change=True)
        record.add_entry(
            connection, Entry(now_us, "hub", "first start", "", "added", f"person {who.name}", None, {"role": who.role})
        )

    writer.write(job)
    return password


def reset_password(writer: Writer, name: str, now_us: int) -> str | None:
    """A one-time password for the person of that name, by the command line; None when there is nobody of that name."""
    password = passwords.one_time_password()
    made = passwords.hashed(password)

    def job(connection: Connection) -> bool:
        who = people.person_named(connection, name)
        if who is None:
            return False
        people.set_password(connection, who.id, made, must_change=True)
        record.add_entry(connection, Entry(now_us, "command line", "", "", "reset the password of", f"person {who.name}"))
        return True

    return password if writer.write(job) else None


def make_enrolment_token(writer: Writer, kind: str, most_uses: int, lasts_us: int, now_us: int) -> str:
    """An enrolment token by the command line; it is shown this once."""
    secret = new_token("join")
    wanted = EnrolmentToken(
        id=0,
        name="",
        made_by="",
        kind=kind,
        place="",
        tags=(),
        vantage_point_id=None,
        most_uses=most_uses,
        uses=0,
        created_us=now_us,
        expires_us=now_us + lasts_us,
        withdrawn_us=None,
    )

    def job(connection: Connection) -> None:
        made = tokens.add_enrolment_token(connection, wanted, None, digest(secret))
        told = {"kind": kind, "most_uses": most_uses}
        record.add_entry(
            connection, Entry(now_us, "command line", "", "", "made", f"enrolment token {made.id}", None, told)
        )

    writer.write(job)
    return secret

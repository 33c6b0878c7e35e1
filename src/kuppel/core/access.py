"""Who may do what: roles, scopes, passwords, how long a session lasts, and how long to wait after wrong passwords."""

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass
from enum import StrEnum

from kuppel.core.duration import MINUTE_US, SECOND_US
from kuppel.core.error import SettingsError

# NIST SP 800-63B-4 §3.1.1.2: a password that is the only factor has at least 15 characters; no rules of composition.
LEAST_CHARACTERS = 15
# OWASP Authentication Cheat Sheet: allow long ones (64 at least), yet bound the work of hashing them.
MOST_CHARACTERS = 128
_LEAST_DIFFERENT = 6

# After so many wrong passwords within the memory, each further one makes the next try wait twice as long.
FREE_TRIES = 5
_FIRST_WAIT_US = 30 * SECOND_US
_LONGEST_WAIT_US = 15 * MINUTE_US
FAILURE_MEMORY_US = 60 * MINUTE_US


class Scope(StrEnum):
    """What may be done: look, change what is measured and handle what it shows, administer people, tokens and settings."""

    SEE = "see"
    EDIT = "edit"
    ADMINISTER = "administer"


class Role(StrEnum):
    READER = "reader"
    ENGINEER = "engineer"
    ADMIN = "admin"


SCOPES: Mapping[Role, frozenset[Scope]] = {
    Role.READER: frozenset({Scope.SEE}),
    Role.ENGINEER: frozenset({Scope.SEE, Scope.EDIT}),
    Role.ADMIN: frozenset(Scope),
}


def token_scopes(granted: Iterable[Scope], owner: Role) -> frozenset[Scope]:
    """What a token may do now: what it was given, but never more than its owner may at this moment.

    >>> sorted(token_scopes([Scope.SEE, Scope.ADMINISTER], Role.ENGINEER))
    [<Scope.SEE: 'see'>]
    """
    return frozenset(granted) & SCOPES[owner]


def check_password(password: str, name: str) -> None:
    """Raise `SettingsError` unless the password may be used by the person of that name.

    References
    ----------
    NIST SP 800-63B-4 §3.1.1.2 (length, no composition rules, no names); OWASP Authentication Cheat Sheet.
    """
    # The value is not told back: what was nearly a password is a secret, too.
    if len(password) < LEAST_CHARACTERS:
        raise SettingsError(
            "password", "too short", f"have at least {LEAST_CHARACTERS} characters; a short sentence will do"
        )
    if len(password) > MOST_CHARACTERS:
        raise SettingsError("password", "too long", f"have at most {MOST_CHARACTERS} characters")
    if len(set(password)) < _LEAST_DIFFERENT:
        raise SettingsError("password", "too simple", f"have at least {_LEAST_DIFFERENT} different characters")
    if name.lower() in password.lower():
        raise SettingsError("password", "holds the name", "not hold the person's name")


def wait_us(failures_us: Sequence[int], now_us: int) -> int:
    """How long the next try of a name must still wait, in microseconds; 0 when it may come now.

    Parameters
    ----------
    failures_us : times of wrong passwords since the last right one, any order; those past the memory do not count.

    Notes
    -----
    Waiting grows instead of the account being locked, so that nobody can lock another out for good (OWASP Authentication
    Cheat Sheet, "Account Lockout": a threshold, an observation window, an exponential lockout duration).

    Examples
    --------
    >>> wait_us([0] * 4, 0), wait_us([0] * 5, 0), wait_us([0] * 6, 0)
    (0, 30000000, 60000000)
    """
    recent = [one for one in failures_us if now_us - one < FAILURE_MEMORY_US]
    over = len(recent) - FREE_TRIES
    if over < 0:
        return 0
    # 2**12 is far beyond the longest wait; more would only make large numbers.
    lasts = min(_LONGEST_WAIT_US, _FIRST_WAIT_US << min(over, 12))
    return max(0, max(recent) + lasts - now_us)


@dataclass(frozen=True, slots=True)
class SessionLife:
    """How long a session lasts unused, and at all (OWASP Session Management Cheat Sheet: idle and absolute timeout)."""

    idle_us: int
    absolute_us: int

    def ends_us(self, created_us: int, used_us: int) -> int:
        """When a session ends if it is not used again."""
        return min(used_us + self.idle_us, created_us + self.absolute_us)


@dataclass(frozen=True, slots=True)
class TokenState:
    """What decides whether a token may still be used. `most_uses` 0 is any number."""

    expires_us: int | None
    is_withdrawn: bool
    uses: int = 0
    most_uses: int = 0

    def refusal(self, now_us: int) -> str | None:
        """Why it may not be used, in words; None when it may."""
        if self.is_withdrawn:
            return "it was withdrawn"
        if self.expires_us is not None and now_us >= self.expires_us:
            return "it has expired"
        if self.most_uses and self.uses >= self.most_uses:
            return "it was used already" if self.most_uses == 1 else f"it was used for all its {self.most_uses} machines"
        return None

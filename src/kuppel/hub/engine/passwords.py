"""Passwords: hashed with argon2id, one-time ones drawn, none ever stored or logged."""

import secrets
import threading

from argon2 import PasswordHasher, Type
from argon2.exceptions import InvalidHashError, VerificationError
from argon2.profiles import RFC_9106_LOW_MEMORY

# Words of four letters or so would be friendlier, but a list of them is one more file to keep: five groups of four.
_ALPHABET = "abcdefghijkmnpqrstuvwxyz23456789"
_GROUPS, _GROUP_LENGTH = 5, 4

# RFC 9106 §4, second recommended option: argon2id, t = 3 passes, p = 4 lanes, m = 64 MiB; OWASP Password Storage asks less.
_HASHER = PasswordHasher.from_parameters(RFC_9106_LOW_MEMORY)
# Each takes 64 MiB and a core for a tenth of a second: a flood of tries may not take the whole machine.
_AT_ONCE = threading.BoundedSemaphore(2)


def hashed(password: str) -> str:
    """The encoded argon2id hash, which names its own parameters and salt."""
    assert _HASHER.type is Type.ID
    with _AT_ONCE:
        return _HASHER.hash(password)


# What is compared when a name is not known, so that the answer takes as long as for one that is.
_NOBODY = hashed(secrets.token_urlsafe(16))


def is_right(password: str, stored: str | None) -> bool:
    """Whether the password belongs to the hash; without a hash it is compared all the same, and wrong."""
    with _AT_ONCE:
        try:
            _HASHER.verify(stored or _NOBODY, password)
        except (VerificationError, InvalidHashError):
            return False
    return stored is not None


def one_time_password() -> str:
    """A random password of 20 characters (100 bits) that can be read aloud."""
    groups = ("".join(secrets.choice(_ALPHABET) for _ in range(_GROUP_LENGTH)) for _ in range(_GROUPS))
    return "-".join(groups)

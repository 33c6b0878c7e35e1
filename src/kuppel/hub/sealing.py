"""Secrets at rest: sealed with a key that lies in a file of its own, so that a stolen database alone is worth nothing."""

import os
from pathlib import Path
from typing import Any

import orjson
from cryptography.exceptions import InvalidTag
from cryptography.hazmat.primitives.ciphers.aead import AESGCM

_KEY_BYTES = 32
_NONCE_BYTES = 12


class KeyUnusable(Exception):
    """The key file is missing, damaged or another one; the message says what to do."""


class Sealer:
    """AES-256 in Galois/counter mode (NIST SP 800-38D), a fresh random nonce for each seal.

    What is sealed is bound to its purpose: a seal made for one purpose does not open as another.
    """

    def __init__(self, key: bytes) -> None:
        self._cipher = AESGCM(key)

    def seal(self, secret: Any, purpose: str) -> bytes:
        nonce = os.urandom(_NONCE_BYTES)
        return nonce + self._cipher.encrypt(nonce, orjson.dumps(secret), purpose.encode())

    def unseal(self, sealed: bytes, purpose: str) -> Any:
        """What was sealed.

        Raises
        ------
        KeyUnusable
            when it was sealed with another key, for another purpose, or was damaged.
        """
        try:
            return orjson.loads(self._cipher.decrypt(sealed[:_NONCE_BYTES], sealed[_NONCE_BYTES:], purpose.encode()))
        except InvalidTag:
            raise KeyUnusable(
                "Stored credentials do not open with this hub's key file. Put back the file `secret-key` that belongs to"
                " this database, or enter the credentials of its probes anew."
            ) from None


def kept_key(path: Path) -> bytes:
    """The key of that file; made at the first start, readable by its owner alone.

    Raises
    ------
    KeyUnusable
        when others may read it, or it is not a key.
    """
    try:
        descriptor = os.open(path, os.O_WRONLY | os.O_CREAT | os.O_EXCL, 0o600)
    except FileExistsError:
        pass
    else:
        with os.fdopen(descriptor, "w") as file:
            file.write(os.urandom(_KEY_BYTES).hex() + "\n")
    if path.stat().st_mode & 0o077:
        raise KeyUnusable(f"Others may read the key file {path}. Take that away: chmod 600 {path}")
    try:
        key = bytes.fromhex(path.read_text().strip())
    except ValueError:
        key = b""
    if len(key) != _KEY_BYTES:
        raise KeyUnusable(f"{path} is not a key of Kuppel's. Put back the one that belongs to this database.")
    return key

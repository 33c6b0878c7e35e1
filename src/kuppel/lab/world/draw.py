"""Randomness that depends on nothing but its key: the same seed, the same world."""

import hashlib

import numpy as np

Generator = np.random.Generator


def generator(*key: object) -> Generator:
    """A generator for one purpose, by the seed and whatever names the purpose."""
    return np.random.Generator(np.random.PCG64DXSM(_number(*key)))


def uniform(*key: object) -> float:
    """One number in [0, 1)."""
    return (_number(*key) >> 11) / 2**53


def _number(*key: object) -> int:
    digest = hashlib.blake2b(repr(key).encode(), digest_size=8).digest()
    return int.from_bytes(digest, "big")

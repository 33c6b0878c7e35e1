"""One column of one stream's day as a compressed block, and back.

    1 octet codec | 4 octets CRC-32 of codec and body | body, packed with zstd

| codec   | body                                                                                                      |
| ------- | --------------------------------------------------------------------------------------------------------- |
| times   | first time, first step, then differences of steps: zigzag, byte-shuffled                                    |
| decimal | number of decimals, presence, then the values as integers (plain or as differences): zigzag, byte-shuffled  |
| float   | presence, then each value XORed with the one before, byte-shuffled                                          |
| codes   | one octet a run                                                                                           |
| bodies  | one JSON document for all runs                                                                            |
| hours   | summaries of the day's hours, see `store.summary`                                                           |

All are lossless: what cannot be written as decimals exactly is kept as floats. Presence says which runs of the day have the
value; it is left out when all have it. A block that fails its checksum is damaged; its neighbours are not touched by that.
"""

import zlib
from typing import Any

import numpy as np
import orjson
import zstandard
from numpy.typing import NDArray

from kuppel.core.series import FloatArray, IntArray

_TIMES, _DECIMAL, _FLOAT, _CODES, _BODIES, _HOURS = range(1, 7)
_LEVEL = 3
_BODY_LEVEL = 9
_MOST_DECIMALS = 6
# Integers up to here are exact in a double.
_EXACT = 2.0**52


class BlockDamaged(Exception):
    """A block fails its checksum or cannot be read."""


def encode_times(times_us: IntArray) -> bytes:
    """Times in rising order, µs."""
    steps = np.diff(times_us)
    seconds = np.diff(steps)
    head = np.array([times_us.size, times_us[0] if times_us.size else 0, steps[0] if steps.size else 0], dtype="<i8")
    return _packed(_TIMES, head.tobytes() + _shuffled(_zigzag(seconds)))


def decode_times(block: bytes) -> IntArray:
    body = _unpacked(_TIMES, block)
    size, first, step = (int(one) for one in np.frombuffer(body, "<i8", 3))
    if size < 2:
        return np.full(size, first, dtype=np.int64)
    seconds = _unzigzag(_unshuffled(body[24:], size - 2))
    steps = step + np.concatenate([[0], np.cumsum(seconds)])
    return np.concatenate([[first], first + np.cumsum(steps)]).astype(np.int64)


def encode_values(values: FloatArray) -> bytes:
    """Values of every run of the day, NaN where a run has none."""
    present = ~np.isnan(values)
    kept = values[present]
    presence = b"\1" if present.all() else b"\0" + np.packbits(present).tobytes()
    head = np.array([values.size], dtype="<i8").tobytes() + presence
    decimals = _decimals(kept)
    if decimals is None:
        words = kept.view(np.uint64)
        crossed = words ^ np.concatenate([np.zeros(1, np.uint64), words[:-1]]) if words.size else words
        return _packed(_FLOAT, head + _shuffled(crossed))
    integers = np.round(kept * 10.0**decimals).astype(np.int64)
    plain = _packed(_DECIMAL, head + bytes([decimals, 0]) + _shuffled(_zigzag(integers)))
    steps = _packed(_DECIMAL, head + bytes([decimals, 1]) + _shuffled(_zigzag(np.diff(integers, prepend=0))))
    return min(plain, steps, key=len)


def decode_values(block: bytes) -> FloatArray:
    body = _unpacked((_DECIMAL, _FLOAT), block)
    size = int(np.frombuffer(body, "<i8", 1)[0])
    present = np.ones(size, dtype=bool)
    at = 9
    if not body[8]:
        octets = -(-size // 8)
        present = np.unpackbits(np.frombuffer(body, np.uint8, octets, at), count=size).astype(bool)
        at += octets
    count = int(present.sum())
    values = np.full(size, np.nan)
    if block[0] == _FLOAT:
        values[present] = np.bitwise_xor.accumulate(_unshuffled(body[at:], count)).view(np.float64)
        return values
    decimals, is_steps = body[at], body[at + 1]
    integers = _unzigzag(_unshuffled(body[at + 2 :], count))
    values[present] = (np.cumsum(integers) if is_steps else integers) / 10.0**decimals
    return values


def encode_codes(codes: NDArray[np.uint8]) -> bytes:
    return _packed(_CODES, codes.tobytes())


def decode_codes(block: bytes) -> NDArray[np.uint8]:
    return np.frombuffer(_unpacked(_CODES, block), np.uint8)


def encode_bodies(bodies: list[Any]) -> bytes:
    """What explains the runs, one entry a run: the more alike they are, the smaller."""
    return _packed(_BODIES, orjson.dumps(bodies), _BODY_LEVEL)


def decode_bodies(block: bytes) -> list[Any]:
    found: list[Any] = orjson.loads(_unpacked(_BODIES, block))
    return found


def packed_hours(body: bytes) -> bytes:
    return _packed(_HOURS, body)


def unpacked_hours(block: bytes) -> bytes:
    return _unpacked(_HOURS, block)


def _decimals(values: FloatArray) -> int | None:
    """The fewest decimals that write every value exactly; None when none do."""
    if not np.isfinite(values).all():
        return None
    for decimals in range(_MOST_DECIMALS + 1):
        scaled = np.round(values * 10.0**decimals)
        if np.abs(scaled).max(initial=0) >= _EXACT:
            return None
        # −0.0 equals 0.0 but is another number.
        if np.array_equal((scaled / 10.0**decimals).view(np.uint64), values.view(np.uint64)):
            return decimals
    return None


def _zigzag(values: IntArray) -> NDArray[np.uint64]:
    return ((values << 1) ^ (values >> 63)).view(np.uint64)


def _unzigzag(values: NDArray[np.uint64]) -> IntArray:
    return ((values >> np.uint64(1)) ^ (np.uint64(0) - (values & np.uint64(1)))).view(np.int64)


def _shuffled(words: NDArray[np.uint64]) -> bytes:
    """Octets of equal weight together, and only as many as the largest word needs."""
    octets = words.astype("<u8").view(np.uint8).reshape(-1, 8)
    width = int(np.flatnonzero(octets.any(axis=0)).max(initial=-1)) + 1
    return bytes([width]) + octets[:, :width].T.tobytes()


def _unshuffled(body: bytes, count: int) -> NDArray[np.uint64]:
    width = body[0]
    if len(body) != 1 + width * count:
        raise BlockDamaged("its length does not fit its count")
    octets = np.zeros((count, 8), np.uint8)
    octets[:, :width] = np.frombuffer(body, np.uint8, width * count, 1).reshape(width, count).T
    return octets.reshape(-1).view("<u8").astype(np.uint64)


def _packed(codec: int, body: bytes, level: int = _LEVEL) -> bytes:
    packed = zstandard.ZstdCompressor(level=level, write_checksum=False).compress(body)
    kind = bytes([codec])
    return kind + zlib.crc32(kind + packed).to_bytes(4, "little") + packed


def _unpacked(codecs: int | tuple[int, ...], block: bytes) -> bytes:
    wanted = codecs if isinstance(codecs, tuple) else (codecs,)
    if (
        len(block) < 5
        or block[0] not in wanted
        or zlib.crc32(block[:1] + block[5:]) != int.from_bytes(block[1:5], "little")
    ):
        raise BlockDamaged("its checksum does not fit")
    return zstandard.ZstdDecompressor().decompress(block[5:])

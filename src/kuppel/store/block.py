"""One column of one stream's day as a compressed block, and back.

    1 octet codec | 4 octets CRC-32 of codec and body | body, packed with zstd

| codec   | body                                                                                                      |
| ------- | --------------------------------------------------------------------------------------------------------- |
| times   | first time, first step, then differences of steps: zigzag, byte-shuffled                                    |
| slots   | slots of a schedule (zigzag, byte-shuffled), and how far each time lies beside its slot, in bit planes       |
| decimal | number of decimals, presence, then the values as integers (plain or as differences): zigzag, byte-shuffled  |
| planes  | number of decimals, presence, least value, then how far each lies above it, in bit planes                   |
| float   | presence, then each value XORed with the one before, byte-shuffled                                          |
| codes   | one octet a run                                                                                           |
| bodies  | one JSON document for all runs                                                                            |
| hours   | summaries of the day's hours, see `store.summary`                                                           |

Of several codecs that fit, the shortest is taken. Bit planes (all highest bits, all next ones, …) cost noise no more than
its own bits: what a whole number of octets would add stays away, and planes that hardly vary are packed to nothing.

All are lossless: what cannot be written as decimals exactly is kept as floats. Presence says which runs of the day have the
value; it is left out when all have it. A block that fails its checksum is damaged; its neighbours are not touched by that.
"""

import zlib
from functools import lru_cache
from typing import Any, TypeVar

import numpy as np
import orjson
import zstandard
from numpy.typing import NDArray

from kuppel.core.series import FloatArray, IntArray

_TIMES, _DECIMAL, _FLOAT, _CODES, _BODIES, _OLD_HOURS, _HOURS, _SLOTS, _PLANES = range(1, 10)
_LEVEL = 3
_BODY_LEVEL = 9
# A tenth smaller than at level 3, for a fifth of a millisecond; level 19 takes ten times as long for 2 % more.
_HOURS_LEVEL = 12
_MOST_DECIMALS = 6
# Integers up to here are exact in a double.
_EXACT = 2.0**52
# The last days of the streams that somebody looks at; 4 kB each, or about.
_REMEMBERED = 4096
Column = TypeVar("Column", IntArray, FloatArray)


class BlockDamaged(Exception):
    """A block fails its checksum or cannot be read."""


def encode_times(times_us: IntArray) -> bytes:
    """Times in rising order, µs."""
    steps = np.diff(times_us)
    seconds = np.diff(steps)
    head = np.array([times_us.size, times_us[0] if times_us.size else 0, steps[0] if steps.size else 0], dtype="<i8")
    candidates = [_packed(_TIMES, head.tobytes() + _shuffled(_zigzag(seconds)))]
    usual = float(np.median(steps)) if steps.size else 0.0
    if usual >= 1:
        candidates.append(_encode_slots(times_us, np.round(steps / usual).astype(np.int64)))
    return min(candidates, key=len)


def _encode_slots(times_us: IntArray, jumps: IntArray) -> bytes:
    """Times by a schedule: how many slots each lies after the one before, and what is left over."""
    slots = np.concatenate([[0], np.cumsum(jumps)])
    width = round((times_us[-1] - times_us[0]) / max(1, slots[-1]))
    beside = times_us - times_us[0] - slots * width
    head = np.array([times_us.size, times_us[0], width, beside.min()], dtype="<i8")
    slotted = _shuffled(_zigzag(jumps - 1))
    return _packed(_SLOTS, head.tobytes() + slotted + _in_planes((beside - beside.min()).view(np.uint64)))


def _decode_slots(body: bytes) -> IntArray:
    size, first, width, least = (int(one) for one in np.frombuffer(body, "<i8", 4))
    end = 33 + body[32] * (size - 1)
    jumps = _unzigzag(_unshuffled(body[32:end], size - 1)) + 1
    slots = np.concatenate([[0], np.cumsum(jumps)])
    return (first + least + slots * width + _from_planes(body[end:], size).view(np.int64)).astype(np.int64)


@lru_cache(maxsize=_REMEMBERED)
def decode_times(block: bytes) -> IntArray:
    """Not to be written to: who asks for the same block again gets the same array."""
    return _fixed(_times(block))


def _times(block: bytes) -> IntArray:
    body = _unpacked((_TIMES, _SLOTS), block)
    if block[0] == _SLOTS:
        return _decode_slots(body)
    size, first, step = (int(one) for one in np.frombuffer(body, "<i8", 3))
    if size < 2:
        return np.full(size, first, dtype=np.int64)
    seconds = _unzigzag(_unshuffled(body[24:], size - 2))
    steps = step + np.concatenate([[0], np.cumsum(seconds)])
    return np.concatenate([[first], first + np.cumsum(steps)]).astype(np.int64)


def encode_values(values: FloatArray, *, is_quick: bool = False) -> bytes:
    """Values of every run of the day, NaN where a run has none. In haste, not all ways to write them are tried."""
    return min((_packed(codec, body) for codec, body in _value_bodies(values, is_quick=is_quick)), key=len)


@lru_cache(maxsize=_REMEMBERED)
def decode_values(block: bytes) -> FloatArray:
    """Not to be written to, as those of `decode_times`."""
    return _fixed(_values(block[0], _unpacked((_DECIMAL, _FLOAT, _PLANES), block)))


def _fixed(values: Column) -> Column:
    values.flags.writeable = False
    return values


def plain_values(values: FloatArray, *, is_quick: bool = False) -> bytes:
    """Values as a part of a larger block: a codec octet and the body, neither packed nor checked."""
    return min((bytes([codec]) + body for codec, body in _value_bodies(values, is_quick=is_quick)), key=len)


def from_plain_values(body: bytes) -> FloatArray:
    return _values(body[0], body[1:])


def _value_bodies(values: FloatArray, *, is_quick: bool) -> list[tuple[int, bytes]]:
    """The ways to write these values: codec and body. In haste only the one that suits most of what is measured."""
    present = ~np.isnan(values)
    kept = values[present]
    presence = b"\1" if present.all() else b"\0" + np.packbits(present).tobytes()
    head = np.array([values.size], dtype="<i8").tobytes() + presence
    decimals = _decimals(kept)
    if decimals is None:
        words = kept.view(np.uint64)
        crossed = words ^ np.concatenate([np.zeros(1, np.uint64), words[:-1]]) if words.size else words
        return [(_FLOAT, head + _shuffled(crossed))]
    integers = np.round(kept * 10.0**decimals).astype(np.int64)
    least = int(integers.min()) if integers.size else 0
    offset = np.array([least], dtype="<i8").tobytes() + _in_planes((integers - least).view(np.uint64))
    in_planes = (_PLANES, head + bytes([decimals]) + offset)
    if is_quick:
        return [in_planes]
    return [
        (_DECIMAL, head + bytes([decimals, 0]) + _shuffled(_zigzag(integers))),
        (_DECIMAL, head + bytes([decimals, 1]) + _shuffled(_zigzag(np.diff(integers, prepend=0)))),
        in_planes,
    ]


def _values(codec: int, body: bytes) -> FloatArray:
    size = int(np.frombuffer(body, "<i8", 1)[0])
    present = np.ones(size, dtype=bool)
    at = 9
    if not body[8]:
        octets = -(-size // 8)
        present = np.unpackbits(np.frombuffer(body, np.uint8, octets, at), count=size).astype(bool)
        at += octets
    count = int(present.sum())
    values = np.full(size, np.nan)
    if codec == _FLOAT:
        values[present] = np.bitwise_xor.accumulate(_unshuffled(body[at:], count)).view(np.float64)
        return values
    if codec == _PLANES:
        least = int(np.frombuffer(body, "<i8", 1, at + 1)[0])
        values[present] = (_from_planes(body[at + 9 :], count).view(np.int64) + least) / 10.0 ** body[at]
        return values
    decimals, is_steps = body[at], body[at + 1]
    integers = _unzigzag(_unshuffled(body[at + 2 :], count))
    values[present] = (np.cumsum(integers) if is_steps else integers) / 10.0**decimals
    return values


def encode_codes(codes: NDArray[np.uint8]) -> bytes:
    return _packed(_CODES, codes.tobytes())


@lru_cache(maxsize=_REMEMBERED)
def decode_codes(block: bytes) -> NDArray[np.uint8]:
    return np.frombuffer(_unpacked(_CODES, block), np.uint8)


def encode_bodies(bodies: list[Any], *, is_quick: bool = False) -> bytes:
    """What explains the runs, one entry a run: the more alike they are, the smaller."""
    return _packed(_BODIES, orjson.dumps(bodies), _LEVEL if is_quick else _BODY_LEVEL)


def decode_bodies(block: bytes) -> list[Any]:
    found: list[Any] = orjson.loads(_unpacked(_BODIES, block))
    return found


def packed_hours(body: bytes, *, is_quick: bool = False) -> bytes:
    return _packed(_HOURS, body, _LEVEL if is_quick else _HOURS_LEVEL)


def unpacked_hours(block: bytes) -> bytes:
    return _unpacked(_HOURS, block)


def _decimals(values: FloatArray) -> int | None:
    """The fewest decimals that write every value exactly; None when none do."""
    if not np.isfinite(values).all():
        return None
    for decimals in range(_decimals_of_one(float(values[0])) if values.size else 0, _MOST_DECIMALS + 1):
        with np.errstate(over="ignore"):  # too large for integers, then
            scaled = np.round(values * 10.0**decimals)
        if np.abs(scaled).max(initial=0) >= _EXACT:
            return None
        # By way of integers, as they will be read back: −0.0 equals 0.0 but is another number, which no integer is.
        if np.array_equal((scaled.astype(np.int64) / 10.0**decimals).view(np.uint64), values.view(np.uint64)):
            return decimals
    return None


def _decimals_of_one(value: float) -> int:
    """The fewest decimals that write one value exactly: no column that holds it does with fewer."""
    return next((decimals for decimals in range(_MOST_DECIMALS) if round(value, decimals) == value), _MOST_DECIMALS)


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


def _in_planes(words: NDArray[np.uint64]) -> bytes:
    """Bits of equal weight together, and only as many as the largest word needs."""
    width = int(words.max(initial=0)).bit_length()
    weights = np.arange(width, dtype=np.uint64)[::-1, None]
    bits = (words >> weights).astype(np.uint8) & 1
    return bytes([width]) + np.packbits(bits, axis=1).tobytes()


def _from_planes(body: bytes, count: int) -> NDArray[np.uint64]:
    width, octets = body[0], -(-count // 8)
    if len(body) != 1 + width * octets:
        raise BlockDamaged("its length does not fit its count")
    planes = np.frombuffer(body, np.uint8, width * octets, 1).reshape(width, octets)
    words = np.zeros(count, np.uint64)
    for bits in np.unpackbits(planes, axis=1, count=count):
        words = (words << np.uint64(1)) | bits
    return words


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

"""Writing Apache Parquet files: columns of flat tables, row group after row group, bytes out.

The file is `PAR1`, row groups, the footer (FileMetaData in Thrift's compact protocol), its length, `PAR1`. Each column of a
row group is one data page (version 1) with values in PLAIN encoding, packed with zstd; optional columns begin with their
definition levels. References: Apache Parquet Format 2.10 (README, Encodings, LogicalTypes, parquet.thrift) and the Thrift
compact protocol specification.
"""

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass
from enum import Enum

import numpy as np
import zstandard
from numpy.typing import NDArray

MAGIC = b"PAR1"
_ZSTD = 6
_PLAIN, _RLE = 0, 3
_LEVEL = 3

# Types of the compact protocol.
_TRUE, _FALSE, _I32, _I64, _BINARY, _LIST, _STRUCT = 1, 2, 5, 6, 8, 9, 12


class Kind(Enum):
    """What a column holds; the value is the physical type in parquet.thrift."""

    BOOLEAN = 0
    TIME_US = 2
    DOUBLE = 5
    TEXT = 6


@dataclass(frozen=True, slots=True)
class Column:
    """`is_optional` columns may lack values: NaN for numbers, None for texts."""

    name: str
    kind: Kind
    is_optional: bool = False


Values = NDArray[np.int64] | NDArray[np.float64] | NDArray[np.bool_] | Sequence[str | None]


class Writer:
    """Makes one file: `begin`, any number of `row_group`, `end`; what they return is to be written one after another."""

    def __init__(self, columns: Sequence[Column], notes: Mapping[str, str] | None = None) -> None:
        self._columns = list(columns)
        self._notes = dict(notes or {})
        self._at = 0
        self._rows = 0
        self._groups: list[bytes] = []

    def begin(self) -> bytes:
        self._at = len(MAGIC)
        return MAGIC

    def row_group(self, values: Mapping[str, Values]) -> bytes:
        """One row group; all columns have the same length.

        Raises
        ------
        ValueError
            when a column is missing or of another length.
        """
        lengths = {len(values[one.name]) if one.name in values else -1 for one in self._columns}
        if len(lengths) != 1 or -1 in lengths:
            raise ValueError(f"columns of a row group must all be there with one length, not {sorted(lengths)}")
        (rows,) = lengths
        parts: list[bytes] = []
        chunks: list[bytes] = []
        whole = 0
        for column in self._columns:
            body = _page_body(column, values[column.name])
            packed = zstandard.ZstdCompressor(level=_LEVEL).compress(body)
            head = _page_header(rows, len(body), len(packed))
            sizes = (len(head) + len(body), len(head) + len(packed))
            chunks.append(_chunk(column, rows, sizes, self._at))
            parts += (head, packed)
            whole += sizes[0]
            self._at += sizes[1]
        self._groups.append(_struct((1, _LIST, _list(_STRUCT, chunks)), (2, _I64, whole), (3, _I64, rows)))
        self._rows += rows
        return b"".join(parts)

    def end(self) -> bytes:
        notes = [_struct((1, _BINARY, key), (2, _BINARY, value)) for key, value in self._notes.items()]
        root = _struct((4, _BINARY, "schema"), (5, _I32, len(self._columns)))
        footer = _struct(
            (1, _I32, 1),
            (2, _LIST, _list(_STRUCT, [root, *(_schema(one) for one in self._columns)])),
            (3, _I64, self._rows),
            (4, _LIST, _list(_STRUCT, self._groups)),
            (5, _LIST, _list(_STRUCT, notes)),
            (6, _BINARY, "kuppel"),
        )
        return footer + len(footer).to_bytes(4, "little") + MAGIC


def whole_file(
    columns: Sequence[Column], groups: Iterator[Mapping[str, Values]], notes: Mapping[str, str]
) -> Iterator[bytes]:
    """The pieces of a file, a row group at a time."""
    writer = Writer(columns, notes)
    yield writer.begin()
    for one in groups:
        yield writer.row_group(one)
    yield writer.end()


def _page_body(column: Column, values: Values) -> bytes:
    levels = b""
    if column.is_optional:
        present = _present(column, values)
        levels = _levels(present)
        values = [one for one in values if one is not None] if column.kind is Kind.TEXT else np.asarray(values)[present]
    return levels + _plain(column.kind, values)


def _present(column: Column, values: Values) -> NDArray[np.bool_]:
    if column.kind is Kind.TEXT:
        return np.array([one is not None for one in values], dtype=bool)
    return ~np.isnan(np.asarray(values, dtype=np.float64))


def _levels(present: NDArray[np.bool_]) -> bytes:
    """Definition levels 0 and 1 as one bit-packed run of the RLE/bit-packing hybrid, after their length."""
    groups = -(-present.size // 8)
    run = _varint(groups << 1 | 1) + np.packbits(present, bitorder="little").tobytes()
    return len(run).to_bytes(4, "little") + run


def _plain(kind: Kind, values: Values) -> bytes:
    if kind is Kind.TEXT:
        texts = [str(one).encode() for one in values]
        return b"".join(part for text in texts for part in (len(text).to_bytes(4, "little"), text))
    if kind is Kind.BOOLEAN:
        return np.packbits(np.asarray(values, dtype=bool), bitorder="little").tobytes()
    return np.asarray(values, dtype="<i8" if kind is Kind.TIME_US else "<f8").tobytes()


def _page_header(rows: int, size: int, packed: int) -> bytes:
    data = _struct((1, _I32, rows), (2, _I32, _PLAIN), (3, _I32, _RLE), (4, _I32, _RLE))
    return _struct((1, _I32, 0), (2, _I32, size), (3, _I32, packed), (5, _STRUCT, data))


def _chunk(column: Column, rows: int, sizes: tuple[int, int], at: int) -> bytes:
    encodings = _list(_I32, [_zigzag(_PLAIN), _zigzag(_RLE)])
    meta = _struct(
        (1, _I32, column.kind.value),
        (2, _LIST, encodings),
        (3, _LIST, _list(_BINARY, [_binary(column.name)])),
        (4, _I32, _ZSTD),
        (5, _I64, rows),
        (6, _I64, sizes[0]),
        (7, _I64, sizes[1]),
        (9, _I64, at),
    )
    return _struct((2, _I64, at), (3, _STRUCT, meta))


def _schema(column: Column) -> bytes:
    fields: list[tuple[int, int, object]] = [(1, _I32, column.kind.value), (3, _I32, int(column.is_optional))]
    fields.append((4, _BINARY, column.name))
    if column.kind is Kind.TEXT:
        fields += [(6, _I32, 0), (10, _STRUCT, _struct((1, _STRUCT, _struct())))]
    if column.kind is Kind.TIME_US:
        time = _struct((1, _TRUE, True), (2, _STRUCT, _struct((2, _STRUCT, _struct()))))
        fields += [(6, _I32, 10), (10, _STRUCT, _struct((8, _STRUCT, time)))]
    return _struct(*fields)


def _struct(*fields: tuple[int, int, object]) -> bytes:
    """A struct in the compact protocol: (number, type, value); structs and lists come encoded."""
    parts = []
    before = 0
    for number, kind, value in fields:
        parts.append(bytes([(number - before) << 4 | kind]))
        before = number
        if kind in (_I32, _I64):
            parts.append(_zigzag(int(str(value))))
        elif kind == _BINARY:
            parts.append(_binary(str(value)))
        elif isinstance(value, bytes):
            parts.append(value)
    return b"".join(parts) + b"\0"


def _list(kind: int, encoded: Sequence[bytes]) -> bytes:
    size = len(encoded)
    head = bytes([size << 4 | kind]) if size < 15 else bytes([0xF0 | kind]) + _varint(size)
    return head + b"".join(encoded)


def _binary(text: str) -> bytes:
    encoded = text.encode()
    return _varint(len(encoded)) + encoded


def _zigzag(value: int) -> bytes:
    return _varint(value << 1 if value >= 0 else (-value << 1) - 1)


def _varint(value: int) -> bytes:
    octets = bytearray()
    while value > 0x7F:
        octets.append(value & 0x7F | 0x80)
        value >>= 7
    octets.append(value)
    return bytes(octets)

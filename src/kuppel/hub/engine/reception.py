"""What the hub checks of a batch before it is stored: every result alone, so that one bad result stops no other."""

import itertools
import math
from collections.abc import Mapping
from typing import Any

import orjson
import zstandard
from pydantic import ValidationError

from kuppel.core.duration import DAY_US
from kuppel.core.error import SettingsError
from kuppel.core.quantity import check_unit, rounded
from kuppel.core.result import Attempt, Result
from kuppel.store.intake import NumberedResult
from kuppel.wire.delivery import BATCH_BYTES, RESULTS_PER_BATCH, Batch, DeliveredResult, Refusal

# An agent corrects its clock by the hub's; what is still further ahead than this is not a time of measurement.
FUTURE_US = 5 * 60 * 1_000_000


class BatchTooLarge(Exception):
    """The batch is over a bound; the message names it and the remedy."""


def unpacked(body: bytes, encoding: str) -> bytes:
    """The batch's JSON, however it was packed, never more than `BATCH_BYTES` of it.

    Raises
    ------
    BatchTooLarge, SettingsError
    """
    if encoding == "zstd":
        try:
            with zstandard.ZstdDecompressor().stream_reader(body) as reader:
                body = reader.read(BATCH_BYTES + 1)
        except zstandard.ZstdError:
            raise SettingsError("Content-Encoding", "zstd", "match a body that is packed with zstd") from None
    elif encoding not in ("", "identity"):
        raise SettingsError("Content-Encoding", encoding, "be zstd or identity")
    if len(body) > BATCH_BYTES:
        raise BatchTooLarge(f"A batch may hold {BATCH_BYTES:,} bytes of JSON at most. Send fewer results at a time.")
    return body


def read_batch(body: bytes) -> tuple[Batch, list[Refusal], int]:
    """The batch with its readable results, refusals of the others, and its last sequence number.

    Raises
    ------
    SettingsError
        when the batch as a whole cannot be read: nothing of it is taken.
    BatchTooLarge
        when it holds too many results.
    """
    try:
        batch = Batch.model_validate_json(body)
        refusals: list[Refusal] = []
    except ValidationError:
        batch, refusals = _read_leniently(body)
    results = batch.results
    sequences = [one.sequence for one in results]
    if any(after <= before for before, after in itertools.pairwise(sequences)):
        raise SettingsError("results.sequence", "not rising", "rise from result to result")
    last = max([*sequences, *(one.sequence for one in refusals)], default=0)
    return batch, refusals, last


def _read_leniently(body: bytes) -> tuple[Batch, list[Refusal]]:
    try:
        raw = orjson.loads(body)
    except orjson.JSONDecodeError as error:
        raise SettingsError("body", f"{len(body)} bytes", f"be JSON: {error}") from None
    if not isinstance(raw, dict) or not isinstance(raw.get("results"), list):
        raise SettingsError("body", type(raw).__name__, "be an object with spool, units and results")
    if len(raw["results"]) > RESULTS_PER_BATCH:
        raise BatchTooLarge(
            f"A batch may hold {RESULTS_PER_BATCH} results at most; this one has {len(raw['results'])}. Send fewer."
        )
    try:
        envelope = Batch.model_validate({**raw, "results": []})
    except ValidationError as error:
        raise _first_error(error) from None
    results: list[DeliveredResult] = []
    refusals: list[Refusal] = []
    for one in raw["results"]:
        try:
            results.append(DeliveredResult.model_validate_json(orjson.dumps(one)))
        except ValidationError as error:
            sequence = one.get("sequence") if isinstance(one, dict) else None
            first = _first_error(error)
            if not isinstance(sequence, int) or sequence < 1:
                raise first from None
            refusals.append(Refusal(sequence=sequence, field=first.field, value=first.value[:200], remedy=first.must))
    return envelope.model_copy(update={"results": results}), refusals


def _first_error(error: ValidationError) -> SettingsError:
    first = error.errors(include_url=False)[0]
    field = ".".join(str(part) for part in first["loc"]) or "body"
    return SettingsError(field, str(first.get("input"))[:200], f"be mended: {first['msg'].lower()}")


def checked(
    delivered: list[DeliveredResult], units: Mapping[str, str], own_streams: set[int], now_us: int, keep_days: int
) -> tuple[list[NumberedResult], list[Refusal]]:
    """The results that can be stored, and refusals of the others."""
    good: list[NumberedResult] = []
    refused: list[Refusal] = []
    # Names whose unit was found right, so that each is looked at once a batch.
    known: set[str] = set()
    latest_us, earliest_us = now_us + FUTURE_US, now_us - keep_days * DAY_US
    for one in delivered:
        try:
            if one.stream not in own_streams:
                raise SettingsError("stream", one.stream, "be a stream of this vantage point; fetch the assignment again")
            if one.started_us > latest_us:
                raise SettingsError(
                    "started_us", one.started_us, "not lie in the future; set the agent's clock by the hub's"
                )
            if one.started_us < earliest_us:
                raise SettingsError(
                    "started_us", one.started_us, f"lie within the last {keep_days} days, which is what is kept"
                )
            _check_quantities(one.quantities, units, known)
            good.append(NumberedResult(one.sequence, one.stream, _result(one)))
        except SettingsError as error:
            refused.append(Refusal(sequence=one.sequence, field=error.field, value=error.value, remedy=error.must))
    return good, refused


def _check_quantities(quantities: Mapping[str, float], units: Mapping[str, str], known: set[str]) -> None:
    if not quantities.keys() <= known:
        for name in quantities:
            check_unit(name, units.get(name, "nothing stated"), f"units.{name}")
            known.add(name)
    # A sum is finite only when all of it is; only when it is not, each is looked at.
    if not math.isfinite(sum(quantities.values())):
        for name, value in quantities.items():
            if not math.isfinite(value):
                raise SettingsError(f"quantities.{name}", value, "be a finite number; leave out what was not measured")


def _result(one: DeliveredResult) -> Result:
    attempts = tuple(Attempt(each.started_us, each.duration_us, each.reason, each.note) for each in one.attempts)
    detail: dict[str, Any] = one.detail
    return Result(one.started_us, one.reason, rounded(one.quantities), one.facts, attempts, detail)

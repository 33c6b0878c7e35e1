"""A result as lines of text, for whoever runs a probe by hand."""

from collections.abc import Iterator
from typing import Any

from kuppel.core.quantity import QUANTITIES
from kuppel.core.reason import SENTENCES
from kuppel.core.result import Result
from kuppel.core.sentence import figure
from kuppel.probes.kind import Kind

_WIDTH = 34


def told(kind: Kind, result: Result) -> Iterator[str]:
    """Whether it went well, its figures with their words, what was seen, and what explains it."""
    last = result.attempts[-1]
    tries = "" if len(result.attempts) == 1 else f" at try {len(result.attempts)}"
    if result.reason is None:
        main = QUANTITIES[kind.main]
        value = result.quantities.get(kind.main)
        yield f"{kind.label}: ok{tries}, {main.label} {'not measured' if value is None else figure(value, main.unit)}"
    else:
        yield f"{kind.label}: failed{tries}, {SENTENCES[result.reason]}" + (f" ({last.note})" if last.note else "")
    for name in kind.quantities:
        if name in result.quantities:
            quantity = QUANTITIES[name]
            yield f"  {quantity.label:<{_WIDTH}}  {figure(result.quantities[name], quantity.unit)}"
    for name, text in result.facts.items():
        yield f"  {name.replace('_', ' '):<{_WIDTH}}  {text}"
    yield from _details(dict(result.detail))


def _details(detail: dict[str, Any]) -> Iterator[str]:
    for hop in detail.get("hops", []):
        trip = "no answer" if hop.get("rtt_us") is None else figure(hop["rtt_us"] / 1000, "ms")
        lost = f", {hop['answered']} of {hop['sent']} answered" if hop["answered"] < hop["sent"] else ""
        name = f" ({hop['name']})" if hop.get("name") else ""
        more = "".join(f", label {one}" for one in hop.get("labels", [])) + (f", {hop['note']}" if hop.get("note") else "")
        yield f"  {hop['ttl']:>3}  {hop['address'] or '*'}{name}  {trip}{lost}{more}"
    for step in detail.get("steps", []):
        times = step.get("timings_ms", {})
        ended = step.get("failed") or f"status {step.get('status')}"
        yield f"  {step['number']:>3}  {step['name']}  {figure(times.get('total', 0.0), 'ms')}  {ended}"
    for request in detail.get("failed_requests", []):
        yield f"  failed: {request}"
    for line in detail.get("console", []):
        yield f"  console: {line}"

"""Page load: a whole page in a browser, from the click to a page that can be used (Navigation Timing, Paint Timing,
vitals)."""

from typing import Any

from pydantic import Field, field_validator

from kuppel.core.reason import Reason
from kuppel.core.result import Observation
from kuppel.core.vitals import (
    Stretch,
    cumulative_layout_shift,
    speed_index,
    time_to_interactive,
    total_blocking_time,
    visual_progress,
    visually_complete,
)
from kuppel.probes.kind import Kind, Settings, TimeoutMs
from kuppel.probes.net import Binding, Net, PageLoad, PageLoaded
from kuppel.probes.redirects import covers, web_address


class PageSettings(Settings):
    url: str = Field(max_length=2000, description="The page to load, http:// or https://.")
    expect_status: str = Field(
        default="200-399", pattern=r"^[1-5]\d\d(-[1-5]\d\d)?$", description="Status of the page that is right, or a range."
    )
    expect_text: str = Field(default="", max_length=500, description="Text that people must be able to read on it.")
    most_failed: int | None = Field(
        default=None,
        ge=0,
        le=1_000,
        description="Fail when more than so many requests of the page fail; never if left out.",
    )
    width: int = Field(default=1_366, ge=200, le=4_000, description="Width of the window, in pixels.")
    height: int = Field(default=768, ge=200, le=4_000, description="Height of the window, in pixels.")
    quiet_ms: int = Field(
        default=5_000, ge=200, le=20_000, description="How long it must be quiet before the page counts as usable, in ms."
    )
    proxy: str | None = Field(default=None, max_length=500, description="Proxy to go through, http://host:port.")
    verify: bool = Field(default=True, description="Whether certificates must be valid for their names.")
    addresses: dict[str, str] = Field(
        default_factory=dict, max_length=20, description="IP addresses to use for names, instead of asking the resolver."
    )
    timeout_ms: TimeoutMs = 30_000

    @field_validator("url")
    @classmethod
    def _is_web_address(cls, url: str) -> str:
        return web_address(url)


async def attempt(settings: PageSettings, net: Net, binding: Binding) -> Observation:
    """One load with nothing kept from before. What a page that failed took is detail, not a sample."""
    loaded = await net.load(
        PageLoad(
            settings.url,
            settings.width,
            settings.height,
            settings.expect_text,
            settings.proxy,
            settings.verify,
            tuple(settings.addresses.items()),
            settings.quiet_ms * 1000,
            settings.timeout_ms * 1000,
            binding,
        )
    )
    entries = loaded.archive.get("log", {}).get("entries", [])
    facts = {"page_status": str(loaded.status)} if loaded.status else {}
    if entries and entries[0].get("serverIPAddress"):
        facts["address"] = str(entries[0]["serverIPAddress"]).strip("[]")
    detail: dict[str, Any] = {
        "status": loaded.status,
        "failed_requests": list(loaded.failed[:20]),
        "console": list(loaded.console[:20]),
        "requests": _waterfall(entries),
        "archive": loaded.archive,
    }
    if loaded.screenshot:
        detail["screenshot"] = loaded.screenshot
    quantities = figures(loaded, settings.quiet_ms)
    reason, note = _judge(settings, loaded)
    if reason is not None:
        return Observation(reason, note, {}, facts, detail | {"timings_ms": quantities})
    return Observation(None, "", quantities, facts, detail)


def _judge(settings: PageSettings, loaded: PageLoaded) -> tuple[Reason | None, str]:
    if loaded.reason is not None:
        return loaded.reason, loaded.note
    if not covers(settings.expect_status, loaded.status):
        return Reason.UNEXPECTED_STATUS, f"status {loaded.status}, expected {settings.expect_status}"
    if settings.expect_text and settings.expect_text not in loaded.text:
        return Reason.UNEXPECTED_TEXT, f"“{settings.expect_text[:80]}” cannot be read on the page"
    if settings.most_failed is not None and len(loaded.failed) > settings.most_failed:
        return Reason.UNEXPECTED_ANSWER, f"{len(loaded.failed)} requests failed, the first {loaded.failed[0]}"
    return None, ""


def figures(loaded: PageLoaded, quiet_ms: float) -> dict[str, float]:
    """Quantities of a load. Phases are cut at the marks of Navigation Timing, so that they add up to the load."""
    marks = loaded.navigation
    found: dict[str, float | None] = {}
    if marks.get("loadEventEnd"):
        tls_ms = marks.get("secureConnectionStart") or marks["connectEnd"]
        found |= {
            "name_lookup": marks["domainLookupEnd"],
            "connect": tls_ms - marks["domainLookupEnd"],
            "tls": marks["connectEnd"] - tls_ms,
            "first_byte": marks["responseStart"] - marks["connectEnd"],
            "transfer": marks["responseEnd"] - marks["responseStart"],
            "processing": marks["loadEventEnd"] - marks["responseEnd"],
            "load": marks["loadEventEnd"],
            "ttfb": marks["responseStart"],
        }
    # Frames of a page that nothing was painted of look complete from the first.
    progress = visual_progress(loaded.frames) if loaded.fcp_ms is not None else []
    entries = loaded.archive.get("log", {}).get("entries", [])
    found |= {
        "first_paint": loaded.first_paint_ms,
        "fcp": loaded.fcp_ms,
        "lcp": loaded.lcp_ms,
        "cls": cumulative_layout_shift(loaded.shifts) if marks else None,
        "visually_complete": visually_complete(progress),
        "speed_index": speed_index(progress),
        "requests": float(len(entries)),
        "failed_requests": float(len(loaded.failed)),
        "console_errors": float(len(loaded.console)),
        "page_size": float(sum(_octets(one) for one in entries)),
    }
    if loaded.fcp_ms is not None and marks.get("domContentLoadedEventEnd"):
        usable = time_to_interactive(
            loaded.fcp_ms, marks["domContentLoadedEventEnd"], loaded.tasks, _stretches(entries), quiet_ms
        )
        found |= {
            "interactive": usable,
            "blocking_time": total_blocking_time(loaded.tasks, loaded.fcp_ms, max(usable, loaded.fcp_ms)),
        }
    return {name: max(0.0, value) for name, value in found.items() if value is not None}


def _octets(entry: dict[str, Any]) -> int:
    answer = entry["response"]
    return sum(max(0, int(answer.get(name, -1))) for name in ("headersSize", "bodySize"))


def _stretches(entries: list[dict[str, Any]]) -> list[Stretch]:
    """Requests in ms after the first one began."""
    if not entries:
        return []
    from datetime import datetime

    begun = [datetime.fromisoformat(one["startedDateTime"]).timestamp() * 1e3 for one in entries]
    return [
        Stretch(at - begun[0], at - begun[0] + max(0.0, float(one["time"]))) for at, one in zip(begun, entries, strict=True)
    ]


def _waterfall(entries: list[dict[str, Any]]) -> list[dict[str, Any]]:
    """The slowest of the requests, in the order in which they began."""
    rows = [
        {
            "url": entry["request"]["url"][:300],
            "status": entry["response"]["status"],
            "start_ms": round(stretch.start_ms, 1),
            "time_ms": round(stretch.end_ms - stretch.start_ms, 1),
            "octets": _octets(entry),
        }
        for entry, stretch in zip(entries, _stretches(entries), strict=True)
    ]
    slowest = sorted(rows, key=lambda one: -float(one["time_ms"]))[:30]
    return sorted(slowest, key=lambda one: float(one["start_ms"]))


KIND = Kind(
    name="page",
    label="page load",
    settings=PageSettings,
    attempt=attempt,
    main="load",
    quantities=(
        "load", "name_lookup", "connect", "tls", "first_byte", "transfer", "processing", "ttfb", "first_paint", "fcp",
        "lcp", "cls", "blocking_time", "interactive", "visually_complete", "speed_index", "requests",
        "failed_requests", "console_errors", "page_size",
    ),
    phases=("name_lookup", "connect", "tls", "first_byte", "transfer", "processing"),
    about=(
        "Loads a whole page in a browser on the agent's machine, with nothing kept from before, and measures "
        "what a visitor waits for: first and largest paint, how much moved about, how long it did not react, "
        "when it looked complete, what failed. A load that fails leaves a picture of it. It takes a second of "
        "a processor and as many octets as the page has."
    ),
    octets=lambda _: 2_000_000,
    interval_s=600,
    reasons=(
        Reason.NO_BROWSER, Reason.NAME_NOT_FOUND, Reason.NO_ROUTE, Reason.CONNECTION_REFUSED, Reason.CONNECT_TIMEOUT,
        Reason.CONNECTION_RESET, Reason.TLS_FAILED, Reason.CERTIFICATE_INVALID, Reason.PROXY_FAILED, Reason.TIMEOUT,
        Reason.UNEXPECTED_STATUS, Reason.UNEXPECTED_TEXT, Reason.UNEXPECTED_ANSWER, Reason.TOO_MANY_REDIRECTS,
        Reason.PROTOCOL_ERROR, Reason.BINDING_UNUSABLE, Reason.AGENT_ERROR,
    ),
)  # fmt: skip

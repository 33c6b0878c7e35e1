"""What probes would cost, what their budgets allow, and the same change made to many of them."""

from dataclasses import dataclass, replace

from kuppel.core.error import SettingsError
from kuppel.core.schedule import Timing, next_run, runs_a_day, usual_gap
from kuppel.probes.kind import Kind, Settings
from kuppel.probes.registry import KINDS
from kuppel.store.inventory import Probe


@dataclass(frozen=True, slots=True)
class Cost:
    """About what a probe costs each agent that runs it."""

    runs_a_day: float
    octets_a_run: int

    @property
    def octets_a_day(self) -> int:
        return round(self.runs_a_day * self.octets_a_run)


def cost_of(kind: Kind, settings: Settings, timing: Timing) -> Cost:
    return Cost(runs_a_day(timing), kind.octets(settings))


def stored_cost(probe: Probe) -> Cost:
    kind = KINDS[probe.kind]
    return cost_of(kind, _stored_settings(kind, probe), probe.timing)


def _stored_settings(kind: Kind, probe: Probe) -> Settings:
    """As stored, credentials masked; what a newer version added since has its default."""
    fields = kind.settings.model_fields.items()
    defaults = {name: one.get_default(call_default_factory=True) for name, one in fields if not one.is_required()}
    return kind.settings.model_construct(**defaults | dict(probe.settings))


def needed_beyond_budget(kind: Kind, settings: Settings, timing: Timing) -> str:
    """A probe whose schedule alone needs more than its budget would fail every day at some hour: then the need, in words.

    Empty where the budget suffices or there is none.
    """
    budget, needed = settings.budget_octets(), cost_of(kind, settings, timing).octets_a_day
    if budget is None or needed <= budget:
        return ""
    return f"the {needed / 1e6:,.0f} MB a day that its schedule needs"


def check_budget(kind: Kind, settings: Settings, timing: Timing) -> None:
    """Raises SettingsError for a budget that is too small for its schedule."""
    needed = needed_beyond_budget(kind, settings, timing)
    if needed:
        budget = f"{(settings.budget_octets() or 0) / 1e6:g} MB"
        remedy = f"be at least {needed}; or run it less often, or move less"
        raise SettingsError("settings.budget_mb_a_day", budget, remedy)


@dataclass(frozen=True, slots=True)
class Changes:
    """The same change to many probes. What is None stays as it is."""

    is_enabled: bool | None = None
    interval_us: int | None = None
    attempts: int | None = None
    add_vantage_points: frozenset[int] = frozenset()
    remove_vantage_points: frozenset[int] = frozenset()
    add_tags: tuple[str, ...] = ()
    remove_tags: frozenset[str] = frozenset()


def changed(probe: Probe, changes: Changes) -> Probe:
    """The probe with the changes made.

    Raises
    ------
    SettingsError
        for an interval that the probe has no use for, or that its budget does not allow.
    """
    timing = probe.timing
    if changes.interval_us is not None:
        timing = _with_interval(probe, changes.interval_us)
    points = (set(probe.vantage_point_ids) | changes.add_vantage_points) - changes.remove_vantage_points
    tags = [one for one in dict.fromkeys((*probe.tags, *changes.add_tags)) if one not in changes.remove_tags]
    return replace(
        probe,
        interval_us=usual_gap(timing),
        timing=timing,
        attempts=probe.attempts if changes.attempts is None else changes.attempts,
        is_enabled=probe.is_enabled if changes.is_enabled is None else changes.is_enabled,
        vantage_point_ids=tuple(sorted(points)),
        tags=tuple(tags),
    )


def _with_interval(probe: Probe, interval_us: int) -> Timing:
    interval_s = interval_us / 1e6
    if probe.timing.way not in ("every", "poisson"):
        raise SettingsError("interval_s", interval_s, f"be left out: {probe.name} runs at times of the day")
    timing = replace(probe.timing, interval_us=interval_us)
    kind = KINDS[probe.kind]
    needed = needed_beyond_budget(kind, _stored_settings(kind, probe), timing)
    if needed:
        raise SettingsError("interval_s", interval_s, f"be longer: the budget of {probe.name} is less than {needed}")
    return timing


def next_runs(timing: Timing, now_us: int, count: int) -> list[int]:
    """The next times at which one agent would run it, microseconds since 1970."""
    times: list[int] = []
    while len(times) < count:
        times.append(next_run(timing, times[-1] if times else now_us, "plan", 0.5))
    return times

"""The schedule of faults of the made-up past, each with its label; it ends with five open ones of different domains."""

import itertools

from kuppel.core.change import Change, ChangeSource
from kuppel.core.duration import DAY_US, HOUR_US, MINUTE_US
from kuppel.lab.world.draw import generator
from kuppel.lab.world.fault import KINDS, Fault
from kuppel.lab.world.world import World

# What is open when measuring begins: kind, where, for how many minutes by then, strength.
_OPEN = (
    ("provider_detour", "Quillnet", 252, 1.0),
    ("release_errors", "api", 104, 1.1),
    ("weak_wifi", "Tobias R.", 321, 1.0),
    ("silent_point", "MV Guillemot", 149, 1.0),
    ("full_uplink", "Averil", 48, 1.0),
    # Somebody put the spare certificate in, which has thirty days; eleven of them are gone.
    ("certificate_expiring", "gates", 11 * 24 * 60, 2.5),
)
_QUIET_BEFORE_US = 9 * HOUR_US
_MEAN_GAP_US = 17 * HOUR_US
# Some last as long as a night, most less than two hours.
_SHORTEST_MINUTES, _LONGEST_MINUTES = 14, 320


def skerry_faults(world: World, begun_us: int, days: int) -> list[Fault]:
    """Faults before `begun_us`: each kind comes up again and again, now and then two at once; in the order of time."""
    draw = generator(world.seed, "faults")
    found: list[Fault] = []
    at_us = begun_us - days * DAY_US + 6 * HOUR_US
    waiting: list[str] = []
    while at_us < begun_us - _QUIET_BEFORE_US - _LONGEST_MINUTES * MINUTE_US:
        if not waiting:
            waiting = sorted(KINDS)
            draw.shuffle(waiting)
        # One time in eight, two that have nothing to do with each other begin within minutes.
        for _ in range(2 if draw.random() < 0.125 else 1):
            kind = waiting.pop() if waiting else str(draw.choice(sorted(KINDS)))
            places = KINDS[kind].places(world)
            where = places[int(draw.integers(len(places)))]
            minutes = min(_LONGEST_MINUTES, _SHORTEST_MINUTES + float(draw.lognormal(3.9, 0.8)))
            from_us = at_us + int(draw.integers(20 * MINUTE_US))
            strength = round(float(draw.uniform(0.8, 1.6)), 2)
            found.append(Fault(len(found) + 1, kind, where, from_us, from_us + round(minutes * MINUTE_US), strength))
        at_us += round(float(draw.exponential(_MEAN_GAP_US))) + 2 * HOUR_US
    for kind, where, minutes, strength in _OPEN:
        found.append(Fault(len(found) + 1, kind, where, begun_us - round(minutes * MINUTE_US), None, strength))
    return sorted(found, key=lambda one: one.from_us)


def told_changes(world: World, faults: list[Fault], from_us: int, to_us: int) -> list[Change]:
    """What people and their programs would have told: releases, announced maintenance, notices of providers."""
    found = []
    for application, releases in world.releases.items():
        for (_, before), (at_us, after) in itertools.pairwise(releases):
            found.append(Change(0, at_us, None, ChangeSource.RELEASE, application, before, after, "release desk"))
    for fault in faults:
        change = told_of(fault)
        if change is not None:
            found.append(change)
    return sorted((one for one in found if from_us <= one.time_us < to_us), key=lambda one: one.time_us)


def told_of(fault: Fault) -> Change | None:
    """What would be told of one fault; None of most."""
    if fault.kind == "release_errors":
        return Change(0, fault.from_us - 40_000_000, None, ChangeSource.RELEASE, fault.where, "", "hotfix", "release desk")
    if fault.kind == "maintenance":
        words = f"maintenance of {fault.where}"
        return Change(0, fault.from_us, fault.until_us, ChangeSource.MAINTENANCE, words, "", "", "Harbour IT")
    if fault.kind in ("provider_loss", "transit_loss") and fault.id % 2:
        # Providers own up to every other one, after half an hour.
        words = f"{fault.where}: we are aware of lost packets"
        return Change(0, fault.from_us + 30 * MINUTE_US, None, ChangeSource.NOTICE, words, "", "", "provider")
    return None

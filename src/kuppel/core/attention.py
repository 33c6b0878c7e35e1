"""What needs attention: streams that are not fine, or unlike themselves, gathered under what they share.

Streams that are in trouble for one reason mostly share a provider, a vantage point, a target or a probe. What is shared is
looked for by covering: the name that most streams are in trouble under, weighed by which share of its own streams that is,
takes them; then the next, until none has enough left. What then is left of one probe stands together, the rest alone.
Like is gathered with like: what is silent, what fails, and what is slow or bad seldom have one reason.

A stream within its limits that departs from its usual pattern is evidence for what it shares, and no matter of its own.
It says what is shared, not what is at fault.
"""

import itertools
from collections import Counter
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass
from typing import Literal

from kuppel.core.state import SEVERITY, State, group_state

Symptom = Literal["silent", "failing", "bad"]
Unusual = Literal["", "slower", "worse"]
Scope = Literal["vantage point", "target", "provider", "probe", "stream"]
# From so large a share of its streams on, and from so many, something is gathered under its name (as for `affected`).
_LEAST_SHARE, _LEAST_STREAMS = 0.25, 2
# A provider is named only when it is not one or two of its customers.
_LEAST_POINTS, _LEAST_POINT_SHARE = 3, 0.6
# Of equals the narrower: a vantage point rather than its provider, where it is the only one there.
_SYMPTOMS: tuple[Symptom, ...] = ("failing", "bad", "silent")
_SCOPES: tuple[Scope, ...] = ("vantage point", "target", "provider", "probe")
_MOST_LISTED = 5
# Streams within their limits are told of only when many that share something are unlike themselves.
_LEAST_UNUSUAL_SHARE, _LEAST_UNUSUAL = 0.5, 3


@dataclass(frozen=True, slots=True)
class Watched:
    """A stream, its state, what it could share with others, whether its newest figures are unlike its usual ones,
    whether its newest runs fail, and whether it is in that state now and then only."""

    stream_id: int
    vantage_point: str
    provider: str
    target: str
    probe: str
    state: State
    since_us: int
    unusual: Unusual = ""
    is_failing: bool = False
    is_on_and_off: bool = False

    @property
    def is_fine(self) -> bool:
        return self.state is State.FINE

    @property
    def is_in_trouble(self) -> bool:
        return not self.is_fine or self.unusual != ""

    @property
    def symptom(self) -> Symptom:
        if self.state is State.SILENT:
            return "silent"
        return "failing" if self.is_failing and not self.is_fine else "bad"

    def name(self, scope: Scope) -> str:
        """What it has of a scope; empty where it has nothing to share."""
        if scope == "stream":
            return str(self.stream_id)
        return {
            "vantage point": self.vantage_point,
            "target": self.target,
            "provider": self.provider,
            "probe": self.probe,
        }[scope]


@dataclass(frozen=True, slots=True)
class Matter:
    """Streams in trouble that share something; `of` are all streams that share it. The state is that of the worst quarter
    of those that are not fine; where all are within their limits it is fine, and since when is not known."""

    scope: Scope
    name: str
    state: State
    since_us: int | None
    streams: tuple[Watched, ...]
    of: tuple[Watched, ...]


def matters(watched: Sequence[Watched]) -> list[Matter]:
    """What needs attention, worst first: each stream that is not fine is in exactly one of them."""
    left = [one for one in watched if one.is_in_trouble]
    everything = {scope: _by_name(watched, scope) for scope in _SCOPES}
    shared: dict[tuple[Scope, str], list[Watched]] = {}
    while best := _best(everything, left):
        symptom, scope, name = best
        is_own = [one.symptom == symptom and one.name(scope) == name for one in left]
        shared.setdefault((scope, name), []).extend(itertools.compress(left, is_own))
        left = [one for one, is_its in zip(left, is_own, strict=True) if not is_its]
    alone: list[Watched] = []
    for one in left:
        # What has a name already is told under it, whatever its symptom.
        at = next(((scope, one.name(scope)) for scope in _SCOPES[:2] if (scope, one.name(scope)) in shared), None)
        if not one.is_fine:
            (alone if at is None else shared[at]).append(one)
    found = [_matter(scope, name, own, everything[scope][name]) for (scope, name), own in shared.items()]
    for name, own in _by_name(alone, "probe").items():
        if len(own) >= _LEAST_STREAMS:
            found.append(_matter("probe", name, own, everything["probe"][name]))
        else:
            found += [_matter("stream", one.name("stream"), [one], [one]) for one in own]
    return sorted(found, key=lambda one: (-SEVERITY[one.state], -len(one.streams), one.since_us or 0))


def _by_name(watched: Iterable[Watched], scope: Scope) -> dict[str, list[Watched]]:
    found: dict[str, list[Watched]] = {}
    for one in watched:
        found.setdefault(one.name(scope), []).append(one)
    return found


def _best(
    everything: Mapping[Scope, Mapping[str, list[Watched]]], left: Sequence[Watched]
) -> tuple[Symptom, Scope, str] | None:
    """What is shared by the most of those that are left and have the same symptom, weighed by the share of its streams."""
    best: tuple[Symptom, Scope, str] | None = None
    most = 0.0
    for symptom, scope in itertools.product(_SYMPTOMS, _SCOPES):
        for name, own in sorted(_by_name([one for one in left if one.symptom == symptom], scope).items()):
            all_of_it = everything[scope][name]
            share = len(own) / len(all_of_it)
            if not name or len(own) < _LEAST_STREAMS or share < _LEAST_SHARE:
                continue
            if all(one.is_fine for one in own) and (len(own) < _LEAST_UNUSUAL or share < _LEAST_UNUSUAL_SHARE):
                continue
            if scope == "provider" and not _is_wide(own, all_of_it):
                continue
            if len(own) * share > most:
                best, most = (symptom, scope, name), len(own) * share
    return best


def _is_wide(own: Sequence[Watched], all_of_it: Sequence[Watched]) -> bool:
    points, others = ({one.vantage_point for one in each} for each in (own, all_of_it))
    return len(points) >= _LEAST_POINTS and len(points) >= _LEAST_POINT_SHARE * len(others)


def _matter(scope: Scope, name: str, own: Sequence[Watched], all_of_it: Sequence[Watched]) -> Matter:
    bad = [one for one in own if not one.is_fine]
    state = group_state(one.state for one in bad).state if bad else State.FINE
    return Matter(scope, name, state, min((one.since_us for one in bad), default=None), tuple(own), tuple(all_of_it))


def told(matter: Matter) -> str:
    """A matter in one sentence, without the full stop and without times, which are the reader's."""
    points = sorted({one.vantage_point for one in matter.streams})
    every = {one.vantage_point for one in matter.of}
    how, more = _how(matter)
    is_silent = matter.state is State.SILENT
    match matter.scope:
        case "vantage point":
            if is_silent:
                return f"{matter.name} has sent nothing for its {_count(len(matter.of), 'stream')}"
            targets = sorted({one.target for one in matter.streams})
            reached = len({one.target for one in matter.of})
            return f"{matter.name} is {how} towards {_share(len(targets), reached, 'target')}: {_listed(targets)}{more}"
        case "target":
            who = _share(len(points), len(every), "vantage point")
            return (
                f"No word of the {matter.name} from {who}" if is_silent else f"The {matter.name} is {how} from {who}{more}"
            )
        case "provider":
            who = _share(len(points), len(every), "vantage point")
            verb = "are" if len(points) > 1 else "is"
            return f"{who[0].upper()}{who[1:]} at {matter.name} {verb} {how}: {_listed(points)}{more}"
        case "probe":
            who = _share(len(points), len(every), "vantage point")
            return f"The probe “{matter.name}” is {how} from {who}: {_listed(points)}{more}"
        case "stream":
            one = matter.streams[0]
            return f"{one.vantage_point} is {how} towards the {one.target}"


def _how(matter: Matter) -> tuple[str, str]:
    """How a matter is, and what of it is beyond its limits, if most of it is not."""
    bad = sum(not one.is_fine for one in matter.streams)
    if 2 * bad >= len(matter.streams):
        is_on_and_off = all(one.is_on_and_off for one in matter.streams if not one.is_fine)
        return f"{matter.state}{' on and off' if is_on_and_off else ''}", ""
    slower = sum(one.unusual == "slower" for one in matter.streams)
    how = f"{'slower' if 2 * slower >= len(matter.streams) - bad else 'worse'} than usual"
    return how, f"; {bad} of {len(matter.of)} streams {'is' if bad == 1 else 'are'} {matter.state}" if bad else ""


def summary(found: Sequence[Matter], points: Sequence[bool], targets: Sequence[bool]) -> str:
    """All of it in a line or two.

    Parameters
    ----------
    points, targets : whether each vantage point, and each target, is affected.

    Examples
    --------
    >>> summary([], [False, False], [False])
    'All is fine: 2 vantage points, 1 target.'
    """
    if not points:
        return "Nothing is measured yet."
    if not found:
        return f"All is fine: {_count(len(points), 'vantage point')}, {_count(len(targets), 'target')}."
    counts = Counter(one.state for one in found)
    told_of = [
        f"{counts[state]} {'unlike usual' if state is State.FINE else state}"
        for state in sorted(counts, key=lambda one: -SEVERITY[one])
    ]
    things = "One thing needs" if len(found) == 1 else f"{len(found)} things need"
    affected = (
        f"{sum(points)} of {_count(len(points), 'vantage point')} and {sum(targets)} of {_count(len(targets), 'target')}"
    )
    return f"{things} attention: {', '.join(told_of)}. {affected} are affected."


def _share(part: int, whole: int, what: str) -> str:
    """
    >>> _share(4, 4, "target"), _share(3, 8, "target"), _share(2, 2, "target"), _share(1, 1, "target")
    ('all 4 targets', '3 of 8 targets', 'both targets', 'the one target')
    """
    if whole == 1:
        return f"the one {what}"
    if part == whole == 2:
        return f"both {what}s"
    return f"all {whole} {what}s" if part == whole else f"{part} of {whole} {what}s"


def _count(number: int, what: str) -> str:
    return f"{number} {what}{'' if number == 1 else 's'}"


def _listed(names: Sequence[str]) -> str:
    if len(names) > _MOST_LISTED:
        return f"{', '.join(names[: _MOST_LISTED - 1])} and {len(names) - _MOST_LISTED + 1} more"
    return names[0] if len(names) == 1 else f"{', '.join(names[:-1])} and {names[-1]}"

"""A run: attempts of a probe, repeated as its settings say, every one kept."""

from kuppel.core.reason import Reason
from kuppel.core.result import Attempt, Observation, Result
from kuppel.probes.kind import Kind, Settings
from kuppel.probes.net import Binding, Net, NetError


async def run_probe(
    kind: Kind, settings: Settings, net: Net, *, binding: Binding, attempts: int, attempt_gap_us: int
) -> Result:
    """One run: the first attempt that succeeds is its result; it fails with the last attempt's reason when none does.

    Parameters
    ----------
    attempts : how many tries at most, at least 1.
    attempt_gap_us : the pause between the end of a failed try and the next.
    """
    started_us = net.clock.utc_us()
    tried: list[Attempt] = []
    while True:
        attempt_started_us = net.clock.utc_us()
        begun = net.clock.monotonic_us()
        try:
            observation = await kind.attempt(settings, net, binding)
        except NetError as error:
            observation = Observation(error.reason, error.note)
        except Exception as error:  # a fault of ours must not be told as the network's
            observation = Observation(Reason.AGENT_ERROR, f"{type(error).__name__}: {error}"[:300])
        duration_us = max(0, net.clock.monotonic_us() - begun)
        tried.append(Attempt(attempt_started_us, duration_us, observation.reason, observation.note))
        if observation.reason is None or len(tried) >= attempts:
            break
        await net.clock.sleep_us(attempt_gap_us)
    return Result(
        started_us, observation.reason, observation.quantities, observation.facts, tuple(tried), observation.detail
    )

"""Machine: how the agent's own computer is doing: whether what is measured from it may be its own fault."""

from pydantic import Field

from kuppel.core.reason import Reason
from kuppel.core.result import Observation
from kuppel.probes.kind import Kind, Settings
from kuppel.probes.net import Binding, MachineAsked, Net


class HostSettings(Settings):
    services: list[str] = Field(
        default_factory=list, max_length=20, description="Local services that must be running, by name."
    )
    connections: bool = Field(default=False, description="List open connections, by process and peer.")
    processes: bool = Field(default=False, description="List the processes that take most memory, by name.")


async def attempt(settings: HostSettings, net: Net, _binding: Binding) -> Observation:
    """One reading; it always succeeds, and what is wrong is a quantity beyond its limit."""
    told = await net.machine(MachineAsked(tuple(settings.services), settings.connections, settings.processes))
    return Observation(None, "", told.quantities, told.facts, told.detail)


KIND = Kind(
    name="host",
    label="machine",
    settings=HostSettings,
    attempt=attempt,
    main="scheduling_lag",
    quantities=(
        "scheduling_lag", "cpu_ratio", "cpu_wait_ratio", "cpu_steal_ratio", "memory_ratio", "memory_free", "swap_ratio",
        "disk_ratio", "disk_read", "disk_write", "disk_latency", "net_in", "net_out", "net_errors", "wifi_signal",
        "wifi_rate", "services_down", "connections", "processes",
    ),
    about=(
        "Reads the agent's own machine: processor, memory, disks, network cards, Wi-Fi, named services, and "
        "how late it wakes, which says whether its measurements can be trusted. Open connections and "
        "processes are listed only when asked for, processes by name alone. Nothing is sent."
    ),
    octets=lambda _: 0,
    reasons=(Reason.AGENT_ERROR,),
)  # fmt: skip

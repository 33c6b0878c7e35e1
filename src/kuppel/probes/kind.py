"""What every probe kind brings: settings, quantities, reasons, and one coroutine that makes one attempt."""

from collections.abc import Awaitable, Callable
from dataclasses import dataclass
from typing import Annotated, Any

from pydantic import BaseModel, ConfigDict, Field, ValidationError

from kuppel.core.error import SettingsError
from kuppel.core.reason import Reason
from kuppel.core.result import Observation
from kuppel.probes.net import PORT_UNREACHABLE, Binding, Net


class Settings(BaseModel):
    """Base of all settings: every field has a sentence, a unit in its name, and bounds; unknown fields are refused."""

    model_config = ConfigDict(extra="forbid", frozen=True)

    def secret_part(self) -> dict[str, Any]:
        """The credentials among them, as `probes.secrecy` has it; most kinds have none."""
        return {}

    def budget_octets(self) -> int | None:
        """How many octets an agent may move for it in a day; most kinds move too few to need a budget."""
        return None


TimeoutMs = Annotated[
    int, Field(ge=50, le=60_000, description="How long an attempt may take, in ms. What takes longer counts as failed.")
]
Host = Annotated[
    str,
    Field(min_length=1, max_length=253, pattern=r"^[^\s/]+$", description="Name or IP address to measure."),
]


def refused(refusal: str) -> Reason:
    """The reason for an ICMP error: a port that nobody listens on is no missing route."""
    return Reason.CONNECTION_REFUSED if refusal == PORT_UNREACHABLE else Reason.NO_ROUTE


@dataclass(frozen=True, slots=True)
class Kind:
    """A probe kind. `main` is the quantity that stands for a run; `phases` are those that add up to its time, in order."""

    name: str
    label: str
    settings: type[Settings]
    attempt: Callable[[Any, Net, Binding], Awaitable[Observation]]
    main: str
    quantities: tuple[str, ...]
    reasons: tuple[Reason, ...]
    # What it does and what its figures mean, in one paragraph for whoever sets one up.
    about: str
    # About how many octets a run sends and receives.
    octets: Callable[[Any], int]
    # The trade's usual time between two runs, in s.
    interval_s: int = 60
    phases: tuple[str, ...] = ()

    def parse(self, settings: object) -> Settings:
        """Checked settings.

        Raises
        ------
        SettingsError
            naming the first field that cannot be used.
        """
        try:
            return self.settings.model_validate(settings)
        except ValidationError as error:
            first = error.errors(include_url=False)[0]
            where = ".".join(str(part) for part in ("settings", *first["loc"]))
            raise SettingsError(where, first.get("input"), f"be mended: {first['msg'].lower()}") from None

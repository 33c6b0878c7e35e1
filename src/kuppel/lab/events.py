"""The events switch: faults of the made-up world begun and ended by hand, over HTTP on loopback, and kept over restarts."""

import time
from collections.abc import Callable
from dataclasses import asdict, dataclass, replace
from pathlib import Path
from typing import Any

import orjson
from fastapi import FastAPI, HTTPException
from pydantic import BaseModel, Field
from starlette.middleware.trustedhost import TrustedHostMiddleware

from kuppel.agent.machine import write_private
from kuppel.core.duration import MINUTE_US
from kuppel.core.error import SettingsError
from kuppel.hub.api.shapes import at, at_or_none
from kuppel.lab.bulk.history import Recipe
from kuppel.lab.world.fault import KINDS, Fault, checked, components, effects
from kuppel.lab.world.world import World

_FILE = "world.json"


@dataclass(slots=True)
class FaultBook:
    """All faults of a world, and the file that keeps them. Whatever is begun or ended holds in the world at once."""

    folder: Path
    recipe: Recipe
    world: World

    @classmethod
    def kept(cls, folder: Path) -> "FaultBook | None":
        """What an earlier start left; None when there was none."""
        path = folder / _FILE
        if not path.exists():
            return None
        raw = orjson.loads(path.read_bytes())
        faults = tuple(Fault(**one) for one in raw["faults"])
        recipe = Recipe(raw["seed"], raw["begun_us"], raw["days"], faults)
        return cls(folder, recipe, recipe.made())

    def keep(self) -> None:
        """Write everything down."""
        kept = {
            "seed": self.recipe.seed,
            "begun_us": self.recipe.begun_us,
            "days": self.recipe.days,
            "faults": [asdict(one) for one in self.recipe.faults],
        }
        write_private(self.folder / _FILE, orjson.dumps(kept))

    def begin(self, kind: str, where: str, strength: float, minutes: float | None, now_us: int) -> Fault:
        """
        Raises
        ------
        SettingsError
            for a fault that there cannot be.
        """
        checked(self.world, kind, where, strength)
        if minutes is not None and not 0 < minutes <= 10_000:
            raise SettingsError("minutes", minutes, "lie above 0 and at most at 10,000")
        number = max((one.id for one in self.recipe.faults), default=0) + 1
        until_us = None if minutes is None else now_us + round(minutes * MINUTE_US)
        fault = Fault(number, kind, where, now_us, until_us, strength)
        self._hold((*self.recipe.faults, fault))
        return fault

    def end(self, number: int, now_us: int) -> Fault:
        """
        Raises
        ------
        SettingsError
            when there is no such fault, or it is over.
        """
        fault = next((one for one in self.recipe.faults if one.id == number), None)
        if fault is None or not _is_open(fault, now_us):
            raise SettingsError("id", number, "be the number of an open fault")
        ended = replace(fault, until_us=now_us)
        self._hold(tuple(ended if one.id == number else one for one in self.recipe.faults))
        return ended

    def open(self, now_us: int) -> list[Fault]:
        return [one for one in self.recipe.faults if _is_open(one, now_us)]

    def _hold(self, faults: tuple[Fault, ...]) -> None:
        self.recipe = replace(self.recipe, faults=faults)
        self.world.effects.put(effects(self.world, faults))
        self.keep()


def _shape(world: World, fault: Fault) -> dict[str, Any]:
    """A fault with its label, as the API tells it."""
    return {
        "id": fault.id,
        "kind": fault.kind,
        "where": fault.where,
        "strength": fault.strength,
        "from": at(fault.from_us),
        "until": at_or_none(fault.until_us),
        "domain": fault.domain,
        "components": components(world, fault),
    }


def _is_open(fault: Fault, now_us: int) -> bool:
    return fault.from_us <= now_us and (fault.until_us is None or fault.until_us > now_us)


class NewFault(BaseModel):
    """A fault to begin now."""

    kind: str = Field(description="What kind.", examples=["weak_wifi"])
    where: str = Field(description="Where: a vantage point, a link, a provider, a resolver, an application.")
    strength: float = Field(default=1.0, description="1 for a usual one, more for a worse one.")
    minutes: float | None = Field(default=None, description="How long; until it is ended if left out.")


def events_app(
    book: FaultBook, told: Callable[[Fault], None], now_us: Callable[[], int] = lambda: time.time_ns() // 1000
) -> FastAPI:
    """The API of the events switch; `told` is called with each fault that begins."""
    app = FastAPI(title="Kuppel lab: events", docs_url=None, redoc_url=None)
    # Only programs of this machine: a web page elsewhere that guesses the port names another host.
    app.add_middleware(TrustedHostMiddleware, allowed_hosts=["127.0.0.1", "localhost"])

    @app.get("/api/kinds")
    def kinds() -> list[dict[str, Any]]:
        """The kinds of fault that there are, and where each can be."""
        return [
            {"kind": one.name, "domain": one.domain, "words": one.words, "is_fault": one.is_fault,
             "places": one.places(book.world)}
            for one in KINDS.values()
        ]  # fmt: skip

    @app.get("/api/faults")
    def faults(*, is_open: bool = True) -> list[dict[str, Any]]:
        """Open faults, or all with their labels."""
        found = book.open(now_us()) if is_open else book.recipe.faults
        return [_shape(book.world, one) for one in found]

    @app.post("/api/faults", status_code=201)
    def begin(new: NewFault) -> dict[str, Any]:
        try:
            fault = book.begin(new.kind, new.where, new.strength, new.minutes, now_us())
        except SettingsError as error:
            raise HTTPException(422, str(error)) from None
        told(fault)
        return _shape(book.world, fault)

    @app.delete("/api/faults/{number}")
    def end(number: int) -> dict[str, Any]:
        try:
            return _shape(book.world, book.end(number, now_us()))
        except SettingsError as error:
            raise HTTPException(404, str(error)) from None

    return app

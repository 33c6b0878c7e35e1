"""What a person keeps under a name: ways of looking at a screen, and charts pinned to Now."""

from functools import partial
from typing import Annotated, Literal

from fastapi import APIRouter
from pydantic import AwareDatetime, ConfigDict, Field, model_validator

from kuppel.core.error import SettingsError
from kuppel.core.quantity import quantity_named
from kuppel.hub.api.guard import Oneself
from kuppel.hub.api.problem import responses
from kuppel.hub.api.shapes import Body, HubDep
from kuppel.hub.engine.access import Caller
from kuppel.hub.engine.joined import joined_streams
from kuppel.hub.engine.selection import Selection, SelectionKind, selected
from kuppel.probes.registry import kind_named
from kuppel.store import saved as store
from kuppel.store.saved import Saved

router = APIRouter(prefix="/saved", tags=["saved"])
_MOST_STREAMS = 6


class ViewBody(Body):
    """A screen with what it was narrowed to."""

    kind: Literal["view"]
    address: str = Field(pattern=r"^/[^/\\]", max_length=2000, examples=["/matrix?find=Quillnet"])


class Together(Body):
    """The streams of one kind of probe of a group, target or vantage point, or all, taken together."""

    of: SelectionKind
    id: int = Field(default=0, ge=0, description="The group's, target's or vantage point's; 0 for all.")
    probes: str = Field(description="Their kind.")


class ChartBody(Body):
    """The same reading of some streams, or of many together, over a window of its own."""

    kind: Literal["chart"]
    streams: list[int] = Field(default_factory=list, max_length=_MOST_STREAMS)
    together: Together | None = Field(default=None, description="Instead of streams.")
    quantity: str | None = Field(default=None, description="The main one of the first stream if left out.")
    window_s: int | None = Field(default=None, ge=120, le=800 * 86_400, description="So long until now.")
    from_: AwareDatetime | None = Field(default=None, alias="from", description="Held from here, with `to`.")
    to: AwareDatetime | None = None
    refresh_s: int = Field(default=60, ge=10, le=3600, description="How often it is asked for anew.")

    model_config = ConfigDict(populate_by_name=True)

    @model_validator(mode="after")
    def _has_one_window(self) -> "ChartBody":
        is_held = self.from_ is not None and self.to is not None and self.from_ < self.to
        if is_held == (self.window_s is not None):
            raise ValueError("give either window_s, or from and a later to")
        if bool(self.streams) == (self.together is not None):
            raise ValueError("give either streams, or together")
        return self


class NewSaved(Body):
    name: str = Field(min_length=1, max_length=80)
    body: Annotated[ViewBody | ChartBody, Field(discriminator="kind")]


class SavedShape(NewSaved):
    id: int

    @classmethod
    def of(cls, one: Saved) -> "SavedShape":
        return cls.model_validate({"id": one.id, "name": one.name, "body": one.body})


def _person_id(caller: Caller) -> int:
    assert caller.person is not None  # the guard saw to it
    return caller.person.id


@router.get("", summary="What one keeps under a name")
def list_saved(hub: HubDep, caller: Oneself) -> list[SavedShape]:
    with hub.database.reading() as connection:
        return [SavedShape.of(one) for one in store.saved(connection, _person_id(caller))]


@router.post("", status_code=201, summary="Keep something under a name", responses=responses(404, 422, 429, 507))
def keep(new: NewSaved, hub: HubDep, caller: Oneself) -> SavedShape:
    """What has the same name and kind is replaced."""
    if isinstance(new.body, ChartBody):
        known = {one.stream.id for one in joined_streams(hub.database)}
        if missing := set(new.body.streams) - known:
            raise SettingsError("streams", min(missing), "be the number of a stream that is measured")
        if new.body.together is not None:
            kind_named(new.body.together.probes)
            selected(hub.database, Selection(new.body.together.of, new.body.together.id))
        if new.body.quantity is not None:
            quantity_named(new.body.quantity)
    body = new.body.model_dump(mode="json", by_alias=True)
    job = partial(store.keep, person_id=_person_id(caller), kind=new.body.kind, name=new.name, body=body)
    return SavedShape.of(hub.writer.write(job))


@router.delete("/{saved}", status_code=204, summary="Forget it", responses=responses(404, 429))
def forget(saved: int, hub: HubDep, caller: Oneself) -> None:
    hub.writer.write(partial(store.forget, person_id=_person_id(caller), saved_id=saved))

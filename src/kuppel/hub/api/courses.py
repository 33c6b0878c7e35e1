"""Where vantage points that move have been."""

from datetime import datetime

from fastapi import APIRouter
from pydantic import BaseModel, Field

from kuppel.hub.api.guard import Access, may
from kuppel.hub.api.problem import responses
from kuppel.hub.api.shapes import HubDep, Position, WindowDep, at
from kuppel.store import positions
from kuppel.store.positions import Fix

router = APIRouter(prefix="/courses", tags=["vantage points"], dependencies=[may(Access.SEE)])
# More corners of a line than anybody sees on a map.
_MOST_FIXES = 600


class FixShape(Position):
    time: datetime


class CourseShape(BaseModel):
    vantage_point: int
    fixes: list[FixShape] = Field(description="In the order of time; the first is where it was as the window began.")


@router.get("", summary="Where vantage points that move have been", responses=responses(422))
def list_courses(hub: HubDep, window: WindowDep) -> list[CourseShape]:
    """Of long windows an even selection of the places, the last one among them."""
    with hub.database.reading() as connection:
        found = positions.courses(connection, window.from_us, window.to_us)
    return [
        CourseShape(
            vantage_point=vantage_point,
            fixes=[
                FixShape(time=at(one.time_us), longitude=one.position.longitude, latitude=one.position.latitude)
                for one in _selected(fixes)
            ],
        )
        for vantage_point, fixes in sorted(found.items())
    ]


def _selected(fixes: list[Fix]) -> list[Fix]:
    step = -(-len(fixes) // _MOST_FIXES)
    return fixes[::-1][::step][::-1]

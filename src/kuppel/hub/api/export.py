"""What was measured as a file for other programs."""

from typing import Annotated

from fastapi import APIRouter, Query
from fastapi.responses import StreamingResponse

from kuppel.hub.api.guard import Access, may
from kuppel.hub.api.problem import responses
from kuppel.hub.api.shapes import HubDep, WindowDep
from kuppel.hub.engine import export

router = APIRouter(prefix="/export", tags=["query"], dependencies=[may(Access.SEE)])


@router.get(
    "/runs.parquet",
    summary="Runs as an Apache Parquet file",
    responses=responses(404, 422) | {200: {"content": {"application/vnd.apache.parquet": {}}}},
    response_class=StreamingResponse,
)
def runs(
    hub: HubDep,
    window: WindowDep,
    streams: Annotated[list[int] | None, Query(max_length=5000, description="Numbers of streams; all if left out.")] = None,
) -> StreamingResponse:
    """One row a run; a column for each quantity, empty where it was not measured. Its unit is in the file's metadata."""
    found = export.chosen(hub.database, streams or [])
    name = f"runs-{window.from_:%Y%m%dT%H%M}-{window.to:%Y%m%dT%H%M}.parquet"
    return StreamingResponse(
        export.table(hub.readers, found, window.from_us, window.to_us),
        media_type="application/vnd.apache.parquet",
        headers={"Content-Disposition": f'attachment; filename="{name}"'},
    )

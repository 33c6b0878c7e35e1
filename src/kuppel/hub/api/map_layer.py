"""The layer that the map draws instead of the world's coasts."""

from typing import Annotated, Any

import orjson
from fastapi import APIRouter, Body, Response

from kuppel.hub.api.guard import Access, Admin, may
from kuppel.hub.api.problem import responses
from kuppel.hub.api.shapes import HubDep
from kuppel.hub.engine.change import Changed, change
from kuppel.hub.hub import now_us
from kuppel.hub.map_layer import layer_file
from kuppel.wire.geojson import checked_layer

router = APIRouter(prefix="/map-layer", tags=["map"])
LayerBody = Annotated[Any, Body(media_type="application/geo+json")]


@router.get(
    "",
    summary="The map's own layer",
    dependencies=[may(Access.SEE)],
    responses={200: {"content": {"application/geo+json": {}}, "description": "GeoJSON, or null without a layer."}},
)
def read_layer(hub: HubDep) -> Response:
    path = layer_file(hub.settings.data)
    return Response(path.read_bytes() if path.exists() else b"null", media_type="application/geo+json")


@router.put("", status_code=204, summary="Give the map a layer of one's own", responses=responses(413, 422, 429))
def put_layer(body: LayerBody, hub: HubDep, caller: Admin) -> None:
    """GeoJSON (RFC 7946): a FeatureCollection of polygons and lines."""
    layer = checked_layer(body)
    told: dict[str, Any] = {"features": len(layer["features"])}
    path = layer_file(hub.settings.data)
    part = path.with_suffix(".part")
    part.write_bytes(orjson.dumps(layer))
    part.replace(path)
    change(hub.writer, caller, "changed", now_us(), lambda _: Changed(None, "the map's layer", None, told))


@router.delete("", status_code=204, summary="Draw the world's coasts again", responses=responses(429))
def remove_layer(hub: HubDep, caller: Admin) -> None:
    layer_file(hub.settings.data).unlink(missing_ok=True)
    change(hub.writer, caller, "removed", now_us(), lambda _: Changed(None, "the map's layer"))

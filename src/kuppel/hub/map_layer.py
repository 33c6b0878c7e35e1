"""Where the map's own layer lies: a GeoJSON file in the hub's folder."""

from pathlib import Path


def layer_file(folder: Path) -> Path:
    return folder / "map-layer.geojson"

"""A matrix of many cells, made from the demo's own answer, for the browser to draw."""

import json
from typing import Any

from playwright.sync_api import Page

from tests.web.stage import demo


def serve(page: Page, points: int = 200, targets: int = 60) -> None:
    """Answer the matrix's question with one of so many vantage points and targets; every 17th cell is breached."""
    small = demo().ask("matrix")
    row, column = small["rows"][0], small["columns"][0]
    cell: dict[str, Any] = next(one for one in small["cells"] if one["shown"])
    small["rows"] = [row | {"id": at + 1, "name": f"point {at:03}"} for at in range(points)]
    small["columns"] = [column | {"id": at + 1, "name": f"target {at:02}"} for at in range(targets)]
    small["cells"] = [
        cell | {"vantage_point": a + 1, "target": b + 1, "state": "breached" if (a + b) % 17 == 0 else "fine"}
        for a in range(points)
        for b in range(targets)
    ]
    body = json.dumps(small)
    page.route("**/api/matrix?*", lambda route: route.fulfill(body=body, content_type="application/json"))

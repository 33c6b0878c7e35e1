"""The built web application: hashed assets that never change, and one page for every address of its own."""

from pathlib import Path

from starlette.exceptions import HTTPException
from starlette.responses import Response
from starlette.staticfiles import StaticFiles
from starlette.types import Scope


class WebApplication(StaticFiles):
    """Serves the folder of the build; an address that is no file is the single page's own business."""

    def __init__(self, folder: Path) -> None:
        super().__init__(directory=folder, html=True)

    async def get_response(self, path: str, scope: Scope) -> Response:
        try:
            response = await super().get_response(path, scope)
        except HTTPException as error:
            is_page = not path.startswith(("api/", "assets/")) and "." not in path.rsplit("/", 1)[-1]
            if error.status_code != 404 or not is_page:
                raise
            response = await super().get_response("index.html", scope)
        # The page names the assets of its build: it is asked for anew. The icon is asked for at every change of screen.
        if path.startswith("assets/"):
            kept = "public, max-age=31536000, immutable"
        elif response.headers.get("Content-Type", "").startswith("text/html"):
            kept = "no-cache"
        else:
            kept = "public, max-age=86400"
        response.headers["Cache-Control"] = kept
        return response

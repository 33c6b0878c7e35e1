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
        is_hashed = path.startswith("assets/")
        response.headers["Cache-Control"] = "public, max-age=31536000, immutable" if is_hashed else "no-cache"
        return response

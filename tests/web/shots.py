"""Pictures of the main views from a fresh demo, for docs/screenshots: `./run shots`."""

import time
from collections.abc import Callable

from playwright.sync_api import Page

from tests.web import stage
from tests.web.stage import ROOT, demo, new_page

FOLDER = ROOT / "docs" / "screenshots"


def stream_named(probe: str, point: str) -> int:
    found: int = next(
        one["stream"] for one in demo().ask("streams") if one["probe"] == probe and one["vantage_point"] == point
    )
    return found


def picture(name: str, path: str, act: Callable[[Page], None] | None = None, **page_options: object) -> None:
    page = new_page(**page_options)  # type: ignore[arg-type]
    page.goto(demo().url + path)
    page.locator("h1").first.wait_for()
    time.sleep(2)
    if act is not None:
        act(page)
        time.sleep(1.2)
    page.screenshot(path=str(FOLDER / f"{name}.png"))
    page.context.close()
    print(f"docs/screenshots/{name}.png")


def main() -> None:
    FOLDER.mkdir(parents=True, exist_ok=True)
    demo()
    time.sleep(75)  # the first live results, every probe a few times
    front = stream_named("booking front page", "Lundhavn")
    failing = stream_named("sailings API", "Lundhavn")
    picture("matrix", "/matrix")
    picture("matrix-cell", "/matrix", lambda page: page.hover("[data-cell='0-1']"))
    picture("stream", f"/streams/{front}")
    picture("stream-failed-run", f"/streams/{failing}?runs=failed", lambda page: page.locator("[data-run]").first.click())
    picture("stream-night", f"/streams/{front}", theme="dark")
    picture("vantage-points", "/vantage-points")
    picture("matrix-phone", "/matrix", width=390)
    stage.stop()


main()

"""Pictures of the main views from a fresh demo, for docs/screenshots: `./run shots`."""

import re
import time
from collections.abc import Callable

from playwright.sync_api import Page, expect

from tests.web import stage
from tests.web.stage import ROOT, demo, new_page

FOLDER = ROOT / "docs" / "screenshots"


def picture(
    name: str, path: str, act: Callable[[Page], None] | None = None, *, is_signed_in: bool = True, **page_options: object
) -> None:
    page = new_page(**page_options)  # type: ignore[arg-type]
    if is_signed_in:
        # One session for all pictures: the record would be full of signing in.
        page.context.add_cookies(
            [{"name": one.name, "value": one.value or "", "url": demo().url} for one in demo().api.cookies.jar]
        )
    page.goto(demo().url + path)
    page.locator("h1").first.wait_for()
    time.sleep(2)
    expect(page.locator("[aria-busy=true]")).to_have_count(0, timeout=20_000)
    if act is not None:
        act(page)
        time.sleep(1.2)
    page.screenshot(path=str(FOLDER / f"{name}.png"))
    page.context.close()
    print(f"docs/screenshots/{name}.png")


def furnish() -> None:
    """A few acts of the demo's people, for the record and the lists of tokens."""
    api = demo().api
    target = api.post("targets", json={"name": "lifeboat crew", "description": "who is on call"}).json()["id"]
    api.put(f"targets/{target}", json={"name": "lifeboat crew", "description": "who is on call, for the bridge"})
    api.delete(f"targets/{target}")
    api.post("tokens", json={"name": "weekly report", "scopes": ["see"], "expires_days": 90})
    api.post("tokens", json={"name": "release pipeline", "scopes": ["see", "edit"], "expires_days": 365})
    api.post("enrolment-tokens", json={"name": "laptops at home", "kind": "personal", "most_uses": 100, "expires_h": 24})
    api.post("session", json={"name": "tobias", "password": "not this one"})


def try_probe(page: Page) -> None:
    page.get_by_label("call it").fill("times page")
    page.get_by_label("target", exact=True).select_option(label="booking API")
    page.get_by_label("web address").fill("https://api.skerry.example/sailings")
    for name in ("Lundhavn", "North"):
        page.get_by_label(re.compile(f"^{name}")).check()
    page.get_by_role("button", name="Try it").click()
    page.get_by_role("button", name="Try again").wait_for()


def main() -> None:
    FOLDER.mkdir(parents=True, exist_ok=True)
    demo(days=45)
    time.sleep(75)  # the first live results, every probe a few times
    front = demo().stream("booking front page", "Lundhavn")
    failing = demo().stream("sailings API", "Lundhavn")
    furnish()
    picture("now", "/now")
    picture("matrix", "/matrix")
    picture("matrix-cell", "/matrix", lambda page: page.hover("[data-cell='0-1']"))
    picture("stream", f"/streams/{front}")
    picture("stream-failed-run", f"/streams/{failing}?runs=failed", lambda page: page.locator("[data-run]").first.click())
    picture("stream-night", f"/streams/{front}", theme="dark")
    picture("vantage-points", "/vantage-points")
    picture("sign-in", "/sign-in", is_signed_in=False)
    picture("access-people", "/access")
    picture("map", "/map", lambda page: page.locator("[data-place]").filter(has_text="Lundhavn").focus())
    picture("everything", "/estate")
    points = {one["name"]: one["id"] for one in demo().ask("vantage-points")}
    picture("vantage-point", f"/vantage-points/{points['Lundhavn']}?against=week")
    reach = [demo().stream("reach the booking site", name) for name in ("Lundhavn", "Averil", "Brannick", "Vessna")]
    picture("compare", f"/compare?streams={','.join(map(str, reach))}&against=yesterday")
    picture("store", "/store")
    picture("probes", "/probes")
    picture("probe-tried", "/probes/new?kind=http", try_probe)
    for name, probe, point in (
        ("run-call", "call the bridge, from home", "Tobias R."), ("run-path", "path to the booking site", "Ines H."),
    ):  # fmt: skip
        stream = demo().stream(probe, point)
        picture(name, f"/streams/{stream}", lambda page: page.locator("[data-run]").first.click())
    picture("matrix-phone", "/matrix", width=390)
    stage.stop()


main()

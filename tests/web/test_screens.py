"""What people do on the screens, in a real browser on the real demo."""

import json
import re
import time
import unittest
from datetime import UTC, datetime, timedelta
from zoneinfo import ZoneInfo

from playwright.sync_api import Page, expect

from tests.web import stage
from tests.web.stage import AXE, PEOPLE, BrowserCase, demo, new_page

SCREENS = (
    "/now",
    "/matrix", "/streams/1", "/streams/9", "/streams/15", "/vantage-points", "/vantage-points?put=yes", "/store", "/access",
    "/access?part=tokens", "/access?part=record", "/password", "/nowhere-at-all", "/targets?target=new",
    "/groups?group=new", "/probes", "/probes/new", "/probes/new?kind=transaction", "/coverage", "/map", "/estate",
    "/targets/1", "/vantage-points/1", "/groups/1", "/compare", "/compare?streams=1,2,3&against=yesterday",
)  # fmt: skip


class Store(BrowserCase):
    def test_it_says_how_much_room_there_is_and_what_takes_it(self) -> None:
        self.open("/store")
        told = demo().ask("store")
        expect(self.page.get_by_text(told["sentence"])).to_be_visible()
        rows = self.page.get_by_role("row")
        for one in told["kinds"]:
            if one["bytes"]:
                expect(rows.filter(has_text=one["label"])).to_contain_text(one["kept"])
        expect(self.page.get_by_text("commits took at most")).to_be_visible()


class Matrix(BrowserCase):
    def test_every_figure_is_the_apis(self) -> None:
        self.open("/matrix?measure=availability&from=2026-01-01T00:00:00Z&to=2026-01-01T01:00:00Z")
        # A window before anything was measured holds no figure, and says so.
        expect(self.page.locator("[data-cell='0-0']")).to_contain_text("–")
        # A run that began a minute ago has been told of, two tries of ten seconds included.
        until = datetime.now(UTC).replace(microsecond=0) - timedelta(minutes=1)
        since = until.replace(minute=0, second=0)
        window = f"from={since.isoformat()}&to={until.isoformat()}".replace("+00:00", "Z")
        self.open(f"/matrix?measure=availability&rows=none&{window}")
        found = demo().ask(f"matrix?measure=availability&{window}")
        # By what a cell is called: rows change their order as soon as a state does.
        shown = self.page.locator("[data-cell]").evaluate_all(
            "all => all.map(one => [one.ariaLabel, one.querySelector(':scope > span')?.innerText])"
        )
        figures = {label.split(":")[0]: told for label, told in shown}
        points, targets = ({one["id"]: one["name"] for one in found[side]} for side in ("rows", "columns"))
        self.assertGreater(len(figures), 50)
        for cell in found["cells"]:
            name = f"{points[cell['vantage_point']]} to {targets[cell['target']]}"
            # A row that is silent as a whole is one cell that says so.
            if name in figures and cell["figure"]["value"] is not None:
                self.assertAlmostEqual(float(figures[name]), cell["figure"]["value"] * 100, delta=0.051, msg=name)

    def test_measure_is_kept_in_the_address_and_survives_a_reload(self) -> None:
        self.open("/matrix")
        self.page.get_by_role("radio", name="loss").click()
        expect(self.page.get_by_text("% of packets lost in the window")).to_be_visible()
        self.assertIn("measure=loss", self.query())
        self.page.reload()
        expect(self.page.get_by_role("radio", name="loss")).to_have_attribute("aria-checked", "true")

    def test_arrows_walk_the_cells_and_enter_opens_one(self) -> None:
        self.open("/matrix")
        self.page.locator("[data-cell='0-0']").focus()
        walked = ["0-0"]
        for key in ("ArrowDown", "ArrowRight", "ArrowLeft", "ArrowUp"):
            self.page.keyboard.press(key)
            expect(self.page.locator(f"[data-cell='{walked[-1]}']")).not_to_be_focused()
            walked.append(self.page.evaluate("document.activeElement.dataset.cell"))
        # Down, right and back again, over whatever has no probe.
        self.assertEqual((walked[3], walked[4]), (walked[1], walked[0]))
        expect(self.page.get_by_role("tooltip")).to_contain_text(demo().ask("matrix")["columns"][0]["name"])
        self.page.keyboard.press("Enter")
        expect(self.page.get_by_role("heading", name="Latest runs")).to_be_visible()
        self.assertRegex(self.path(), r"^/streams/\d+$")

    def test_narrowing_leaves_what_fits_and_offers_the_way_back(self) -> None:
        self.open("/matrix?find=Quillnet")
        expect(self.page.get_by_role("rowheader", name="Lundhavn")).to_be_visible()
        found = demo().ask("matrix")
        ours = {one["id"] for one in found["rows"] if one["provider"] == "Quillnet"}
        cells = [one for one in found["cells"] if one["vantage_point"] in ours]
        expect(self.page.locator("[data-cell]")).to_have_count(len(cells))
        self.page.get_by_label("Narrow by name").fill("nobody")
        self.page.get_by_role("button", name="Show all").click()
        expect(self.page.locator("[data-cell]").nth(len(cells) + 40)).to_be_attached()


class Stream(BrowserCase):
    def test_from_the_matrix_into_a_stream_where_a_new_result_arrives_live(self) -> None:
        self.open("/matrix?find=harbour+office,+Ostrey")
        self.page.locator("[data-cell]").filter(has_text="of 5").first.click()
        newest = self.page.locator("[data-run]").first
        newest.wait_for()
        stream = int(self.path().rsplit("/", 1)[-1])
        began = datetime.now(UTC)
        # The probe runs every minute; nobody reloads the page.
        while True:
            run = demo().ask(f"streams/{stream}/runs?limit=1")["runs"][0]
            started = datetime.fromisoformat(run["time"])
            if started > began:
                break
            self.assertLess(datetime.now(UTC) - began, timedelta(seconds=90))
            time.sleep(1)
        expect(newest).to_contain_text(started.astimezone(ZoneInfo("Europe/Oslo")).strftime("%H:%M:%S"), timeout=15_000)
        self.assertEqual(run["is_generated"], False)

    def test_a_failed_run_says_why_and_shows_every_try(self) -> None:
        stream = demo().stream("sailings API", "Lundhavn")
        self.open(f"/streams/{stream}?runs=failed&span=8d&window=86400")
        self.page.locator("[data-run]").first.click()
        expect(self.page.get_by_text("try 2 at").first).to_be_visible()
        expect(self.page.get_by_text(re.compile(r"status 50\d, expected 200")).first).to_be_visible()
        self.assertIn("run=", self.query())
        self.page.locator("[data-run]").first.press("Escape")
        expect(self.page.get_by_text("try 2 at")).to_have_count(0)

    def test_arrows_walk_the_runs(self) -> None:
        self.open("/streams/1")
        self.page.locator("[data-run]").first.focus()
        self.page.keyboard.press("ArrowDown")
        expect(self.page.locator("[data-run]").nth(1)).to_be_focused()
        self.page.keyboard.press("Enter")
        expect(self.page.get_by_text("usual run")).to_be_visible()

    def test_phases_are_those_of_the_standard_in_order(self) -> None:
        self.open(f"/streams/{demo().stream('booking front page', 'Brannick')}")
        bar = self.page.locator("[data-run]").filter(has_not_text="none").first.get_by_role("img").last
        spoken = bar.get_attribute("aria-label") or ""
        self.assertEqual(
            re.findall(r"(name|connect|secure|wait|receive) ", spoken), ["name", "connect", "secure", "wait", "receive"]
        )

    def test_a_stream_that_is_not_there(self) -> None:
        self.open("/streams/99999")
        expect(self.page.get_by_role("alert")).to_contain_text("There is no stream 99999")
        # The browser itself notes the answer's status.
        self.assertTrue(all("404" in one for one in self.complaints))
        self.complaints.clear()


class Clock(BrowserCase):
    def test_the_ribbon_by_keyboard_holds_the_window_and_n_lets_it_go(self) -> None:
        self.open("/matrix")
        expect(self.page.get_by_text("following now")).to_be_visible()
        self.page.get_by_role("slider", name="Time ribbon").focus()
        self.page.keyboard.press("ArrowLeft")
        expect(self.page.get_by_role("button", name="held, back to now")).to_be_visible()
        self.assertRegex(self.query(), r"from=.*to=")
        self.page.keyboard.press("n")
        expect(self.page.get_by_text("following now")).to_be_visible()

    def test_drawing_on_the_ribbon_chooses_a_window(self) -> None:
        self.open("/streams/1")
        box = self.page.get_by_role("slider", name="Time ribbon").bounding_box()
        assert box is not None
        self.page.mouse.move(box["x"] + box["width"] * 0.5, box["y"] + 30)
        self.page.mouse.down()
        self.page.mouse.move(box["x"] + box["width"] * 0.6, box["y"] + 30, steps=6)
        self.page.mouse.up()
        expect(self.page.get_by_role("button", name="held, back to now")).to_be_visible()
        found = re.search(r"from=([^&]+)&to=([^&]+)", self.query())
        assert found is not None
        since, until = (datetime.fromisoformat(one.replace("%3A", ":").replace("Z", "+00:00")) for one in found.groups())
        # A tenth of 36 h, to the width of a pixel (the ribbon keeps 0.8 % of room at its right).
        self.assertAlmostEqual((until - since).total_seconds() / 3600, 3.63, delta=0.1)

    def test_an_instant_stands_on_every_track(self) -> None:
        self.open("/streams/1")
        plot = self.page.locator("svg[viewBox='0 0 1000 100']").first
        plot.wait_for()
        plot.hover()
        expect(self.page.get_by_text("at the instant")).to_be_visible()
        plot.click()
        expect(self.page.get_by_role("button", name=re.compile("pinned at"))).to_be_visible()
        self.page.keyboard.press("Escape")
        expect(self.page.get_by_role("button", name=re.compile("pinned at"))).to_have_count(0)


class Finding(BrowserCase):
    def test_slash_finds_a_stream_by_words_in_any_order(self) -> None:
        self.open("/vantage-points")
        self.page.keyboard.press("/")
        self.page.get_by_role("combobox", name="Find or do anything").press_sequentially("fulmar chart")
        first = self.page.get_by_role("option").first
        expect(first).to_contain_text("charts for the bridge from MV Fulmar")
        expect(first).to_have_class(re.compile("bg-accent-wash"))
        self.page.keyboard.press("Enter")
        expect(self.page.get_by_role("heading", name="charts for the bridge")).to_be_visible()

    def test_the_theme_is_switched_and_remembered(self) -> None:
        self.open("/matrix")
        self.page.get_by_role("button", name="Switch to night").click()
        self.page.reload()
        self.assertEqual(self.page.locator("html").get_attribute("data-theme"), "night")


class VantagePoints(BrowserCase):
    def test_who_measures_and_how_well(self) -> None:
        self.open("/vantage-points")
        for name in ("Brannick", "Lundhavn", "MV Fulmar", "North"):
            expect(self.page.get_by_role("rowheader", name=name)).to_be_visible()
        self.page.get_by_label("Narrow by name").fill("10.7.0.10")
        expect(self.page.get_by_role("rowheader")).to_have_count(1)


class EveryScreen(BrowserCase):
    """By axe-core: WCAG 2.1, levels A and AA, in both themes. By us: nothing runs over the edge, at a desk and on a phone.

    All of it on one load of each screen: the theme and the width change under it, as they do for people.
    """

    role = "admin"

    def test_is_accessible_and_fits(self) -> None:
        page = new_page(is_bare=True)  # axe is a script of ours, which the policy would refuse
        self.addCleanup(page.context.close)
        self.look_at(page, "/sign-in")
        stage.sign_in(page, demo().url, **PEOPLE["admin"])
        for path in SCREENS:
            self.look_at(page, path)

    def look_at(self, page: Page, path: str) -> None:
        page.set_viewport_size({"width": 1280, "height": 800})
        page.goto(demo().url + path)
        page.locator("h1").first.wait_for()
        time.sleep(0.8)  # queries answer, the first paint settles
        page.add_script_tag(path=str(AXE))
        for theme in ("day", "night"):
            page.evaluate("theme => { document.documentElement.dataset.theme = theme }", theme)
            with self.subTest(path, theme=theme):
                found = page.evaluate(
                    "axe.run(document, {runOnly: ['wcag2a', 'wcag2aa', 'wcag21a', 'wcag21aa']})"
                    ".then(r => r.violations.map(v => [v.id, v.nodes.map(n => n.target.join(' ')).slice(0, 4)]))"
                )
                self.assertEqual(found, [], json.dumps(found, indent=1))
        for width in (1280, 390):
            page.set_viewport_size({"width": width, "height": 800})
            with self.subTest(path, width=width):
                time.sleep(0.2)
                self.assertEqual(page.evaluate("document.documentElement.scrollWidth"), width)


if __name__ == "__main__":
    unittest.main()

"""Watching: what people do from Now on, in at most four actions each, and the screens on which they compare.

The demo's open faults are known: Quillnet is slow, the booking API fails, Averil's line is full, the laptop of Tobias R. is
far from its access point, MV Guillemot sends nothing.
"""

import csv
import json
import re
import time
import unittest
from datetime import datetime
from pathlib import Path
from typing import Any

from playwright.sync_api import Locator, expect

from tests.web.stage import BrowserCase, demo


def all_known() -> list[dict[str, Any]]:
    """What needs attention, once what is usual is known: the hub finds it in its first minute."""
    for _ in range(90):
        found: list[dict[str, Any]] = demo().ask("now")["matters"]
        if any(one["name"] == "Quillnet" for one in found):
            return found
        time.sleep(1)
    raise AssertionError([one["sentence"] for one in found])


class Now(BrowserCase):
    """The demo's open faults, each told once under what its streams share."""

    def matter(self, words: str) -> Locator:
        all_known()
        self.open("/now")
        found = self.page.locator("[data-matter]").filter(has_text=words)
        expect(found.first).to_be_visible()
        return found.first

    def test_what_is_wrong_is_told_under_what_it_shares(self) -> None:
        names = {one["name"] for one in all_known()}
        self.assertLessEqual({"booking API", "Averil", "Quillnet", "MV Guillemot"}, names)
        self.open("/")
        matters = self.page.locator("[data-matter]")
        expect(matters.filter(has_text="at Quillnet are")).to_have_count(1)
        expect(matters.filter(has_text="MV Guillemot has sent nothing")).to_have_count(1)

    def test_certificates_and_silence_stand_beside(self) -> None:
        self.open("/now")
        expect(self.page.get_by_text("Certificates, next to end")).to_be_visible()
        expect(self.page.get_by_role("link", name="ticket gates", exact=True)).to_be_visible()
        expect(self.page.get_by_role("heading", name="Silent")).to_be_visible()

    def test_the_slow_provider_in_one_action(self) -> None:
        self.matter("at Quillnet are").get_by_role("link").first.click()
        expect(self.page.get_by_role("rowheader", name="Ines H.")).to_be_visible()
        expect(self.page.locator("td.bg-slower-4, td.bg-slower-3").first).to_be_visible()

    def test_the_laptop_with_bad_calls_and_a_colleague_in_two_actions(self) -> None:
        self.matter("Tobias R.").get_by_role("link", name="call the bridge, from home").click()
        self.page.get_by_role("link", name="compare with its peers").click()
        rows = self.page.locator("[data-compared]")
        expect(rows.first).to_contain_text("Tobias R. to the bridge calls")
        expect(rows).to_have_count(6)
        # Colleagues of the same provider, whose calls are better by more than chance.
        colleague = rows.filter(has_text="Vaskfiber").nth(1)
        expect(colleague).to_be_visible()
        stream = demo().stream("call the bridge, from home", "Tobias R.")
        told = demo().ask(
            f"query/comparison?streams={stream}&streams={demo().stream('call the bridge, from home', 'Freja B.')}"
        )
        self.assertTrue(told["streams"][1]["from_first"]["is_clear"])

    def test_how_many_targets_answered_within_their_limit_last_week_in_two_actions(self) -> None:
        self.open("/now")
        self.page.get_by_role("link", name="Everything").click()
        self.page.get_by_role("radio", name="5 w").click()
        found = demo().ask(f"overview?of=all&from={_ago(7 * 86_400)}&to={_ago(0)}")
        good = sum(one["answer"] in ("clear", "within") for one in found["targets"])
        expect(
            self.page.get_by_role("heading", name=f"{good} of {len(found['targets'])} targets answered within their limit")
        ).to_be_visible()

    def test_today_against_last_week_for_one_target_in_four_actions(self) -> None:
        self.open("/now")
        self.page.keyboard.press("/")
        self.page.get_by_role("combobox", name="Find or do anything").press_sequentially("crew roster")
        expect(self.page.get_by_role("option").first).to_contain_text("target")
        self.page.keyboard.press("Enter")
        self.page.get_by_role("button", name="against").click()
        self.page.get_by_role("menuitem", name="same time last week").click()
        expect(self.page.locator("[data-before]").first).to_be_attached()
        self.assertIn("against=week", self.query())

    def test_a_chart_is_pinned_and_unpinned(self) -> None:
        stream = demo().stream("booking front page", "Kelmouth")
        self.open(f"/streams/{stream}")
        self.page.get_by_role("button", name="pin to Now").click()
        self.page.get_by_label("under the name").fill("Kelmouth's front page")
        self.page.get_by_role("button", name="Pin it").click()
        expect(self.page.get_by_role("button", name="Pin it")).to_have_count(0)
        self.open("/now")
        pinned = self.page.locator("[data-pinned]").filter(has_text="Kelmouth's front page")
        expect(pinned.locator("[data-line]")).to_have_count(1)
        expect(pinned).to_contain_text("last 4 h, every 60 s")
        pinned.get_by_role("button", name="Unpin").click()
        expect(pinned).to_have_count(0)


class Clock(BrowserCase):
    def test_back_undoes_a_window_and_forward_does_it_again(self) -> None:
        self.open("/matrix")
        self.page.get_by_role("radio", name="8 d").click()
        self.page.get_by_role("slider", name="Time ribbon").press("ArrowLeft")
        expect(self.page.get_by_role("button", name="held, back to now")).to_be_visible()
        self.page.go_back()
        expect(self.page.get_by_text("following now")).to_be_visible()
        self.page.go_back()
        expect(self.page.get_by_role("radio", name="36 h")).to_have_attribute("aria-checked", "true")
        self.page.go_forward()
        self.page.go_forward()
        expect(self.page.get_by_role("button", name="held, back to now")).to_be_visible()

    def test_a_window_is_typed(self) -> None:
        self.open("/matrix")
        self.page.get_by_role("button", name=re.compile("^window")).click()
        self.page.get_by_label("from", exact=True).fill("2026-11-20T08:00")
        self.page.get_by_label("to", exact=True).fill("2026-11-20T07:00")
        self.page.get_by_role("button", name="Look at it").click()
        expect(self.page.get_by_text("The window must end after it begins.")).to_be_visible()
        self.page.get_by_label("to", exact=True).fill("2026-11-20T09:30")
        self.page.get_by_role("button", name="Look at it").click()
        # Typed in Oslo, an hour ahead of UTC in winter; kept in the address as UTC.
        self.assertIn("from=2026-11-20T07:00:00.000Z&to=2026-11-20T08:30:00.000Z", self.query().replace("%3A", ":"))

    def test_c_holds_the_window_against_another_and_lets_it_go(self) -> None:
        self.open("/matrix")
        self.page.keyboard.press("c")
        expect(self.page.get_by_role("button", name="against")).to_contain_text("same time yesterday")
        self.assertIn("against=yesterday", self.query())
        self.page.keyboard.press("c")
        expect(self.page.get_by_role("button", name="against")).to_contain_text("nothing")

    def test_an_arch_leads_to_its_window(self) -> None:
        self.open("/matrix")
        arches = demo().ask(f"ribbon?slices=190&from={_ago(36 * 3600)}&to={_ago(0)}")["arches"]
        self.assertIn("Quillnet", [one["name"] for one in arches])
        expect(self.page.locator("[data-arch]").first).to_be_attached()
        box = self.page.get_by_role("slider", name="Time ribbon").bounding_box()
        assert box is not None
        # The first one from the right edge is open; the shortest of the open ones is told.
        told = self.page.locator(".lifted").first
        for step in range(40):
            self.page.mouse.move(box["x"] + box["width"] * (0.999 - step / 1000), box["y"] + 40)
            if told.count():
                break
        expect(told).to_contain_text(re.compile("(breached|degraded), .* until now"))
        name = re.split(" breached| degraded", told.inner_text())[0]
        arch = max((one for one in arches if one["name"] == name and one["is_open"]), key=lambda one: one["from"])
        self.page.mouse.down()
        self.page.mouse.up()
        # From a little before it began until now.
        begun = datetime.fromisoformat(arch["from"]).timestamp()
        expect(self.page).to_have_url(re.compile("window="))
        length = int(re.search(r"window=(\d+)", self.query())[1])  # type: ignore[index]
        self.assertGreater(length, time.time() - begun)
        self.assertLess(length, 1.5 * (time.time() - begun))

    def test_dragging_over_a_chart_looks_closer(self) -> None:
        self.open(f"/streams/{demo().stream('reach the booking site', 'Lundhavn')}")
        track = self.page.get_by_role("slider", name=re.compile("^Round trip over time"))
        box = track.bounding_box()
        assert box is not None
        self.page.mouse.move(box["x"] + box["width"] * 0.25, box["y"] + 40)
        self.page.mouse.down()
        self.page.mouse.move(box["x"] + box["width"] * 0.5, box["y"] + 40, steps=5)
        self.page.mouse.up()
        expect(self.page.get_by_role("button", name="held, back to now")).to_be_visible()
        self.page.go_back()
        expect(self.page.get_by_text("following now")).to_be_visible()
        track.focus()
        self.page.keyboard.press("ArrowLeft")
        expect(self.page.get_by_text("at the instant")).to_be_visible()


class Matrix(BrowserCase):
    def test_tint_is_the_apis_departure_from_usual(self) -> None:
        all_known()
        self.open("/matrix?rows=none")
        point = "Averil"
        row = self.page.get_by_role("row").filter(has=self.page.get_by_role("rowheader", name=point))
        expect(row.locator("td.bg-slower-4").first).to_be_visible()
        fine = self.page.get_by_role("row").filter(has=self.page.get_by_role("rowheader", name="Ostrey"))
        expect(fine.locator("td.bg-slower-3, td.bg-slower-4")).to_have_count(0)

    def test_rows_stand_by_country_and_by_person(self) -> None:
        self.open("/matrix")
        heads = self.page.locator("th[scope=rowgroup] b")
        for by in ("country", "person"):
            self.page.get_by_label("rows by").select_option(by)
            expect(heads.first).to_be_visible()
            stated = {one[by] for one in demo().ask("matrix")["rows"]}
            wanted = {one or "not stated" for one in stated}
            self.page.wait_for_function("(by) => location.search.includes(`rows=${by}`)", arg=by)
            self.assertEqual(set(heads.all_inner_texts()), wanted)

    def test_any_quantity_of_a_kind_by_any_statistic(self) -> None:
        window = f"from={_ago(6 * 3600)}&to={_ago(0)}"
        self.open(f"/matrix?{window}")
        self.page.get_by_label("kind of probe").select_option(label="web fetch")
        self.page.get_by_label("figure", exact=True).select_option(label="from request to first byte")
        self.page.get_by_role("radio", name="p99").click()
        found = demo().ask(f"matrix?measure=p99&kind=http&quantity=first_byte&{window}")
        by_id = {one["id"]: one["name"] for one in found["rows"]}
        targets = {one["id"]: one["name"] for one in found["columns"]}
        cells = [one for one in found["cells"] if one["figure"]["value"] is not None and one["figure"]["count"] >= 30]
        self.assertGreater(len(cells), 20)
        for cell in cells[:6]:
            value = cell["figure"]["value"]
            told = f"{by_id[cell['vantage_point']]} to {targets[cell['target']]}: "
            link = self.page.get_by_role("link", name=re.compile(f"^{re.escape(told)}"))
            shown = re.search(r": ([\d.,]+)", link.get_attribute("aria-label") or "")
            assert shown is not None
            # Three figures that count are shown.
            self.assertAlmostEqual(float(shown[1].replace(",", "")), value, delta=0.006 * value)

    def test_what_is_shown_is_a_file(self) -> None:
        self.open("/matrix?find=Quillnet")
        expect(self.page.get_by_role("rowheader", name="Lundhavn")).to_be_visible()
        with self.page.expect_download() as told:
            self.page.get_by_role("button", name="CSV").click()
        rows = list(csv.reader(Path(told.value.path()).read_text().splitlines()))
        self.assertEqual({one[1] for one in rows[1:]}, {"Quillnet"})
        self.assertEqual(len(rows[0]), 5 + 3 * len(demo().ask("matrix")["columns"]))

    def test_a_view_is_saved_and_found_again(self) -> None:
        self.open("/matrix?find=Tarnmobile&measure=loss")
        self.page.get_by_role("button", name="save", exact=True).click()
        self.page.get_by_label("Name for this view").fill("Tarnmobile's loss")
        self.page.get_by_role("button", name="Save", exact=True).click()
        expect(self.page.get_by_role("button", name="saved 1")).to_be_visible()
        self.open("/now")
        self.page.get_by_role("link", name="Tarnmobile's loss").click()
        self.assertIn("measure=loss", self.query())
        self.page.get_by_role("button", name="saved 1").click()
        self.page.get_by_role("button", name="Forget Tarnmobile's loss").click()
        expect(self.page.get_by_role("button", name="save", exact=True)).to_be_visible()


class Pages(BrowserCase):
    def test_everything_by_class_leads_to_its_streams(self) -> None:
        self.open("/estate?window=14400")
        self.page.get_by_role("button", name="no good answer").click()
        self.assertIn("class=failed", self.query())
        expect(self.page.get_by_role("columnheader", name="such runs")).to_be_visible()
        expect(self.page.get_by_role("cell", name="booking API").first).to_be_visible()

    def test_a_target_and_back_to_a_vantage_point(self) -> None:
        targets = {one["name"]: one["id"] for one in demo().ask("targets")}
        self.open(f"/targets/{targets['crew roster']}")
        self.page.get_by_role("link", name="Lundhavn").first.click()
        expect(self.page.get_by_role("heading", name="Others, from the slowest")).to_be_visible()
        self.assertRegex(self.path(), r"^/vantage-points/\d+$")

    def test_a_chart_as_a_table_says_how_it_was_asked(self) -> None:
        self.open(f"/streams/{demo().stream('reach the booking site', 'Lundhavn')}")
        self.page.get_by_role("button", name="as a table", exact=True).click()
        region = self.page.get_by_role("region", name=re.compile("as a table"))
        query = region.locator("code").inner_text()
        found = demo().ask(query.removeprefix("/api/"))
        # The table is of the window, as the API has it.
        expect(region.get_by_role("row")).to_have_count(len(found["starts"]) + 1)

    def test_a_group_from_its_list_and_one_kind_of_its_probes(self) -> None:
        # A window that ended: what it holds does not change under the test.
        window = f"from={_ago(5 * 3600)}&to={_ago(3600)}"
        self.open(f"/groups?{window}")
        self.page.get_by_role("link", name="booking", exact=True).click()
        expect(self.page.get_by_text(re.compile(r"streams of booking (is|are) not fine"))).to_be_visible()
        self.page.get_by_role("radio", name="reach").click()
        self.assertIn("kind=icmp", self.query())
        # Only what answers by that kind is in figures; all streams stay in the list.
        group = next(one for one in demo().ask("groups") if one["name"] == "booking")
        found = demo().ask(f"overview?of=group&id={group['id']}&kind=icmp&{window}")
        runs = sum(sum(one["counts"].values()) for one in found["targets"])
        self.assertGreater(runs, 100)
        expect(self.page.get_by_role("heading", name=f"{runs:,} runs by their limits")).to_be_visible()
        self.page.get_by_label("Narrow by name").fill("Averil path")
        rows = self.page.get_by_role("row").filter(has_text="path to the booking site")
        expect(rows).to_have_count(1)

    def test_all_of_a_target_together_against_its_usual_on_a_map_and_pinned(self) -> None:
        target = next(one["id"] for one in demo().ask("targets") if one["name"] == "booking site")
        self.open(f"/targets/{target}")
        expect(self.page.locator("[data-usual]")).to_be_attached()
        places = self.page.locator("[data-place]")
        expect(places.first).to_be_visible()
        points = demo().ask(f"overview/points?of=target&id={target}&kind=http")["points"]
        told = " ".join(places.all_inner_texts())
        self.assertIn("Kelmouth", told)
        self.assertLessEqual(places.count(), len(points))
        places.filter(has_text="Kelmouth").first.hover()
        expect(self.page.get_by_role("tooltip")).to_contain_text("month")
        self.page.get_by_role("button", name="pin to Now").click()
        self.page.get_by_label("under the name").fill("the whole site")
        self.page.get_by_role("button", name="Pin it").click()
        expect(self.page.get_by_role("button", name="Pin it")).to_have_count(0)
        self.open("/now")
        pinned = self.page.locator("[data-pinned]").filter(has_text="the whole site")
        expect(pinned.locator("[data-line]")).to_have_count(1)
        expect(pinned.get_by_role("link", name="the whole site")).to_have_attribute("href", f"/targets/{target}")
        pinned.get_by_role("button", name="Unpin").click()
        expect(pinned).to_have_count(0)

    def test_a_phase_is_pinned_by_itself(self) -> None:
        stream = demo().stream("booking front page", "Kelmouth")
        self.open(f"/streams/{stream}")
        self.page.get_by_role("button", name="as a table", exact=True).click()
        expect(self.page.get_by_role("columnheader", name="secure, mean, ms")).to_be_visible()
        self.page.get_by_role("button", name="pin to Now").click()
        self.page.get_by_label("under the name").fill("handshakes")
        self.page.get_by_label("of it").select_option(label="secure")
        with self.page.expect_request("**/api/saved") as asked:
            self.page.get_by_role("button", name="Pin it").click()
        self.assertEqual(asked.value.post_data_json["body"]["quantity"], "tls")
        expect(self.page.get_by_role("button", name="Pin it")).to_have_count(0)
        self.open("/now")
        pinned = self.page.locator("[data-pinned]").filter(has_text="handshakes")
        expect(pinned.locator("[data-line]")).to_have_count(1)
        pinned.get_by_role("button", name="Unpin").click()
        expect(pinned).to_have_count(0)

    def test_a_failed_run_leads_to_itself(self) -> None:
        targets = {one["name"]: one["id"] for one in demo().ask("targets")}
        self.open(f"/targets/{targets['booking API']}")
        self.page.get_by_role("link", name=re.compile("status 5")).first.click()
        expect(self.page.get_by_text("try 2 at").first).to_be_visible()
        self.assertIn("runs=failed", self.query())

    def test_where_a_vantage_point_stands_among_others(self) -> None:
        points = {one["name"]: one["id"] for one in demo().ask("vantage-points")}
        window = f"from={_ago(5 * 3600)}&to={_ago(3600)}"
        self.open(f"/vantage-points/{points['Ostrey']}?{window}")
        self.page.get_by_role("radiogroup", name="towards").get_by_role("radio", name="crew roster").click()
        expect(self.page.get_by_role("columnheader", name="to Ostrey")).to_be_visible()
        target = next(one["id"] for one in demo().ask("targets") if one["name"] == "crew roster")
        found = demo().ask(f"overview/points?of=all&kind=http&target={target}&{window}")["points"]
        ranked = sorted(found, key=lambda one: -(one["window"]["value"] or 0))
        shown = self.page.get_by_role("table").filter(has=self.page.get_by_role("columnheader", name="to Ostrey"))
        expect(shown.locator("tbody tr").first).to_contain_text(ranked[0]["name"])
        own = next(one for one in found if one["name"] == "Ostrey")["window"]["value"]
        apart = ranked[0]["window"]["value"] - own
        digits = 0 if apart >= 100 else 1 if apart >= 10 else 2
        expect(shown.locator("tbody tr").first).to_contain_text(f"+{apart:,.{digits}f} ms")

    def test_nothing_measures_it_yet(self) -> None:
        made = demo().api.post("targets", json={"name": "new pier"}).json()["id"]
        self.addCleanup(demo().api.delete, f"targets/{made}")
        self.open(f"/targets/{made}")
        expect(self.page.get_by_text("Nothing measures The new pier yet.")).to_be_visible()

    def test_what_is_not_there_says_so(self) -> None:
        self.open("/targets/99999")
        expect(self.page.get_by_role("alert")).to_contain_text("There is no target 99999")
        self.complaints.clear()


class Map(BrowserCase):
    def test_towards_one_target(self) -> None:
        self.open("/map")
        self.page.get_by_role("combobox", name="to", exact=True).select_option(label="chart service")
        expect(self.page.locator("[data-place]").filter(has_text="MV Fulmar")).to_be_visible()
        # Only ships and rented servers fetch charts.
        expect(self.page.locator("[data-place]").filter(has_text="Lundhavn")).to_have_count(0)
        self.assertIn("target=", self.query())

    def test_where_ships_went_is_a_line_and_dashed_for_one_that_is_silent(self) -> None:
        window = f"from={_ago(12 * 3600)}&to={_ago(0)}"
        self.open(f"/map?span=36h&{window}")
        told = {one["vantage_point"]: one["fixes"] for one in demo().ask(f"courses?{window}")}
        ships = {one["id"]: one["name"] for one in demo().ask("vantage-points") if one["kind"] == "mobile"}
        self.assertEqual(told.keys(), ships.keys())
        # Twelve hours are several rounds of each line: their ends lie tens of kilometres apart.
        for fixes in told.values():
            self.assertGreater(max(one["longitude"] for one in fixes) - min(one["longitude"] for one in fixes), 0.2)
        courses = self.page.locator("[data-course]")
        expect(courses).to_have_count(3)
        expect(self.page.locator("[data-course][stroke-dasharray]")).to_have_count(1)
        dashed = [one.get_attribute("stroke-dasharray") for one in courses.all()]
        silent = [ships[one] == "MV Guillemot" for one in sorted(told)]
        self.assertEqual([bool(one) for one in dashed], silent)
        expect(self.page.get_by_text("the last of what is silent")).to_be_visible()

    def test_a_place_that_is_chosen_is_kept_in_the_address(self) -> None:
        self.open("/map")
        self.page.locator("[data-place]").filter(has_text="Kelmouth").click()
        self.assertIn("place=", self.query())
        self.page.mouse.move(5, 5)
        self.page.reload()
        expect(self.page.get_by_role("tooltip")).to_contain_text("Tobias R.")

    def test_places_are_those_of_the_api_and_the_list_says_the_same(self) -> None:
        self.open("/map")
        expect(self.page.locator("[data-coast]")).to_be_attached()
        lundhavn = self.page.locator("[data-place]").filter(has_text="Lundhavn")
        lundhavn.focus()
        popover = self.page.get_by_role("tooltip")
        for name in ("Ines H.", "Olu A.", "Maren K."):
            expect(popover).to_contain_text(name)
        expect(self.page.get_by_role("listitem").filter(has_text="MV Guillemot")).to_contain_text("silent")
        for name in ("North", "West", "South"):
            expect(self.page.get_by_text("km off").first).to_be_visible()
            expect(self.page.get_by_role("listitem").filter(has_text=name)).to_have_count(1)

    def test_by_keyboard(self) -> None:
        self.open("/map")
        self.page.locator("[data-place]").filter(has_text="Lundhavn").focus()
        self.page.keyboard.press("ArrowLeft")
        expect(self.page.locator("[data-place]").filter(has_text="Lundhavn")).not_to_be_focused()
        expect(self.page.locator("[data-place]:focus")).to_have_count(1)
        before = self.page.locator("[data-coast]").get_attribute("d")
        self.page.keyboard.press("+")
        expect(self.page.locator("[data-coast]")).not_to_have_attribute("d", before or "")
        self.page.keyboard.press("0")
        expect(self.page.locator("[data-coast]")).to_have_attribute("d", before or "")


class OwnLayer(BrowserCase):
    role = "admin"

    def test_the_worlds_coasts_and_a_layer_of_ones_own(self) -> None:
        self.open("/map")
        own = self.page.locator("[data-coast]")
        expect(own).to_be_attached()
        layer = demo().ask("map-layer")
        self.page.get_by_role("button", name="the world’s coasts").click()
        # Natural Earth's land has some 1,400 polygons; the archipelago a score.
        expect(self.page.get_by_role("button", name="the world’s coasts")).to_have_count(0)
        self.assertGreater((own.get_attribute("d") or "").count("M"), 100)
        file = {"name": "coast.geojson", "mimeType": "application/geo+json", "buffer": json.dumps(layer).encode()}
        self.page.get_by_label("Draw a layer of one’s own").set_input_files(file)  # type: ignore[arg-type]
        expect(self.page.get_by_role("button", name="the world’s coasts")).to_be_visible()
        self.assertEqual(demo().ask("map-layer"), layer)


class Compare(BrowserCase):
    def test_streams_are_added_by_name_and_taken_out(self) -> None:
        self.open("/compare")
        expect(self.page.get_by_text("Nothing is chosen yet.")).to_be_visible()
        field = self.page.get_by_label("Add a stream by its names")
        rows = self.page.locator("[data-compared]")
        for number, words in enumerate(("Lundhavn reach", "Ostrey reach"), 1):
            field.fill(words)
            expect(self.page.get_by_role("button", name=re.compile(words.split()[0])).first).to_be_visible()
            field.press("Enter")
            expect(rows).to_have_count(number)
        streams = [demo().stream("reach the booking site", name) for name in ("Lundhavn", "Ostrey")]
        self.assertEqual(self.query().split("streams=")[1].split("&")[0].replace("%2C", ","), ",".join(map(str, streams)))
        expect(rows.nth(1)).to_contain_text("−")
        rows.nth(1).get_by_role("button", name="Take").click()
        expect(rows).to_have_count(1)
        self.page.get_by_role("button", name="same target, other vantage points").click()
        expect(rows).to_have_count(6)


def _ago(seconds: int) -> str:
    return time.strftime("%Y-%m-%dT%H:%M:%SZ", time.gmtime(time.time() - seconds))


if __name__ == "__main__":
    unittest.main()

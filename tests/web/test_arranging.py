"""Arranging on the screens: a probe of three kinds written, tried, saved and seen to measure; targets, groups, coverage."""

import re

from playwright.sync_api import expect

from tests.web.stage import BrowserCase, demo

_MEASURED_MS = 20_000


class EngineerCase(BrowserCase):
    role = "engineer"

    def choose(self, label: str, text: str) -> None:
        self.page.get_by_label(label, exact=True).first.select_option(label=text)


class Probes(EngineerCase):
    def write_try_and_save(self, kind: str, name: str, target: str, fields: dict[str, str], point: str, told: str) -> None:
        """The whole way of a new probe: its kind, its fields, a trial that shows `told`, saving, and its first result."""
        page = self.page
        self.open("/probes/new")
        page.get_by_role("radio", name=kind, exact=True).click()
        page.get_by_label("call it").fill(name)
        self.choose("target", target)
        for label, text in fields.items():
            page.get_by_label(label, exact=True).fill(text)
        page.get_by_label(re.compile(f"^{point}")).check()
        page.get_by_role("button", name="Try it").click()
        trial = page.locator("[data-trial]").filter(has_text=point)
        expect(trial).to_contain_text(told, timeout=_MEASURED_MS)
        self.assertFalse(any(one["name"] == name for one in demo().ask("probes")), "trying must save nothing")
        page.get_by_role("button", name="Start measuring").click()
        row = page.get_by_role("row").filter(has_text=name)
        expect(row).to_be_visible()
        stream = demo().stream(name, point)
        self.open(f"/streams/{stream}")
        expect(page.locator("[data-run]").first).to_be_visible(timeout=_MEASURED_MS)
        page.locator("[data-run]").first.click()

    def test_reach(self) -> None:
        host = {"host": "gates.skerry.example"}
        self.write_try_and_save("reach", "reach by hand", "ticket gates", host, "North", "each packet")
        expect(self.page.get_by_text("time stamps")).to_be_visible()

    def test_names(self) -> None:
        fields = {"resolver": "192.0.2.53", "name": "gates.skerry.example"}
        self.write_try_and_save("names", "gates by name", "island DNS", fields, "Brannick", "198.51.100.33")
        expect(self.page.get_by_text("NOERROR, 198.51.100.33, by UDP")).to_be_visible()

    def test_path(self) -> None:
        host = {"host": "gates.skerry.example"}
        self.write_try_and_save("path", "way to the gates", "ticket gates", host, "Lundhavn", "flows")
        expect(self.page.get_by_role("cell", name="198.51.100.33").first).to_be_visible()

    def test_what_is_wrong_is_told_at_its_field_and_nothing_is_saved(self) -> None:
        page = self.page
        self.open("/probes/new?kind=http")
        page.get_by_label("call it").fill("wrong one")
        self.choose("target", "booking site")
        page.get_by_label("web address").fill("ftp://booking.skerry.example/")
        self.allow_problem()
        page.get_by_role("button", name="Start measuring").click()
        expect(page.get_by_text("it must begin with http:// or https://").first).to_be_visible()
        self.assertFalse(any(one["name"] == "wrong one" for one in demo().ask("probes")))

    def test_pause_and_go_on_many_at_once(self) -> None:
        page = self.page
        self.open("/probes?find=reach+the")
        for name in ("reach the booking site", "reach the booking site, at sea"):
            page.get_by_label(f"Choose {name}", exact=True).check()
        many = page.get_by_role("group", name="Change the chosen probes")
        many.get_by_role("button", name="Pause").click()
        expect(page.get_by_role("row").filter(has_text="paused")).to_have_count(2)
        many.get_by_role("button", name="Go on").click()
        expect(page.get_by_role("row").filter(has_text="paused")).to_have_count(0)

    def test_an_opened_probe_shows_what_is_stored_and_a_copy_has_its_own_name(self) -> None:
        probe = next(one for one in demo().ask("probes") if one["name"] == "call the bridge")
        self.open(f"/probes/{probe['id']}")
        expect(self.page.get_by_label("call it")).to_have_value("call the bridge")
        expect(self.page.get_by_label("breached limit of mean opinion score, of the worse way (G.107)")).to_have_value(
            "3.1"
        )
        self.open(f"/probes/new?copy={probe['id']}")
        expect(self.page.get_by_label("call it")).to_have_value("call the bridge, copy")


class Arrangement(EngineerCase):
    def test_targets_from_a_file_and_by_hand(self) -> None:
        page = self.page
        self.open("/targets")
        text = b"name,service,tags\nlifeboat log,crew,office;crew\nharbour camera,bridge,\n"
        page.locator("input[type=file]").set_input_files({"name": "t.csv", "mimeType": "text/csv", "buffer": text})
        expect(page.get_by_text("2 added, 0 changed, 0 as they were.")).to_be_visible()
        page.get_by_role("button", name="Change lifeboat log").click()
        page.get_by_label("what it is").fill("who went out when")
        page.get_by_label("longitude, degrees east").fill("0.2")
        page.get_by_label("latitude, degrees north").fill("60.3")
        page.get_by_role("button", name="Save").click()
        expect(page.get_by_role("row").filter(has_text="lifeboat log")).to_contain_text("who went out when")
        placed = next(one for one in demo().ask("targets") if one["name"] == "lifeboat log")
        self.assertEqual(placed["position"], {"longitude": 0.2, "latitude": 60.3})
        page.goto(f"{demo().url}/coverage")
        expect(page.get_by_text("lifeboat log")).to_be_visible()
        page.goto(f"{demo().url}/targets?find=camera")
        page.get_by_role("button", name="Remove harbour camera").click()
        page.get_by_role("button", name="Remove harbour camera").last.click()
        expect(page.get_by_text("No target is called that.")).to_be_visible()

    def test_a_group_by_tag(self) -> None:
        page = self.page
        self.open("/groups")
        expect(page.get_by_role("row").filter(has_text="whatever is tagged passengers")).to_be_visible()
        page.get_by_role("button", name="Make a group").click()
        page.get_by_label("name", exact=True).fill("the gates")
        page.get_by_role("checkbox", name="ticket gates", exact=True).check()
        page.get_by_role("button", name="Make it").click()
        row = page.get_by_role("row").filter(has_text="the gates")
        expect(row).to_contain_text("1 target")
        page.get_by_role("button", name="Remove the gates").click()
        page.get_by_role("button", name="Remove the gates").last.click()
        expect(row).to_have_count(0)


class Details(BrowserCase):
    """Every kind's result has a page on which its own figures can be read."""

    def run_of(self, probe: str, point: str) -> None:
        self.open(f"/streams/{demo().stream(probe, point)}")
        self.page.locator("[data-run]").first.click(timeout=_MEASURED_MS)

    def test_a_call(self) -> None:
        self.run_of("call the bridge", "Brannick")
        expect(self.page.get_by_text("answered 200 OK")).to_be_visible()
        expect(self.page.get_by_text(re.compile(r"R \d+.*of 5.*mouth to ear")).first).to_be_visible()

    def test_steps(self) -> None:
        self.run_of("look up a seat", "North")
        expect(self.page.get_by_text("list the sailings").first).to_be_visible()

    def test_throughput(self) -> None:
        self.run_of("throughput to the head office", "Brannick")
        expect(self.page.get_by_text(re.compile(r"10(\.0)? MB, in")).first).to_be_visible()

    def test_a_page(self) -> None:
        self.run_of("booking page in a browser", "North")
        expect(self.page.get_by_text("largest contentful paint")).to_be_visible()
        with self.page.expect_download() as told:
            self.page.get_by_role("button", name="Download as HAR").click()
        self.assertTrue(told.value.suggested_filename.endswith(".har"))

    def test_a_machine(self) -> None:
        self.run_of("the laptops", "Ines H.")
        expect(self.page.get_by_text("share of memory in use")).to_be_visible()

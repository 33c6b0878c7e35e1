"""A matrix of 200 vantage points and 60 targets: only what is in sight is drawn, and everything can be reached."""

from playwright.sync_api import Locator, expect

from tests.web import large
from tests.web.stage import BrowserCase

POINTS, TARGETS = 200, 60


class LargeMatrix(BrowserCase):
    def setUp(self) -> None:
        super().setUp()
        large.serve(self.page, POINTS, TARGETS)
        self.open("/matrix?rows=none")
        self.cell(0, 0).wait_for()

    def cell(self, row: int, column: int) -> Locator:
        return self.page.locator(f"[data-cell='{row}-{column}']")

    def scrolled(self, left: int, top: int) -> None:
        """Scroll the matrix as a wheel would."""
        self.page.get_by_role("table").evaluate("(table, to) => table.parentElement.scrollTo(...to)", [left, top])

    def inside(self, found: Locator) -> list[str | None]:
        """Which of some elements lie within the matrix's frame, all of each: what `data-cell` they have."""
        told: list[str | None] = found.evaluate_all(
            """(all) => {
              const frame = document.querySelector('main table').parentElement.getBoundingClientRect()
              return all.filter((one) => {
                const own = one.getBoundingClientRect()
                return own.top >= frame.top && own.bottom <= frame.bottom + 1
                  && own.left >= frame.left && own.right <= frame.right + 1
              }).map((one) => one.dataset.cell ?? null)
            }"""
        )
        return told

    def test_a_few_of_the_cells_are_drawn_and_the_rest_when_they_come_into_sight(self) -> None:
        drawn = self.page.locator("[data-cell]").count()
        self.assertGreater(drawn, 300)
        self.assertLess(drawn, POINTS * TARGETS / 6)
        expect(self.cell(POINTS - 1, TARGETS - 1)).to_have_count(0)
        self.scrolled(100_000, 100_000)
        last = self.cell(POINTS - 1, TARGETS - 1)
        expect(last).to_be_visible()
        self.assertIn(f"point {POINTS - 1} to target {TARGETS - 1}", last.get_attribute("aria-label") or "")
        expect(self.cell(0, 0)).to_have_count(0)

    def test_a_cell_stands_under_its_target_and_beside_its_vantage_point_wherever_it_is(self) -> None:
        for left, top in ((0, 0), (1_500, 2_000), (100_000, 100_000)):
            self.scrolled(left, top)
            self.page.wait_for_timeout(150)
            seen = self.inside(self.page.locator("[data-cell]"))
            row, column = (int(one) for one in (seen[len(seen) // 2] or "").split("-"))
            target = self.page.get_by_role("columnheader", name=f"target {column:02}")
            point = self.page.get_by_role("rowheader", name=f"point {row:03}")
            box, head, side = self.cell(row, column).bounding_box(), target.bounding_box(), point.bounding_box()
            assert box is not None
            assert head is not None
            assert side is not None
            self.assertAlmostEqual(box["x"] + box["width"], head["x"] + head["width"], delta=1)
            self.assertAlmostEqual(box["y"], side["y"], delta=1)
            # Names stay in sight however far it is scrolled.
            self.assertEqual((self.inside(target), self.inside(point)), ([None], [None]))

    def test_arrows_reach_cells_that_were_not_drawn(self) -> None:
        self.cell(0, 0).focus()
        for key, count in (("ArrowDown", 60), ("ArrowRight", 32)):
            for _ in range(count):
                before = self.page.evaluate("document.activeElement.dataset.cell")
                self.page.keyboard.press(key)
                self.page.wait_for_function("(was) => document.activeElement?.dataset.cell !== was", arg=before)
        reached = self.cell(60, 32)
        expect(reached).to_be_focused()
        self.assertEqual(self.inside(reached), ["60-32"])

    def test_a_table_reader_is_told_how_much_there_is(self) -> None:
        """WAI-ARIA 1.2, aria-rowcount and aria-colcount: where not all rows or columns are in the page."""
        table = self.page.get_by_role("table")
        # The heading, the sums; the names, the sum of a row, its worst.
        expect(table).to_have_attribute("aria-rowcount", str(POINTS + 2))
        expect(table).to_have_attribute("aria-colcount", str(TARGETS + 3))
        self.scrolled(0, 2_000)
        first = self.page.locator("tr[aria-rowindex]:has([data-cell])").first
        at = int(first.get_attribute("aria-rowindex") or 0)
        row = int((first.locator("[data-cell]").first.get_attribute("data-cell") or "0-0").split("-")[0])
        self.assertEqual(at, row + 2)

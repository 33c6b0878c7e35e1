"""Signing in, what each role is offered, and what the browser itself keeps out."""

import re
import time
import unittest

from playwright.sync_api import expect

from tests.web import stage
from tests.web.stage import PEOPLE, BrowserCase, demo, new_page


class SigningIn(BrowserCase):
    role = None

    def fill(self, name: str, password: str) -> None:
        self.page.get_by_label("name", exact=True).fill(name)
        self.page.get_by_label("password", exact=True).fill(password)
        self.page.keyboard.press("Enter")

    def test_a_link_leads_by_way_of_signing_in_to_where_it_pointed(self) -> None:
        self.open("/streams/3?runs=failed")
        expect(self.page.get_by_role("form", name="Sign in")).to_be_visible()
        self.fill(**PEOPLE["reader"])
        expect(self.page.get_by_role("heading", name="Latest runs")).to_be_visible()
        self.assertEqual((self.path(), self.query()), ("/streams/3", "runs=failed"))

    def test_a_wrong_password_is_said_under_the_field_and_the_name_stays(self) -> None:
        self.open("/sign-in")
        self.fill("maren", "not the password")
        expect(self.page.get_by_role("alert")).to_contain_text("do not go together")
        expect(self.page.get_by_label("name", exact=True)).to_have_value("maren")
        expect(self.page.get_by_label("password", exact=True)).to_have_attribute("aria-invalid", "true")
        self.complaints.clear()  # the browser notes the status 401

    def test_after_five_it_says_how_long_to_wait(self) -> None:
        self.open("/sign-in")
        for _ in range(6):
            with self.page.expect_response("**/api/session"):
                self.fill("nobody-of-that-name", "not the password")
            expect(self.page.get_by_label("password", exact=True)).to_have_value("")
        expect(self.page.get_by_role("alert")).to_contain_text(re.compile(r"Wait \d+ s"))
        self.complaints.clear()

    def test_an_address_from_outside_does_not_lead_away(self) -> None:
        """OWASP Unvalidated Redirects and Forwards Cheat Sheet."""
        self.open("/sign-in?back=//evil.example/matrix")
        self.fill(**PEOPLE["reader"])
        expect(self.page.get_by_role("heading", name="Now")).to_be_visible()
        self.assertTrue(self.page.url.startswith(demo().url))

    def test_the_demo_says_who_may_sign_in_and_one_press_does(self) -> None:
        self.open("/sign-in")
        self.page.get_by_role("button", name="Tobias R.").click()
        expect(self.page.get_by_role("heading", name="Now")).to_be_visible()

    def test_signing_out_leads_back_and_the_session_is_gone(self) -> None:
        stage.sign_in(self.page, demo().url, **PEOPLE["reader"])
        self.open("/matrix")
        self.page.get_by_role("button", name="Maren K.").click()
        self.page.get_by_role("menuitem", name="Sign out", exact=True).click()
        expect(self.page.get_by_role("form", name="Sign in")).to_be_visible()
        self.open("/matrix")
        expect(self.page.get_by_role("form", name="Sign in")).to_be_visible()
        # What the page had just asked for when the session ended is refused, and the browser notes it.
        self.complaints = [one for one in self.complaints if "401 (Unauthorized)" not in one]

    def test_a_session_that_ends_elsewhere_ends_the_page(self) -> None:
        stage.sign_in(self.page, demo().url, **PEOPLE["engineer"])
        self.open("/matrix")
        other = new_page()
        self.addCleanup(other.context.close)
        stage.sign_in(other, demo().url, **PEOPLE["engineer"])
        other.goto(f"{demo().url}/matrix")
        other.get_by_role("button", name="Tobias R.").click()
        other.get_by_role("menuitem", name="Sign out everywhere").click()
        expect(self.page.get_by_role("form", name="Sign in")).to_be_visible(timeout=20_000)
        self.complaints.clear()


class Roles(BrowserCase):
    """Each sees only what that role may do: what may not be used is not shown as if it could."""

    role = None

    def test_what_each_is_offered(self) -> None:
        for role, has_access in (("reader", False), ("engineer", False), ("admin", True)):
            with self.subTest(role):
                self.page.context.clear_cookies()
                stage.sign_in(self.page, demo().url, **PEOPLE[role])
                self.open("/vantage-points")
                expect(self.page.get_by_role("rowheader", name="Brannick")).to_be_visible()
                navigation = self.page.get_by_role("navigation", name="Main")
                self.assertEqual(navigation.get_by_role("link", name="Access").count(), int(has_access))
                self.assertEqual(self.page.get_by_role("button", name="Put an agent").count(), int(has_access))
                self.assertEqual(self.page.get_by_role("button", name="Withdraw the token").count(), 26 * has_access)
                self.open("/access")
                expect(self.page.get_by_role("heading", level=1)).to_have_text("Access" if has_access else "Not here")


class Arranging(BrowserCase):
    role = "admin"

    def test_a_person_is_added_signs_in_once_and_chooses_a_password(self) -> None:
        self.open("/access")
        self.page.get_by_role("button", name="Add a person").click()
        self.page.get_by_label("name in full").fill("Ines H.")
        self.page.get_by_label("signs in as").fill("ines")
        self.page.get_by_role("radio", name="engineer").check()
        self.page.get_by_role("button", name="Add, with a one-time password").click()
        password = self.page.get_by_label("one-time password").inner_text()
        self.assertRegex(password, r"^([a-z2-9]{4}-){4}[a-z2-9]{4}$")
        expect(self.page.get_by_role("rowheader", name="Ines H.")).to_be_visible()
        other = new_page()
        self.addCleanup(other.context.close)
        other.goto(f"{demo().url}/streams/2")
        other.get_by_label("name", exact=True).fill("ines")
        other.get_by_label("password", exact=True).fill(password)
        other.keyboard.press("Enter")
        other.get_by_label("the one-time password").fill(password)
        other.get_by_label("the new one").fill("short")
        other.get_by_role("button", name="Keep it").click()
        expect(other.get_by_role("alert")).to_contain_text("at least 15 characters")
        other.get_by_label("the new one").fill("gulls over the breakwater")
        other.get_by_role("button", name="Keep it").click()
        expect(other.get_by_role("heading", name="Latest runs")).to_be_visible()
        # Shut out again: asked first, done, and undone.
        row = self.page.get_by_role("row", name=re.compile("Ines H."))
        row.get_by_role("button", name="password, shut out").click()
        self.page.get_by_role("button", name="Shut Ines H. out").click()
        expect(row.get_by_text("shut out", exact=True)).to_be_visible()
        other.goto(f"{demo().url}/matrix")
        expect(other.get_by_role("form", name="Sign in")).to_be_visible()
        row.get_by_role("button", name="Let in again").click()
        expect(row.get_by_role("combobox")).to_have_value("engineer")

    def test_a_token_is_shown_once_used_and_withdrawn(self) -> None:
        self.open("/access?part=tokens")
        self.page.get_by_role("button", name="Make a token").click()
        self.page.get_by_label("what it is for").fill("night report")
        self.page.get_by_role("button", name="Make it").click()
        secret = self.page.get_by_label("token", exact=True).inner_text()
        ask = {"Authorization": f"Bearer {secret}"}
        api = new_page().context.request
        self.assertEqual(api.get(f"{demo().url}/api/streams", headers=ask).status, 200)
        self.page.reload()
        self.assertNotIn(secret, self.page.content())
        self.page.get_by_role("button", name="Withdraw night report").click()
        expect(self.page.get_by_role("row", name=re.compile("night report"))).to_contain_text("withdrawn")
        self.assertEqual(api.get(f"{demo().url}/api/streams", headers=ask).status, 401)

    def test_the_record_is_searched_and_tells_what_became_what(self) -> None:
        made = demo().api.post("targets", json={"name": "lifeboat crew"}).json()["id"]
        demo().api.put(f"targets/{made}", json={"name": "lifeboat crew", "description": "who is on call"})
        demo().api.delete(f"targets/{made}")
        self.open("/access?part=record")
        self.page.get_by_label("Narrow", exact=True).fill("changed crew")
        expect(self.page.get_by_text("description: nothing → who is on call").first).to_be_visible()
        self.assertIn("find=changed", self.query())

    def test_an_agent_is_put_on_a_machine_with_one_pasted_line(self) -> None:
        import os
        import subprocess
        import tempfile

        self.open("/vantage-points")
        self.page.get_by_role("button", name="Put an agent on a machine").click()
        self.page.get_by_label("name it").fill("Averil, gate 2")
        self.page.get_by_label("place").fill("harbour office, Averil")
        self.page.get_by_role("button", name="Make its line").click()
        line = self.page.get_by_label("line to paste").inner_text()
        with tempfile.TemporaryDirectory() as folder:
            # The line does the whole of it: an environment, the hub's package and what it needs, a self-test, the agent.
            home = {"KUPPEL_AGENT_HOME": folder}
            agent = subprocess.Popen(
                f"exec env {line}", shell=True, cwd=folder, env=os.environ | home, stderr=subprocess.DEVNULL
            )
            try:
                expect(self.page.get_by_text("Here it is: Averil, gate 2.")).to_be_visible(timeout=150_000)
            finally:
                agent.terminate()
                agent.wait(15)
        expect(self.page.get_by_role("rowheader", name="Averil, gate 2")).to_be_visible()
        self.page.keyboard.press("Tab")
        self.page.get_by_role("complementary", name="Put an agent on a machine").press("Escape")
        expect(self.page.get_by_role("button", name="Put an agent on a machine")).to_be_visible()
        self.page.get_by_role("button", name="Withdraw the token of Averil, gate 2").click()
        self.page.get_by_role("button", name="Withdraw its token").click()
        expect(self.page.get_by_text("its token was withdrawn")).to_be_visible()


class ByTheBrowser(BrowserCase):
    def test_the_headers_as_a_real_browser_read_them(self) -> None:
        """OWASP HTTP Security Response Headers Cheat Sheet; what the policy forbids does not happen."""
        answer = self.page.goto(f"{demo().url}/matrix")
        assert answer is not None
        headers = answer.all_headers()
        self.assertIn("script-src 'self'", headers["content-security-policy"])
        self.assertEqual(headers["x-content-type-options"], "nosniff")
        self.assertEqual(headers["x-frame-options"], "DENY")
        self.assertEqual(headers["referrer-policy"], "no-referrer")
        self.page.locator("h1").wait_for()
        ran = self.page.evaluate(
            "() => { const s = document.createElement('script'); s.textContent = 'window.ran = true';"
            " document.head.append(s); return window.ran === true }"
        )
        self.assertFalse(ran)
        self.assertTrue(any("Content Security Policy" in one for one in self.complaints))
        self.complaints.clear()

    def test_no_frame_around_it(self) -> None:
        page = new_page()
        self.addCleanup(page.context.close)
        page.set_content(f"<iframe src='{demo().url}/matrix'></iframe>")
        time.sleep(1)
        self.assertFalse([frame for frame in page.frames[1:] if frame.url.startswith(demo().url)])

    def test_scripts_cannot_read_the_session(self) -> None:
        self.open("/matrix")
        self.assertEqual(self.page.evaluate("document.cookie"), "")
        self.assertTrue(self.page.context.cookies())


if __name__ == "__main__":
    unittest.main()

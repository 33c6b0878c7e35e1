"""What stands around every answer: headers, bounds, TLS, proxies, and errors that tell nothing of the inside."""

import asyncio
import contextlib
import re
import ssl
import subprocess
import sys
import tempfile
import unittest
from pathlib import Path
from unittest import mock

import httpx
from pydantic import ValidationError

from kuppel.agent.process import Agent
from kuppel.agent.settings import AgentSettings
from kuppel.hub.settings import HubSettings
from kuppel.lab.authority import Authority
from tests.hub.running import DESCRIPTION, PASSWORD, TOKEN, HubInside, HubProcess


class Headers(unittest.TestCase):
    """OWASP HTTP Security Response Headers Cheat Sheet (from memory); a browser reads them back in tests/web."""

    def test_every_answer_has_them(self) -> None:
        hub = self.enterContext(HubInside())
        for path, status in (("/api/streams", 200), ("/api/gone", 404), ("/api/health", 200)):
            answer = hub.client.get(path)
            self.assertEqual(answer.status_code, status)
            self.assertEqual(answer.headers["X-Content-Type-Options"], "nosniff")
            self.assertEqual(answer.headers["X-Frame-Options"], "DENY")
            self.assertEqual(answer.headers["Referrer-Policy"], "no-referrer")
            self.assertEqual(answer.headers["Cache-Control"], "no-store")
            self.assertNotIn("Strict-Transport-Security", answer.headers)
            self.assertNotIn("Server", answer.headers)

    def test_the_policy_allows_own_files_only(self) -> None:
        """Content Security Policy Level 3: no inline script or style, no eval, no foreign origin, no frame."""
        hub = self.enterContext(HubInside())
        told = hub.client.get("/api/health").headers["Content-Security-Policy"]
        policy = dict(part.strip().split(" ", 1) for part in told.split(";"))
        self.assertEqual(policy["default-src"], "'none'")
        self.assertEqual(policy["script-src"], "'self'")
        self.assertEqual(policy["style-src"], "'self'")
        self.assertEqual((policy["frame-ancestors"], policy["base-uri"]), ("'none'", "'none'"))
        self.assertFalse(re.search(r"unsafe|\*|https?:", str(policy)))


class Bounds(unittest.TestCase):
    def setUp(self) -> None:
        self.hub = self.enterContext(HubInside())

    def test_a_body_over_the_bound_is_refused_by_its_length(self) -> None:
        answer = self.hub.client.post("/api/targets", content=b"x" * (1024 * 1024 + 1))
        self.assertEqual((answer.status_code, answer.headers["Content-Type"]), (413, "application/problem+json"))

    def test_and_without_a_length_once_it_is_past_it(self) -> None:
        pieces = (b"x" * 65_536 for _ in range(40))
        answer = self.hub.client.post("/api/targets", content=pieces, headers={"Content-Type": "application/json"})
        self.assertEqual(answer.status_code, 413)

    def test_errors_are_problems_without_internals(self) -> None:
        """RFC 9457 §3 members and media type; §5: nothing of the implementation."""
        with mock.patch("kuppel.store.inventory.targets", side_effect=RuntimeError("/root/secret path")):
            answer = self.hub.client.get("/api/targets")
        self.assertEqual((answer.status_code, answer.headers["Content-Type"]), (500, "application/problem+json"))
        problem = answer.json()
        self.assertEqual((problem["type"], problem["status"]), ("about:blank", 500))
        self.assertNotIn("secret path", answer.text)
        self.assertNotIn("Traceback", answer.text)
        self.assertEqual(answer.headers["X-Content-Type-Options"], "nosniff")


class Starting(unittest.TestCase):
    def test_in_the_clear_only_on_loopback(self) -> None:
        for host in ("0.0.0.0", "192.0.2.1", "hub.skerry.example"):
            with self.assertRaisesRegex(ValidationError, "in the clear"):
                HubSettings(host=host)
        self.assertTrue(HubSettings(host="192.0.2.1", trusted_proxies=["192.0.2.8"]).is_behind_tls)

    def test_settings_that_are_not_safe_are_refused(self) -> None:
        demo = {"name": "signe", "full_name": "Signe", "role": "admin", "password": "x"}
        with self.assertRaisesRegex(ValidationError, "loopback host only"):
            HubSettings(host="192.0.2.1", trusted_proxies=["192.0.2.8"], demo_people=[demo])  # type: ignore[list-item]
        with self.assertRaisesRegex(ValidationError, "go together"):
            HubSettings(tls_cert=Path("a.pem"))
        with self.assertRaisesRegex(ValidationError, "address or network"):
            HubSettings(trusted_proxies=["proxy.example"])

    def test_a_certificate_without_its_key_is_told_in_one_line(self) -> None:
        with tempfile.TemporaryDirectory() as folder:
            one, two = Authority().issue(["a.example"]), Authority().issue(["a.example"])
            (Path(folder) / "cert.pem").write_text(one.certificate)
            (Path(folder) / "key.pem").write_text(two.key)
            files = ["--tls-cert", f"{folder}/cert.pem", "--tls-key", f"{folder}/key.pem"]
            options = ["--data", folder, "--port", "0", *files]
            ended = subprocess.run(
                [sys.executable, "-m", "kuppel.cli", "hub", *options], capture_output=True, text=True, check=False
            )
        self.assertEqual(ended.returncode, 2, ended.stderr)
        self.assertIn("belong together", ended.stderr)
        self.assertNotIn("Traceback", ended.stderr)


class BehindTls(unittest.IsolatedAsyncioTestCase):
    """A real hub with a certificate of a made-up authority, reached by a real agent."""

    def setUp(self) -> None:
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.folder = Path(folder.name)
        authority = Authority()
        credential = authority.issue(["127.0.0.1"])
        self.authority = self.folder / "authority.pem"
        self.authority.write_text(authority.certificate)
        (self.folder / "certificate.pem").write_text(credential.certificate)
        (self.folder / "key.pem").write_text(credential.key)

    async def test_cookies_and_headers_say_secure(self) -> None:
        """RFC 6265bis §4.1.3.2: a `__Host-` cookie is Secure, of this host alone, for every path."""
        with HubProcess(self.folder / "hub", self.authority) as hub:
            answer = hub.api.post("session", json={"name": "reader", "password": PASSWORD})
            self.assertEqual(answer.status_code, 200, answer.text)
            cookie = answer.headers["Set-Cookie"]
            self.assertTrue(cookie.startswith("__Host-kuppel-session="))
            self.assertIn("Secure", cookie)
            self.assertIn("max-age=31536000", answer.headers["Strict-Transport-Security"])

    async def test_an_agent_verifies_its_hub(self) -> None:
        with HubProcess(self.folder / "hub", self.authority) as hub:
            for authority, joins in ((None, False), (self.authority, True)):
                settings = AgentSettings(
                    hub=hub.url,
                    token=TOKEN,
                    name="Brannick",
                    state=self.folder / f"agent-{joins}",
                    authority=authority,  # type: ignore[arg-type]
                )
                task = asyncio.create_task(Agent(settings).run())
                for _ in range(75 if joins else 15):
                    await asyncio.sleep(0.2)
                    if hub.api.get("vantage-points").json():
                        break
                task.cancel()
                with contextlib.suppress(asyncio.CancelledError):
                    await task
                self.assertEqual(bool(hub.api.get("vantage-points").json()), joins)

    async def test_a_browser_of_today_gets_in_and_an_old_protocol_does_not(self) -> None:
        """RFC 8996: TLS 1.0 and 1.1 are not to be used."""
        with HubProcess(self.folder / "hub", self.authority) as hub:
            context = ssl.create_default_context(cafile=self.authority)
            self.assertEqual(httpx.get(f"{hub.url}/api/health", verify=context, trust_env=False).status_code, 200)
            context.minimum_version = ssl.TLSVersion.TLSv1
            context.maximum_version = ssl.TLSVersion.TLSv1_1
            context.set_ciphers("ALL:@SECLEVEL=0")
            with self.assertRaises(httpx.ConnectError):
                httpx.get(f"{hub.url}/api/health", verify=context, trust_env=False)


class BehindAProxy(unittest.TestCase):
    def addresses(self, **environment: str) -> set[str]:
        """The addresses that the record has of an enrolment whose forwarded header says 203.0.113.9."""
        with tempfile.TemporaryDirectory() as folder, HubProcess(Path(folder), **environment) as hub:
            joining = {"Authorization": f"Bearer {TOKEN}", "X-Forwarded-For": "203.0.113.9", "X-Forwarded-Proto": "https"}
            hub.api.post("agents/enrolments", json=DESCRIPTION, headers=joining).raise_for_status()
            return {one["address"] for one in hub.api.get("record", params={"find": "enrolled"}).json()["entries"]}

    def test_forwarded_headers_count_from_a_named_proxy_only(self) -> None:
        self.assertEqual(self.addresses(), {"127.0.0.1"})
        self.assertEqual(self.addresses(KUPPEL_TRUSTED_PROXIES='["192.0.2.0/28"]'), {"127.0.0.1"})
        self.assertEqual(self.addresses(KUPPEL_TRUSTED_PROXIES='["127.0.0.1"]'), {"203.0.113.9"})

"""Steps: variables, assertions, cookies, secrets; and JSONPath as RFC 9535 has it."""

import unittest
from typing import Any

import orjson

from kuppel.core.error import SettingsError
from kuppel.core.reason import Reason
from kuppel.core.result import Observation
from kuppel.lab.services import Treatment, WebService
from kuppel.probes.kernel import KernelNet
from kuppel.probes.net import Binding, Exchange, FetchError, Phases, Request
from kuppel.probes.registry import KINDS
from kuppel.probes.secrecy import MASK, masked, unmasked
from tests.probes.simulated import SimulatedNet

KIND = KINDS["transaction"]
PHASES = Phases(1000, 2000, None, 10_000, 500)

# RFC 9535 §1.5, figure 1.
STORE = {
    "store": {
        "book": [
            {"category": "reference", "author": "Nigel Rees", "title": "Sayings of the Century", "price": 8.95},
            {"category": "fiction", "author": "Evelyn Waugh", "title": "Sword of Honour", "price": 12.99},
            {"category": "fiction", "author": "Herman Melville", "title": "Moby Dick", "isbn": "0-553-21311-3",
             "price": 8.99},
            {"category": "fiction", "author": "J. R. R. Tolkien", "title": "The Lord of the Rings", "isbn": "0-395-19395-8",
             "price": 22.99},
        ],
        "bicycle": {"color": "red", "price": 399},
    }
}  # fmt: skip


def answer(body: bytes = b"{}", status: int = 200, headers: tuple[tuple[str, str], ...] = ()) -> Exchange:
    return Exchange(status, "HTTP/1.1", headers, body, len(body), PHASES, "192.0.2.7", "192.0.2.1")


async def measured(net: Any, steps: list[dict[str, Any]], **settings: Any) -> Observation:
    return await KIND.attempt(KIND.parse({"steps": steps} | settings), net, Binding())


def step(name: str = "look", url: str = "http://a.example/", **more: Any) -> dict[str, Any]:
    return {"name": name, "url": url} | more


class JsonPath(unittest.IsolatedAsyncioTestCase):
    async def test_the_standards_own_queries(self) -> None:
        """RFC 9535 §1.5, table 2: what each selects first."""
        net = SimulatedNet(on_fetch=lambda _request: answer(orjson.dumps(STORE)))
        for path, first in (
            ("$.store.book[*].author", "Nigel Rees"),
            ("$..author", "Nigel Rees"),
            ("$.store..price", None),  # the order of an object's members is not fixed
            ("$..book[2].author", "Herman Melville"),
            ("$..book[-1].title", "The Lord of the Rings"),
            ("$..book[0,1].title", "Sayings of the Century"),
            ("$..book[:2].title", "Sayings of the Century"),
            ("$..book[?@.isbn].title", "Moby Dick"),
            ("$..book[?@.price<10].title", "Sayings of the Century"),
            ("$.store.bicycle.price", "399"),
        ):
            expect = [{"from": "jsonpath", "expression": path, "value": first}]
            found = await measured(net, [step(expect=expect)])
            self.assertIsNone(found.reason, f"{path}: {found.note}")

    async def test_nothing_selected_is_told(self) -> None:
        """§1.5, table 2: `$..book[2].publisher` selects nothing."""
        net = SimulatedNet(on_fetch=lambda _request: answer(orjson.dumps(STORE)))
        found = await measured(net, [step(expect=[{"expression": "$..book[2].publisher"}])])
        self.assertEqual((found.reason, found.note), (Reason.STEP_FAILED, "step 1, look: nothing at $..book[2].publisher"))

    async def test_an_answer_that_is_no_json_selects_nothing(self) -> None:
        for body in (b"<html>", b"", b"[" * 100_000, b'{"a": NaN}'):
            net = SimulatedNet(on_fetch=lambda _request, body=body: answer(body))
            found = await measured(net, [step(expect=[{"expression": "$.a"}])])
            self.assertEqual(found.reason, Reason.STEP_FAILED)

    def test_what_is_no_path_is_refused_before_it_is_used(self) -> None:
        """RFC 9535 §2.1: not well-formed, or not valid."""
        for path in ("store", "$.", "$[", "$.a[?@.b==]", "$[01]"):
            with self.assertRaises(SettingsError, msg=path):
                KIND.parse({"steps": [step(expect=[{"expression": path}])]})


class Steps(unittest.IsolatedAsyncioTestCase):
    async def test_variables_go_from_step_to_step(self) -> None:
        answers = [
            answer(b'{"token": "t-1234", "id": 7}', headers=(("X-Place", "pier 2"),)),
            answer(b"seat <b>14C</b> is yours"),
            answer(),
        ]
        net = SimulatedNet(on_fetch=lambda _request: answers.pop(0))
        found = await measured(
            net,
            [
                step("log in", "http://a.example/login", method="POST", body='{"password": "${password}"}', take=[
                    {"name": "token", "from": "jsonpath", "expression": "$.token"},
                    {"name": "id", "expression": "$.id"},
                    {"name": "place", "from": "header", "expression": "x-place"},
                ]),
                step("book", "http://a.example/sailings/${id}", headers={"Authorization": "Bearer ${token}"}, take=[
                    {"name": "seat", "from": "regex", "expression": "<b>(\\w+)</b>"},
                ]),
                step("see", "http://a.example/seats/${seat}?at=${place}"),
            ],
            secrets={"password": "ferry"},
        )  # fmt: skip
        self.assertIsNone(found.reason, found.note)
        first, second, third = (one for one in net.asked if isinstance(one, Request))
        self.assertEqual((first.method, first.body), ("POST", b'{"password": "ferry"}'))
        self.assertEqual(
            (second.url, dict(second.headers)), ("http://a.example/sailings/7", {"Authorization": "Bearer t-1234"})
        )
        self.assertEqual(third.url, "http://a.example/seats/14C?at=pier 2")
        self.assertEqual([found.quantities[f"step_{n}"] for n in (1, 2, 3)], [13.5] * 3)
        self.assertEqual(found.quantities["total"], 40.5)

    async def test_the_failed_step_is_named_and_has_no_times(self) -> None:
        answers = [answer(), answer(status=503)]
        net = SimulatedNet(on_fetch=lambda _request: answers.pop(0))
        found = await measured(net, [step("first"), step("second"), step("third")])
        self.assertEqual(found.reason, Reason.STEP_FAILED)
        self.assertEqual(found.note, "step 2, second: status 503, expected 200-399")
        self.assertEqual(dict(found.quantities), {})
        self.assertEqual(len(found.detail["steps"]), 2)

    async def test_a_network_failure_keeps_its_own_reason(self) -> None:
        def refuse(_request: Request) -> Exchange:
            raise FetchError(Reason.CONNECTION_REFUSED, "refused", PHASES)

        found = await measured(SimulatedNet(on_fetch=refuse), [step()])
        self.assertEqual(found.reason, Reason.CONNECTION_REFUSED)

    async def test_secrets_and_tokens_are_in_no_note_and_no_detail(self) -> None:
        answers = [answer(b'{"token": "t-98765"}'), answer(b'{"echo": "t-98765 ferry-secret"}')]
        net = SimulatedNet(on_fetch=lambda _request: answers.pop(0))
        found = await measured(
            net,
            [
                step(take=[{"name": "token", "expression": "$.token"}]),
                step(url="http://a.example/${token}/${key}", expect=[{"expression": "$.echo", "value": "x"}]),
            ],
            secrets={"key": "ferry-secret"},
        )
        self.assertEqual(found.reason, Reason.STEP_FAILED)
        told = f"{found.note} {found.detail} {found.facts}"
        self.assertNotIn("t-98765", told)
        self.assertNotIn("ferry-secret", told)
        self.assertIn("(kept secret)", told)

    async def test_cookies_go_only_where_they_came_from(self) -> None:
        """RFC 6265 §5.4: to the host that set it, and below its path."""
        asked = []

        def fetch(request: Request) -> Exchange:
            asked.append((request.url, dict(request.headers).get("Cookie")))
            return answer(headers=(("Set-Cookie", "session=abc; Path=/app"),) if len(asked) == 1 else ())

        urls = ("http://a.example/app/in", "http://a.example/app/seat", "http://a.example/other", "http://b.example/app/x")
        await measured(SimulatedNet(on_fetch=fetch), [step(url=url) for url in urls])
        self.assertEqual([cookie for _, cookie in asked], [None, "session=abc", None, None])
        asked.clear()
        await measured(SimulatedNet(on_fetch=fetch), [step(url=url) for url in urls[:2]], cookies=False)
        self.assertEqual([cookie for _, cookie in asked], [None, None])

    async def test_an_expression_that_never_ends_is_given_up(self) -> None:
        net = SimulatedNet(on_fetch=lambda _request: answer(b"a" * 5000 + b"!"))
        found = await measured(net, [step(expect=[{"from": "regex", "expression": "^(a+)+$"}])])
        self.assertEqual(found.reason, Reason.STEP_FAILED)

    async def test_against_a_real_server(self) -> None:
        def treat(_client: str, path: str) -> Treatment:
            if path == "/in":
                return Treatment(0.02, 302, b"", (("Location", "/seat"), ("Set-Cookie", "s=1")))
            return Treatment(0.01, 200, b'{"seat": "14C"}')

        net = KernelNet()
        self.addCleanup(net.close)
        async with WebService(treat=treat) as service:
            expect = [{"expression": "$.seat", "value": "14C"}]
            found = await measured(net, [step(url=f"{service.url}/in"), step(url=f"{service.url}/seat", expect=expect)])
            self.assertIsNone(found.reason, found.note)
            self.assertEqual([path for path, _ in service.requests], ["/in", "/seat", "/seat"])
            self.assertEqual([headers.get("cookie") for _, headers in service.requests], [None, "s=1", "s=1"])
        self.assertGreater(found.quantities["step_1"], found.quantities["step_2"])


class Settings(unittest.TestCase):
    def refused(self, **settings: Any) -> str:
        with self.assertRaises(SettingsError) as raised:
            KIND.parse(settings)
        return str(raised.exception)

    def test_what_cannot_be_is_told_with_its_place(self) -> None:
        self.assertIn("settings.steps", self.refused(steps=[]))
        self.assertIn("${token}", self.refused(steps=[step(url="http://a.example/${token}")]))
        self.assertIn("secrets", self.refused(steps=[step(headers={"Authorization": "Bearer abc"})]))
        self.assertIn(
            "regular expression", self.refused(steps=[step(take=[{"name": "a", "from": "regex", "expression": "("}])])
        )
        self.assertIn("http://", self.refused(steps=[step(url="ftp://a.example/")]))
        self.assertIn("kept secret", self.refused(steps=[step(url="http://me:pw@a.example/")]))

    def test_secrets_are_masked_and_put_back(self) -> None:
        parsed = KIND.parse({"steps": [step(body="${key}")], "secrets": {"key": "ferry"}})
        open_part = masked(parsed.model_dump(mode="json"), parsed.secret_part())
        self.assertEqual(open_part["secrets"], {"key": MASK})
        again = KIND.parse(unmasked(open_part, parsed.secret_part()))
        self.assertEqual(again, parsed)

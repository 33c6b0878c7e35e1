"""Redirects: where they lead, with which method, and who is told what; cookies of a transaction."""

import itertools
import unittest
from dataclasses import replace
from http.cookiejar import CookieJar
from urllib.parse import urldefrag

from kuppel.core.reason import Reason
from kuppel.probes.net import Binding, Exchange, FetchError, Phases, Request
from kuppel.probes.redirects import BrokenOff, Following, covers, origin, web_address
from tests.probes.simulated import SimulatedNet

PHASES = Phases(1000, 20_000, 40_000, 100_000, 5000)

# RFC 3986 §5.4.1 and §5.4.2, against the base `http://a/b/c/d;p?q`.
NORMAL = {
    "g": "http://a/b/c/g", "./g": "http://a/b/c/g", "g/": "http://a/b/c/g/", "/g": "http://a/g", "//g": "http://g",
    "?y": "http://a/b/c/d;p?y", "g?y": "http://a/b/c/g?y", "#s": "http://a/b/c/d;p?q#s", "g#s": "http://a/b/c/g#s",
    "g?y#s": "http://a/b/c/g?y#s", ";x": "http://a/b/c/;x", "g;x": "http://a/b/c/g;x", "g;x?y#s": "http://a/b/c/g;x?y#s",
    ".": "http://a/b/c/", "./": "http://a/b/c/", "..": "http://a/b/", "../": "http://a/b/", "../g": "http://a/b/g",
    "../..": "http://a/", "../../": "http://a/", "../../g": "http://a/g",
}  # fmt: skip
ABNORMAL = {
    "../../../g": "http://a/g", "../../../../g": "http://a/g", "/./g": "http://a/g", "/../g": "http://a/g",
    "g.": "http://a/b/c/g.", ".g": "http://a/b/c/.g", "g..": "http://a/b/c/g..", "..g": "http://a/b/c/..g",
    "./../g": "http://a/b/g", "./g/.": "http://a/b/c/g/", "g/./h": "http://a/b/c/g/h", "g/../h": "http://a/b/c/h",
    "g;x=1/./y": "http://a/b/c/g;x=1/y", "g;x=1/../y": "http://a/b/c/y", "g?y/./x": "http://a/b/c/g?y/./x",
    "g?y/../x": "http://a/b/c/g?y/../x", "g#s/./x": "http://a/b/c/g#s/./x", "g#s/../x": "http://a/b/c/g#s/../x",
}  # fmt: skip


def answer(status: int = 200, location: str = "", *cookies: str) -> Exchange:
    headers = [("Location", location)] if location else []
    headers += [("Set-Cookie", one) for one in cookies]
    return Exchange(status, "HTTP/1.1", tuple(headers), b"", 0, PHASES, "192.0.2.7", "192.0.2.1")


def request(url: str, **changed: object) -> Request:
    made = Request(
        url=url, method="GET", headers=(), body=b"", timeout_us=10_000_000, family="any", proxy=None, is_verified=True,
        authority=None, address=None, binding=Binding(),
    )  # fmt: skip
    return replace(made, **changed)  # type: ignore[arg-type]


class RedirectCase(unittest.IsolatedAsyncioTestCase):
    async def asked(self, first: Request, *answers: Exchange, most: int = 10, **of: object) -> list[Request]:
        """What is asked for when such answers come one after another."""
        left = list(answers)
        net = SimulatedNet(on_fetch=lambda _request: left.pop(0))
        self.following = Following(net, most, **of)  # type: ignore[arg-type]
        self.last = await self.following.exchange(first)
        return [one for one in net.asked if isinstance(one, Request)]


class Leading(RedirectCase):
    async def test_locations_are_resolved_as_the_standard_has_them(self) -> None:
        for location, wanted in (NORMAL | ABNORMAL).items():
            _, second = await self.asked(request("http://a/b/c/d;p?q"), answer(302, location), answer())
            # A fragment is not sent; what stands before it is.
            self.assertEqual(urldefrag(second.url)[0], urldefrag(wanted)[0], location)

    async def test_an_answer_that_names_no_other_place_is_the_last(self) -> None:
        for status, location in ((302, ""), (304, "/g"), (300, "/g"), (201, "/made"), (200, "/g")):
            found = await self.asked(request("http://a/"), answer(status, location))
            self.assertEqual((len(found), self.last.status), (1, status))

    async def test_what_is_no_web_address_ends_it_with_its_reason(self) -> None:
        for location in ("g:h", "ftp://a/g", "javascript:alert(1)", "file:///etc/passwd", "data:text/plain,x"):
            with self.assertRaises(BrokenOff) as caught:
                await self.asked(request("http://a/"), answer(302, location))
            self.assertEqual(caught.exception.reason, Reason.PROTOCOL_ERROR)
            self.assertIn(location, caught.exception.note)

    async def test_none_is_followed_when_none_may_be(self) -> None:
        found = await self.asked(request("http://a/"), answer(301, "/g"), most=0)
        self.assertEqual((len(found), self.last.status, self.following.redirects), (1, 301, 0))

    async def test_a_circle_ends_after_as_many_as_may_be(self) -> None:
        circle = [answer(302, "/b"), answer(302, "/a")] * 10
        with self.assertRaises(BrokenOff) as caught:
            await self.asked(request("http://a/a"), *circle, most=5)
        self.assertEqual(caught.exception.reason, Reason.TOO_MANY_REDIRECTS)
        self.assertEqual(self.following.total.total_us, 6 * PHASES.total_us)

    async def test_all_share_the_first_ones_time(self) -> None:
        found = await self.asked(
            request("http://a/", timeout_us=400_000), answer(302, "/b"), answer(302, "/c"), answer(), most=5
        )
        self.assertEqual([one.timeout_us for one in found], [400_000, 234_000, 68_000])
        # However little is left, it is tried: an exchange may take no time at all.
        found = await self.asked(request("http://a/", timeout_us=100_000), answer(302, "/b"), answer())
        self.assertEqual(found[1].timeout_us, 1000)

    async def test_what_breaks_off_later_keeps_the_time_until_then(self) -> None:
        left = [answer(302, "/b")]

        def fetch(_request: Request) -> Exchange:
            if left:
                return left.pop()
            raise FetchError(Reason.TIMEOUT, "no answer", Phases(500, 0, None, 0, 0))

        following = Following(SimulatedNet(on_fetch=fetch), 3)
        with self.assertRaises(BrokenOff) as caught:
            await following.exchange(request("http://a/"))
        self.assertEqual((caught.exception.reason, following.redirects), (Reason.TIMEOUT, 1))
        self.assertEqual(following.total.name_us, 1500)


class Methods(RedirectCase):
    async def test_who_becomes_get_and_who_stays(self) -> None:
        """RFC 9110 §15.4.2 to §15.4.9: 307 and 308 keep the method and the body; 303 is fetched by GET; a POST after 301
        and 302 becomes GET by what user agents have always done, which the notes there allow."""
        for status, method in itertools.product((301, 302, 303, 307, 308), ("GET", "POST", "PUT")):
            first = request("http://a/", method=method, body=b"" if method == "GET" else b"x")
            _, second = await self.asked(first, answer(status, "/g"), answer())
            becomes_get = status == 303 or (status in (301, 302) and method == "POST")
            wanted = ("GET", b"") if becomes_get else (method, first.body)
            self.assertEqual((second.method, second.body), wanted, (status, method))


class Credentials(RedirectCase):
    HEADERS = (("Authorization", "Bearer x"), ("cookie", "a=b"), ("Accept", "text/html"))

    async def told(self, first: str, *locations: str) -> list[list[str]]:
        """Names of the headers that each was told."""
        answers = [*(answer(302, one) for one in locations), answer()]
        found = await self.asked(request(first, headers=self.HEADERS), *answers)
        return [[name.lower() for name, _ in one.headers] for one in found]

    async def test_they_stay_with_their_origin(self) -> None:
        """RFC 9110 §15.4 with the origin of RFC 6454: scheme, host and port."""
        everything, bare = ["authorization", "cookie", "accept"], ["accept"]
        for location, wanted in (
            ("/g", everything),
            ("https://a.example/g", everything),
            ("https://a.example:443/g", everything),
            ("https://A.EXAMPLE/g", everything),
            ("https://b.example/g", bare),
            ("https://a.example.b.example/g", bare),
            ("https://a.example:8443/g", bare),
            ("http://a.example/g", bare),
            ("//a.example@b.example/g", bare),
        ):
            self.assertEqual(await self.told("https://a.example/", location), [everything, wanted], location)

    async def test_they_come_back_with_the_way_home(self) -> None:
        names = await self.told("https://a.example/", "https://login.example/", "https://a.example/back")
        self.assertEqual([("authorization" in one) for one in names], [True, False, True])

    async def test_an_address_is_told_of_a_host_on_all_its_ports(self) -> None:
        first = request("http://a.example/", address="192.0.2.9")
        found = await self.asked(
            first,
            answer(301, "https://a.example/"),
            answer(302, "https://b.example/"),
            answer(302, "http://a.example/c"),
            answer(),
        )
        self.assertEqual([one.address for one in found], ["192.0.2.9", "192.0.2.9", None, "192.0.2.9"])

    def test_an_origin_is_scheme_host_and_port(self) -> None:
        """RFC 6454 §5: the same triple is the same origin, whatever the path."""
        same = ("http://example.com/", "http://example.com:80/", "http://EXAMPLE.com/path/file")
        self.assertEqual(len({origin(one) for one in same}), 1)
        others = ("http://example.com:8080/", "http://www.example.com/", "https://example.com:80/", "https://example.com/")
        self.assertEqual(len({origin(one) for one in (*same[:1], *others)}), 5)


class Cookies(RedirectCase):
    async def cookies_of(self, set_cookie: str, *urls: str) -> list[str | None]:
        """What each address is told after the first one set a cookie."""
        jar = CookieJar()
        answers = [answer(302, urls[0], set_cookie), *(answer(302, one) for one in urls[1:]), answer()]
        found = await self.asked(request("https://shop.example/cart/1"), *answers, cookies=jar)
        return [dict(one.headers).get("Cookie") for one in found[1:]]

    async def test_one_is_kept_for_what_comes_after(self) -> None:
        self.assertEqual(await self.cookies_of("sid=31d4d96e407aad42", "/cart/2"), ["sid=31d4d96e407aad42"])

    async def test_only_where_its_path_and_its_security_allow(self) -> None:
        """RFC 6265 §5.4 with §5.1.4: the path is a prefix by whole segments; Secure is for secure channels alone."""
        self.assertEqual(
            await self.cookies_of("a=1; Path=/cart", "/cart", "/cart/2", "/cartwheel", "/"), ["a=1", "a=1", None, None]
        )
        self.assertEqual(
            await self.cookies_of("a=1; Path=/; Secure", "https://shop.example/x", "http://shop.example/x"), ["a=1", None]
        )

    async def test_no_other_host_is_told(self) -> None:
        """RFC 6265 §4.1.2.3: without Domain it goes back to the origin server alone."""
        self.assertEqual(await self.cookies_of("a=1; Path=/", "https://other.example/", "/back"), [None, None])

    async def test_one_that_has_ended_is_gone(self) -> None:
        """RFC 6265 §5.2.2: Max-Age of zero ends it at once."""
        jar = CookieJar()
        answers = [answer(302, "/b", "a=1; Path=/"), answer(302, "/c", "a=1; Path=/; Max-Age=0"), answer()]
        found = await self.asked(request("https://shop.example/a"), *answers, cookies=jar)
        self.assertEqual([dict(one.headers).get("Cookie") for one in found], [None, "a=1", None])


class Settings(unittest.TestCase):
    def test_ranges_of_statuses(self) -> None:
        for told, inside, outside in (("200", (200,), (199, 201)), ("200-399", (200, 301, 399), (199, 400))):
            self.assertTrue(all(covers(told, one) for one in inside))
            self.assertFalse(any(covers(told, one) for one in outside))

    def test_addresses_that_cannot_be_fetched_say_what_is_wrong(self) -> None:
        for url, words in (
            ("ftp://a/", "http://"),
            ("http:///path", "name a host"),
            ("//a/", "http://"),
            ("https://me:secret@a/", "credentials"),
        ):
            with self.assertRaisesRegex(ValueError, words):
                web_address(url)
        self.assertEqual(web_address("https://a/"), "https://a/")


if __name__ == "__main__":
    unittest.main()

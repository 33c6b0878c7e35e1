"""Stand-ins that do what they are told, and certificates that real TLS judges."""

import asyncio
import datetime
import socket
import ssl
import time
import unittest

from cryptography import x509

from kuppel.lab.authority import Authority
from kuppel.lab.services import TcpService, Treatment, WebService, same_for_all, server_context


class Certificates(unittest.TestCase):
    def test_openssl_accepts_the_name_and_refuses_another(self) -> None:
        """By the standard library's TLS, RFC 5280 path validation and RFC 6125 names."""
        authority = Authority()
        credential = authority.issue(["booking.skerry.example", "127.0.0.1"])
        client = ssl.create_default_context(cadata=authority.certificate)
        self.assertEqual(self.handshake(client, credential, "booking.skerry.example"), "TLSv1.3")
        self.assertEqual(self.handshake(client, credential, "127.0.0.1"), "TLSv1.3")
        with self.assertRaises(ssl.SSLCertVerificationError):
            self.handshake(client, credential, "gates.skerry.example")

    def test_an_expired_one_is_refused(self) -> None:
        authority = Authority()
        client = ssl.create_default_context(cadata=authority.certificate)
        with self.assertRaisesRegex(ssl.SSLCertVerificationError, "expired"):
            self.handshake(client, authority.issue(["a.example"], days=-1, since_days=9), "a.example")

    def test_a_seeded_one_is_the_same_each_time_and_accepted(self) -> None:
        """RFC 6979: signatures without randomness of their own; judged by the standard library's TLS."""
        one, other = Authority(seed="a"), Authority(seed="a")
        self.assertEqual(one.certificate, other.certificate)
        self.assertNotEqual(one.certificate, Authority(seed="b").certificate)
        start = datetime.datetime(2026, 1, 1, tzinfo=datetime.UTC)
        ends = (start, start + datetime.timedelta(days=90))
        leaf, again = (by.issue_between(["a.example"], *ends) for by in (one, other))
        self.assertEqual(leaf, again)
        root = x509.load_pem_x509_certificate(one.certificate.encode())
        leaf.verify_directly_issued_by(root)

    def test_its_dates_are_the_wanted_ones(self) -> None:
        leaf = x509.load_pem_x509_certificate(Authority().issue(["a.example"], days=71, since_days=19).certificate.encode())
        self.assertEqual((leaf.not_valid_after_utc - leaf.not_valid_before_utc).days, 90)

    @staticmethod
    def handshake(client: ssl.SSLContext, credential: object, name: str) -> str | None:
        """Both ends in memory: no socket, no thread."""
        to_server, to_client = ssl.MemoryBIO(), ssl.MemoryBIO()
        server = server_context(credential).wrap_bio(to_server, to_client, server_side=True)  # type: ignore[arg-type]
        near = client.wrap_bio(to_client, to_server, server_hostname=name)
        for _ in range(6):
            for side in (near, server):
                try:
                    side.do_handshake()
                except ssl.SSLWantReadError:
                    continue
        return near.version()


class Services(unittest.IsolatedAsyncioTestCase):
    async def ask(self, service: WebService, source: str = "127.0.0.1", method: str = "GET") -> tuple[bytes, float]:
        begun = time.monotonic()
        reader, writer = await asyncio.open_connection(service.host, service.port, local_addr=(source, 0))
        writer.write(f"{method} /gate HTTP/1.1\r\nHost: gates.skerry.example\r\n\r\n".encode())
        answer = await asyncio.wait_for(reader.read(), 5)
        writer.close()
        return answer, time.monotonic() - begun

    async def test_each_client_is_treated_as_told(self) -> None:
        def treat(client: str, path: str) -> Treatment:
            return Treatment(status=503 if client == "127.0.0.9" else 200, body=path.encode())

        async with WebService(treat=treat) as service:
            near, _ = await self.ask(service)
            far, _ = await self.ask(service, "127.0.0.9")
        self.assertTrue(near.startswith(b"HTTP/1.1 200"))
        self.assertTrue(near.endswith(b"/gate"))
        self.assertTrue(far.startswith(b"HTTP/1.1 503"))

    async def test_delay_and_cut_and_loss(self) -> None:
        async with WebService(treat=same_for_all(Treatment(delay_s=0.15))) as service:
            _, took = await self.ask(service)
            self.assertGreaterEqual(took, 0.15)
        async with WebService(treat=same_for_all(Treatment(body=b"half", is_cut=True))) as service:
            answer, _ = await self.ask(service)
            self.assertIn(b"Content-Length: 8", answer)
            self.assertTrue(answer.endswith(b"half"))
        async with WebService(treat=same_for_all(Treatment(is_lost=True))) as service:
            reader, writer = await asyncio.open_connection(service.host, service.port)
            writer.write(b"GET / HTTP/1.1\r\nHost: a.example\r\n\r\n")
            with self.assertRaises(TimeoutError):
                await asyncio.wait_for(reader.read(), 0.3)
            writer.close()

    async def test_head_has_headers_alone(self) -> None:
        """RFC 9110 §9.3.2: the answer to HEAD has no content."""
        async with WebService() as service:
            answer, _ = await self.ask(service, method="HEAD")
        self.assertTrue(answer.endswith(b"\r\n\r\n"))

    async def test_a_gate_that_refuses_and_comes_back_on_its_port(self) -> None:
        async with TcpService() as gate:
            port = gate.port
            await gate.refuse()
            with socket.socket() as sock:
                self.assertNotEqual(await asyncio.to_thread(sock.connect_ex, ("127.0.0.1", port)), 0)
            await gate.listen()
            reader, writer = await asyncio.open_connection("127.0.0.1", port)
            self.assertEqual(await reader.readline(), b"gate ready\r\n")
            writer.close()


if __name__ == "__main__":
    unittest.main()

"""Certificates: OpenSSL servers with good and bad chains, mail servers that begin TLS later, and those that misbehave."""

import asyncio
import contextlib
import socket
import ssl
import threading
import unittest
from collections.abc import Callable
from typing import Any

from cryptography import x509
from cryptography.hazmat.primitives import hashes

from kuppel.core.reason import Reason
from kuppel.core.result import Observation
from kuppel.lab.authority import Authority, Credential
from kuppel.lab.services import server_context
from kuppel.probes.kernel.network import KernelNet
from kuppel.probes.net import Binding, NetError
from kuppel.probes.registry import KINDS

NAME = "booking.skerry.example"
AUTHORITY = Authority()
Talk = Callable[[socket.socket], None]


def silent(sock: socket.socket) -> None:
    threading.Event().wait(2)
    sock.close()


class TlsCase(unittest.TestCase):
    def setUp(self) -> None:
        self.net = KernelNet()
        self.addCleanup(self.net.close)

    def server(self, credential: Credential | None, talk: Talk | None = None, **context: Any) -> int:
        """A server of one connection after another; `talk` comes before TLS. Its port."""
        listening = socket.create_server(("127.0.0.1", 0))
        self.addCleanup(listening.close)
        made = None if credential is None else server_context(credential)
        for name, value in context.items():
            setattr(made, name, value)

        def serve() -> None:
            while True:
                try:
                    sock, _ = listening.accept()
                except OSError:
                    return
                with contextlib.suppress(OSError), sock:
                    if talk is not None:
                        talk(sock)
                    if made is not None:
                        made.wrap_socket(sock, server_side=True).close()

        threading.Thread(target=serve, daemon=True).start()
        return int(listening.getsockname()[1])

    def run_probe(self, port: int, **settings: Any) -> Observation:
        kind = KINDS["tls"]
        told = {
            "host": "127.0.0.1", "port": port, "server_name": NAME, "authority": AUTHORITY.certificate, "timeout_ms": 700,
        }  # fmt: skip
        return asyncio.run(kind.attempt(kind.parse(told | settings), self.net, Binding()))

    def failure(self, port: int, **settings: Any) -> tuple[Reason | None, str]:
        try:
            found = self.run_probe(port, **settings)
        except NetError as error:
            return error.reason, error.note
        return found.reason, found.note


class Chains(TlsCase):
    def test_a_good_one_is_told_whole(self) -> None:
        """Fingerprint, names and expiry against the cryptography library's own reading of what was issued."""
        credential = AUTHORITY.issue([NAME, "192.0.2.7"], days=41)
        found = self.run_probe(self.server(credential))
        leaf = x509.load_pem_x509_certificate(credential.certificate.encode())
        self.assertIsNone(found.reason)
        self.assertEqual(found.facts["certificate"], leaf.fingerprint(hashes.SHA256()).hex())
        self.assertEqual(found.facts["certificate_names"], f"{NAME}, 192.0.2.7")
        self.assertAlmostEqual(found.quantities["certificate_days"], 41, delta=0.01)
        self.assertEqual((found.facts["tls_version"], found.detail["verification"]), ("TLSv1.3", "accepted"))
        parts = [found.quantities[name] for name in KINDS["tls"].phases]
        self.assertAlmostEqual(sum(parts), found.quantities["total"])
        self.assertEqual(set(found.quantities), set(KINDS["tls"].quantities))

    def test_why_one_is_not_accepted_and_what_it_is_all_the_same(self) -> None:
        expired = AUTHORITY.issue([NAME], days=-2)
        other = AUTHORITY.issue(["elsewhere.example"])
        stranger = Authority("Stranger").issue([NAME])
        for credential, words, days in ((expired, "expired", -2), (other, "mismatch", 90), (stranger, "unable to get", 90)):
            port = self.server(credential)
            found = self.run_probe(port)
            self.assertEqual(found.reason, Reason.CERTIFICATE_INVALID)
            self.assertIn(words, found.note)
            self.assertAlmostEqual(found.quantities["certificate_days"], days, delta=0.01)
            told = self.run_probe(port, is_verified=False)
            self.assertEqual((told.reason, told.detail["verification"]), (None, found.note))

    def test_an_old_protocol_is_seen(self) -> None:
        port = self.server(AUTHORITY.issue([NAME]), maximum_version=ssl.TLSVersion.TLSv1_2)
        self.assertEqual(self.run_probe(port).facts["tls_version"], "TLSv1.2")

    def test_no_tls_at_all(self) -> None:
        port = self.server(None, lambda sock: sock.sendall(b"SSH-2.0-gate\r\n"))
        self.assertIn(self.failure(port)[0], (Reason.TLS_FAILED, Reason.CONNECTION_RESET))
        self.assertEqual(self.failure(self.server(None, silent))[0], Reason.TIMEOUT)
        with socket.create_server(("127.0.0.1", 0)) as free:
            port = free.getsockname()[1]
        self.assertEqual(self.failure(port)[0], Reason.CONNECTION_REFUSED)


class Mail(TlsCase):
    @staticmethod
    def smtp(sock: socket.socket) -> None:
        """RFC 3207 §5, the example's order of replies."""
        file = sock.makefile("rwb", buffering=0)
        file.write(b"220 mail.skerry.example SMTP service ready\r\n")
        assert file.readline().startswith(b"EHLO ")
        file.write(b"250-mail.skerry.example offers a warm hug of welcome\r\n250 STARTTLS\r\n")
        assert file.readline() == b"STARTTLS\r\n"
        file.write(b"220 Go ahead\r\n")

    @staticmethod
    def imap(sock: socket.socket) -> None:
        """RFC 9051 §6.2.1."""
        file = sock.makefile("rwb", buffering=0)
        file.write(b"* OK IMAP4rev2 ready\r\n")
        tag = file.readline().split()[0]
        file.write(b"* CAPABILITY IMAP4rev2\r\n" + tag + b" OK Begin TLS negotiation now\r\n")

    def test_tls_after_starttls(self) -> None:
        credential = AUTHORITY.issue([NAME])
        for how, talk in (("smtp", self.smtp), ("imap", self.imap)):
            found = self.run_probe(self.server(credential, talk), starttls=how)
            self.assertEqual((found.reason, found.facts["certificate_names"]), (None, NAME), how)

    def test_a_server_that_will_not_or_never_stops(self) -> None:
        def refuses(sock: socket.socket) -> None:
            sock.sendall(b"554 no service here\r\n")

        def endless(sock: socket.socket) -> None:
            with contextlib.suppress(OSError):
                while True:
                    sock.sendall(b"220-" + b"x" * 500 + b"\r\n")

        reason, note = self.failure(self.server(None, refuses), starttls="smtp")
        self.assertEqual(reason, Reason.PROTOCOL_ERROR)
        self.assertIn("554 no service here", note)
        self.assertEqual(self.failure(self.server(None, endless), starttls="smtp")[0], Reason.PROTOCOL_ERROR)
        self.assertEqual(self.failure(self.server(None, refuses), starttls="imap")[0], Reason.PROTOCOL_ERROR)
        self.assertEqual(self.failure(self.server(None, silent), starttls="imap")[0], Reason.TIMEOUT)

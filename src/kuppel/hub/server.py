"""Running a hub until it is told to stop."""

import gc
import socket
import ssl
from types import FrameType

import structlog
import uvicorn
from fastapi import FastAPI

from kuppel.hub.app import create_app
from kuppel.hub.hub import database_place
from kuppel.hub.sealing import kept_key
from kuppel.hub.settings import HubSettings
from kuppel.store.database import Database


class PortTaken(Exception):
    """The port cannot be listened on; the message says what to do."""


class CertificateUnusable(Exception):
    """The certificate or its key cannot be used; the message says why and what to do."""


class _Server(uvicorn.Server):
    """Ends the live streams when asked to stop: an open stream would hold the server up."""

    def __init__(self, config: uvicorn.Config, app: FastAPI) -> None:
        super().__init__(config)
        self._app = app

    def handle_exit(self, sig: int, frame: FrameType | None) -> None:
        hub = getattr(self._app.state, "hub", None)
        if hub is not None:
            hub.bus.close_soon()
            hub.trials.close_soon()
        super().handle_exit(sig, frame)


def listen(host: str, port: int) -> socket.socket:
    """A listening socket.

    Raises
    ------
    PortTaken
    """
    family = socket.AF_INET6 if ":" in host else socket.AF_INET
    sock = socket.socket(family, socket.SOCK_STREAM)
    sock.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
    # Its connections inherit it. An answer is written in two pieces; without it the second waits 40 ms for the other side
    # to acknowledge the first (RFC 896 with RFC 1122 §4.2.3.2).
    sock.setsockopt(socket.IPPROTO_TCP, socket.TCP_NODELAY, 1)
    try:
        sock.bind((host, port))
    except OSError as error:
        sock.close()
        raise PortTaken(
            f"Port {port} of {host} cannot be used: {(error.strerror or str(error)).lower()}."
            " Stop what is listening there, or choose another with --port."
        ) from None
    return sock


def _check_certificate(settings: HubSettings) -> None:
    if settings.tls_cert is None or settings.tls_key is None:
        return
    try:
        ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER).load_cert_chain(settings.tls_cert, settings.tls_key)
    except (OSError, ssl.SSLError) as error:
        raise CertificateUnusable(
            f"The certificate {settings.tls_cert} with the key {settings.tls_key} cannot be used: {error}. Both must be PEM"
            " files that the hub may read, and belong together."
        ) from None


def _settle_collector() -> None:
    """Batches make and drop many objects that are in no cycle: looking for cycles as often as the interpreter does by
    default takes a fifth of the intake's time."""
    gc.collect()
    gc.freeze()
    gc.set_threshold(50_000, 20, 50)


def run_hub(settings: HubSettings) -> None:
    """Serve until SIGINT or SIGTERM.

    Raises
    ------
    PortTaken, DatabaseUnusable, KeyUnusable, CertificateUnusable
        before anything is served.
    """
    _check_certificate(settings)
    sock = listen(settings.host, settings.port)
    _settle_collector()
    database = Database(database_place(settings), is_synchronous_full=settings.is_synchronous_full)
    kept_key(settings.data / "secret-key")
    app = create_app(settings, database)
    config = uvicorn.Config(
        app,
        log_level="warning",
        access_log=False,
        timeout_graceful_shutdown=5,
        server_header=False,
        # Forwarded headers count only from the proxies that were named.
        proxy_headers=bool(settings.trusted_proxies),
        forwarded_allow_ips=settings.trusted_proxies,
        ssl_certfile=settings.tls_cert,
        ssl_keyfile=settings.tls_key,
    )
    scheme = "https" if settings.tls_cert is not None else "http"
    structlog.get_logger().info("listening", address=f"{scheme}://{settings.host}:{sock.getsockname()[1]}")
    _Server(config, app).run(sockets=[sock])

"""The demo: a hub with the past of the made-up world, and the world's vantage points measuring on."""

import asyncio
import contextlib
import json
import os
import shutil
import sys
import time
from collections.abc import AsyncIterator, Coroutine, Iterator
from dataclasses import replace
from pathlib import Path

import httpx
import typer
import uvicorn

from kuppel.hub.hub import now_us
from kuppel.hub.server import listen
from kuppel.hub.settings import HubSettings
from kuppel.lab import preparation
from kuppel.lab.authority import Authority
from kuppel.lab.bulk.history import Progress
from kuppel.lab.events import FaultBook, events_app
from kuppel.lab.live import LivePoints
from kuppel.lab.services import Treatment, WebService
from kuppel.lab.skerry.estate import PEOPLE, POINTS
from kuppel.lab.skerry.faults import told_of
from kuppel.lab.world.draw import generator
from kuppel.lab.world.fault import Fault
from kuppel.lab.world.world import World
from kuppel.probes.kernel import browser
from kuppel.probes.kernel.browser import browser_missing
from kuppel.probes.net import PageLoad, PageLoaded

DAYS = 45
SEED = 7
_READY_WITHIN_S = 30.0
_PAGE_HOST = "127.0.2.1"


class DemoFailed(Exception):
    """The demo cannot run; the message says why and what to do."""


async def run_demo(
    folder: Path,
    web: Path | None,
    port: int,
    *,
    is_fresh: bool,
    is_reloading: bool = False,
    days: int = DAYS,
    seed: int = SEED,
) -> None:
    """Run until cancelled; with `is_reloading`, the hub starts anew whenever a source file changes.

    Raises
    ------
    PortTaken, DatabaseUnusable, DemoFailed
        before anything is served.
    """
    for one in (port, preparation.events_port(port)):
        listen("127.0.0.1", one).close()  # says at once when a port is taken, before minutes of preparation
    settings = HubSettings(data=folder / "hub", port=port, web=web, site="Skerry Line", demo_people=list(PEOPLE))
    if is_fresh:
        await asyncio.to_thread(shutil.rmtree, folder, ignore_errors=True)
    book = await asyncio.to_thread(_past, folder, settings, port, days, seed)
    async with contextlib.AsyncExitStack() as stack:
        await stack.enter_async_context(_page(book.world, port))
        hub = f"http://127.0.0.1:{port}"
        points = LivePoints(book.world, hub, folder, POINTS, None if browser_missing() else _load_page)
        await stack.enter_async_context(_running(points.run()))
        await stack.enter_async_context(_events(book, port))
        while True:
            async with _hub_process(settings) as process:
                typer.echo(f"Kuppel is at {hub} (Ctrl-C stops everything)")
                if not is_reloading:
                    ended = await process.wait()
                    raise DemoFailed(f"The hub stopped by itself with status {ended}; its last words are above.")
                await _sources_change()
                typer.echo("A source file changed: starting the hub anew.")


def _past(folder: Path, settings: HubSettings, port: int, days: int, seed: int) -> FaultBook:
    """The past of the world: made up at the first start, brought up to now at later ones."""
    book = FaultBook.kept(folder)
    if book is not None:
        with _shown("Making up what happened since the demo ran last") as progress:
            preparation.fill_gap(settings, book, now_us(), progress)
        return book
    with _shown(f"Making up {days} days of history") as progress:
        book = preparation.prepare(settings, folder, port, days, seed, now_us(), progress)
    # That took minutes: without them, whatever is measured every minute would be silent until its first live result.
    preparation.fill_gap(settings, book, now_us(), lambda _: None, has_measured=False)
    return book


@contextlib.contextmanager
def _shown(words: str) -> Iterator[Progress]:
    """A bar that fills."""
    with typer.progressbar(length=1000, label=words, show_eta=True) as bar:
        done = 0

        def progress(share: float) -> None:
            nonlocal done
            bar.update(round(share * 1000) - done)
            done = round(share * 1000)

        yield progress


@contextlib.asynccontextmanager
async def _running(work: Coroutine[None, None, None]) -> AsyncIterator[None]:
    """Something that runs beside, and is stopped at the end."""
    task = asyncio.create_task(work)
    try:
        yield
    finally:
        task.cancel()
        with contextlib.suppress(asyncio.CancelledError):
            await task


@contextlib.asynccontextmanager
async def _events(book: FaultBook, port: int) -> AsyncIterator[None]:
    """The events switch."""

    def told(fault: Fault) -> None:
        change = told_of(fault)
        if change is not None:
            # Announced now: what is written down beforehand cannot be of a fault begun by hand.
            try:
                preparation.tell_hub(book.folder, port, replace(change, time_us=fault.from_us))
            except httpx.HTTPError as error:  # the fault has begun all the same
                typer.echo(f"The hub was not told of {change.subject}: {error}", err=True)

    config = uvicorn.Config(events_app(book, told), log_level="warning", lifespan="off")
    server = uvicorn.Server(config)
    server.install_signal_handlers = lambda: None  # type: ignore[attr-defined]
    sock = listen("127.0.0.1", preparation.events_port(port))
    task = asyncio.create_task(server.serve([sock]))
    try:
        yield
    finally:
        server.should_exit = True
        await task


@contextlib.asynccontextmanager
async def _page(world: World, port: int) -> AsyncIterator[None]:
    """A real web page for the one probe that needs a real browser; as slow as the application is at that moment."""
    application = world.applications["booking"]
    credential = Authority().issue(["booking.skerry.example"])

    def treat(_client: str, _path: str) -> Treatment:
        now = preparation.moment(now_us())
        told = world.answered(application, now, generator(world.seed, "page", int(now[0])))
        # The page itself comes even when what it asks for seats does not.
        status = 200 if told.statuses[0] == 502 else int(told.statuses[0])
        headers = (("Content-Type", application.content_type),)
        return Treatment(float(told.waits_ms[0]) / 1000, status, application.body, headers)

    try:
        async with WebService(_PAGE_HOST, preparation.page_port(port), treat, credential):
            yield
    except OSError as error:
        why = (error.strerror or str(error)).lower()
        raise DemoFailed(
            f"The stand-in for the booking page cannot listen on {_PAGE_HOST} port {preparation.page_port(port)}: {why}."
            " Start with another --port."
        ) from None


async def _load_page(page: PageLoad) -> PageLoaded:
    return await asyncio.to_thread(browser.load, page)


async def _sources_change() -> None:
    """Return when a file of the package is saved."""
    package = Path(__file__).parents[1]

    def newest() -> float:
        return max(path.stat().st_mtime for path in package.rglob("*.py"))

    before = await asyncio.to_thread(newest)
    while await asyncio.to_thread(newest) == before:  # noqa: ASYNC110 (files send no event)
        await asyncio.sleep(1)


@contextlib.asynccontextmanager
async def _hub_process(settings: HubSettings) -> AsyncIterator[asyncio.subprocess.Process]:
    options = ["--data", str(settings.data), "--port", str(settings.port)]
    if settings.web is not None:
        options += ["--web", str(settings.web)]
    environment = {
        "KUPPEL_LOG_LEVEL": "warning",
        "KUPPEL_SITE": settings.site,
        "KUPPEL_DEMO_PEOPLE": json.dumps([one.model_dump(mode="json") for one in settings.demo_people]),
    }
    async with _process("hub", *options, environment=environment) as process:
        await _until_ready(f"http://127.0.0.1:{settings.port}/api/ready", process)
        yield process


@contextlib.asynccontextmanager
async def _process(*arguments: str, environment: dict[str, str]) -> AsyncIterator[asyncio.subprocess.Process]:
    """A Kuppel process that is stopped, gently at first, when the demo ends."""
    process = await asyncio.create_subprocess_exec(
        sys.executable,
        "-m",
        "kuppel.cli",
        *arguments,
        env=os.environ | environment,
        # A group of its own: Ctrl-C reaches the demo alone, which then stops everything in order.
        start_new_session=True,
    )
    try:
        yield process
    finally:
        with contextlib.suppress(ProcessLookupError):
            process.terminate()
        try:
            await asyncio.wait_for(process.wait(), 8)
        except TimeoutError:
            process.kill()
            await process.wait()


async def _until_ready(url: str, process: asyncio.subprocess.Process) -> None:
    deadline = time.monotonic() + _READY_WITHIN_S
    async with httpx.AsyncClient(trust_env=False) as client:
        while time.monotonic() < deadline:
            if process.returncode is not None:
                raise DemoFailed(f"The hub did not start (status {process.returncode}); its words are above.")
            with contextlib.suppress(httpx.HTTPError):
                if (await client.get(url)).is_success:
                    return
            await asyncio.sleep(0.1)
    raise DemoFailed(f"The hub was not ready within {_READY_WITHIN_S:g} s.")

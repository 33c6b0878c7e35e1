"""The application factory: one FastAPI application for one hub."""

import asyncio
import contextlib
from collections.abc import AsyncIterator
from functools import partial
from typing import Any

import structlog
from fastapi import APIRouter, FastAPI
from fastapi.concurrency import run_in_threadpool
from fastapi.openapi.utils import get_openapi
from pydantic.json_schema import models_json_schema
from starlette.middleware.gzip import GZipMiddleware
from starlette.middleware.trustedhost import TrustedHostMiddleware

from kuppel import __version__
from kuppel.hub.api import (
    agents,
    changes,
    courses,
    coverage,
    export,
    groups,
    health,
    live,
    map_layer,
    matrix,
    now,
    overview,
    people,
    plans,
    probes,
    query,
    record,
    ribbon,
    saved,
    session,
    store,
    streams,
    targets,
    tokens,
    trials,
    vantage_points,
)
from kuppel.hub.api.guard import Access, declarations, may
from kuppel.hub.api.problem import Problem, add_handlers, responses
from kuppel.hub.hub import Hub, database_place, now_us
from kuppel.hub.protection import BodyBound, SecurityHeaders, Unforeseen
from kuppel.hub.settings import HubSettings
from kuppel.hub.web import WebApplication
from kuppel.store.database import Database
from kuppel.wire.delivery import Batch

_TICK_S = 1.0
_WARM_AFTER_S = 0.5
_FINISH_EVERY_S = 60.0
_USUAL_AFTER_S = 3.0
_USUAL_EVERY_S = 60.0
_LOOPBACK_NAMES = ("127.0.0.1", "localhost", "[::1]", "::1")
_log = structlog.get_logger()

_DESCRIPTION = """Everything that Kuppel's screens show and do, they show and do by this interface.

Times are RFC 3339 with a zone. Windows are `from` (included) and `to` (not included). Values carry a UCUM unit, or stand in
columns with one unit. Every statistic comes with its sample count, its 95 % interval and how it was computed. Errors are
RFC 9457 problems that name the field, the value and the remedy."""


def create_app(settings: HubSettings, database: Database | None = None) -> FastAPI:
    """A hub's application.

    Parameters
    ----------
    database : an opened database, so that a start that cannot succeed fails before it listens; opened here if left out.
    """

    @contextlib.asynccontextmanager
    async def lifespan(app: FastAPI) -> AsyncIterator[None]:
        opened = database
        if opened is None:
            opened = await run_in_threadpool(Database, database_place(settings))
        hub = Hub(settings, opened, asyncio.get_running_loop())
        app.state.hub = hub
        password = await run_in_threadpool(hub.first_start)
        if password is not None and not settings.demo_people:
            # Once, to whoever started it; it is not logged, and worth nothing after the first sign-in.
            print(f"First start: sign in as admin with the one-time password {password}", flush=True)
        await run_in_threadpool(hub.judge.load)
        ticking = asyncio.create_task(_tick(hub))
        finishing = asyncio.create_task(_finish_days(hub))
        usual = asyncio.create_task(_keep_usual(hub))
        warming = asyncio.create_task(_warm_readers(hub))
        _log.info("hub ready", data=str(settings.data))
        try:
            yield
        finally:
            warming.cancel()
            ticking.cancel()
            finishing.cancel()
            usual.cancel()
            hub.is_closing = True
            hub.bus.close()
            await run_in_threadpool(hub.close)
            _log.info("hub stopped")

    app = FastAPI(
        title="Kuppel",
        version=__version__,
        description=_DESCRIPTION,
        lifespan=lifespan,
        openapi_url=None,
        docs_url=None,
        redoc_url=None,
    )
    app.openapi = partial(_describe, app)  # type: ignore[method-assign]
    add_handlers(app)
    api = APIRouter(prefix="/api", responses=responses(401, 403))
    for module in (
        health, session, people, tokens, record, agents, vantage_points, targets, probes, plans, now, matrix, ribbon,
        streams, query, changes, store, export, live, groups, coverage, trials,
        saved, overview, map_layer, courses,
    ):  # fmt: skip
        api.include_router(module.router)

    @api.get("/openapi.json", summary="Describe this interface", dependencies=[may(Access.SEE)], include_in_schema=False)
    def openapi() -> dict[str, Any]:
        return app.openapi()

    app.include_router(api)
    _refuse_undeclared(app)
    if settings.web is not None:
        app.mount("/", WebApplication(settings.web), name="web")
    app.add_middleware(BodyBound)
    app.add_middleware(Unforeseen)
    app.add_middleware(GZipMiddleware, minimum_size=1000)
    # A page of another site must not reach the hub through a name of its own that points here.
    app.add_middleware(TrustedHostMiddleware, allowed_hosts=[*_LOOPBACK_NAMES, *settings.names])
    app.add_middleware(SecurityHeaders, is_behind_tls=settings.is_behind_tls)
    return app


def _refuse_undeclared(app: FastAPI) -> None:
    """No route may be open because somebody forgot to say who may call it."""
    forgotten = [one.path for one in declarations(app) if one.access is None]
    if forgotten:
        raise RuntimeError(f"These routes do not declare who may call them: {', '.join(forgotten)}")


def _describe(app: FastAPI) -> dict[str, Any]:
    """The API's description, with the shapes that FastAPI does not meet itself: the batch's, and the problem's."""
    if app.openapi_schema is None:
        description = get_openapi(title=app.title, version=app.version, description=app.description, routes=app.routes)
        _, shapes = models_json_schema(
            [(Batch, "validation"), (Problem, "serialization")], ref_template="#/components/schemas/{model}"
        )
        schemas = description["components"]["schemas"]
        schemas |= shapes["$defs"]
        # The framework's own error shape, which the handlers turn into problems.
        for name in ("HTTPValidationError", "ValidationError"):
            schemas.pop(name, None)
        for methods in description["paths"].values():
            for route in methods.values():
                if "application/json" in route["responses"].get("422", {}).get("content", {}):
                    route["responses"]["422"] = responses(422)[422]
        app.openapi_schema = description
    return app.openapi_schema


async def _finish_days(hub: Hub) -> None:
    """Turn days that are over into blocks, in the background."""
    while True:
        await asyncio.sleep(_FINISH_EVERY_S)
        try:
            finished = await run_in_threadpool(hub.compaction.run, now_us(), lambda: not hub.is_closing)
        except Exception as error:  # a full disk now must not stop it for good
            _log.error("days not finished", reason=f"{type(error).__name__}: {error}")
        else:
            if finished:
                await run_in_threadpool(hub.compaction.retire, now_us(), hub.settings.keep)
                _log.info("days finished", days=finished)


async def _warm_readers(hub: Hub) -> None:
    """After the hub is ready: their start would take the processors from its own."""
    await asyncio.sleep(_WARM_AFTER_S)
    await run_in_threadpool(hub.readers.warm_up)


async def _keep_usual(hub: Hub) -> None:
    """Find what is usual at the start and anew when a day is over, in the background."""
    await asyncio.sleep(_USUAL_AFTER_S)
    while True:
        try:
            await run_in_threadpool(hub.usual.run, now_us(), lambda: not hub.is_closing)
        except Exception as error:  # a reader that is busy now must not stop it for good
            _log.error("what is usual was not found", reason=f"{type(error).__name__}: {error}")
        await asyncio.sleep(_USUAL_EVERY_S)


async def _tick(hub: Hub) -> None:
    while True:
        await asyncio.sleep(_TICK_S)
        try:
            await run_in_threadpool(hub.judge.tick, now_us())
        except Exception as error:  # a store that is busy or full now must not stop the clock for good
            _log.error("states not kept", reason=f"{type(error).__name__}: {error}")

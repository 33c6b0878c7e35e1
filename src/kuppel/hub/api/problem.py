"""Errors as RFC 9457 problems: what is wrong, in which field, with which value, and what to do."""

from typing import Any

from fastapi import FastAPI, Request
from fastapi.exceptions import RequestValidationError
from fastapi.responses import JSONResponse
from pydantic import BaseModel, Field
from starlette.exceptions import HTTPException

from kuppel.core.error import SettingsError
from kuppel.hub.engine.reception import BatchTooLarge
from kuppel.hub.readers import ReadersBusy
from kuppel.store.inventory import NotFound
from kuppel.store.writer import StoreBusy, StoreFull


class Problem(BaseModel):
    """An error, RFC 9457, with what the person needs to mend it."""

    type: str = Field(default="about:blank", description="What kind of problem; about:blank when the status says it all.")
    title: str = Field(description="What is wrong, in a sentence.")
    status: int
    field: str | None = Field(default=None, description="The field that cannot be used.")
    value: str | None = Field(default=None, description="Its value as it was received.")
    remedy: str | None = Field(default=None, description="What to do.")

    model_config = {
        "json_schema_extra": {
            "examples": [
                {
                    "type": "about:blank",
                    "title": "interval_s is '0'; it must be at least 1.",
                    "status": 422,
                    "field": "interval_s",
                    "value": "0",
                    "remedy": "Let interval_s be at least 1.",
                }
            ]
        }
    }


class Refusal(Exception):
    """A caller who may not, or an act that cannot be: told as a problem of that status."""

    def __init__(
        self,
        status: int,
        title: str,
        *,
        remedy: str,
        type: str = "about:blank",
        field: str | None = None,
        headers: dict[str, str] | None = None,
    ) -> None:
        self.status = status
        self.title = title
        self.remedy = remedy
        self.type = type
        self.field = field
        self.headers = headers
        super().__init__(title)


class ProblemResponse(JSONResponse):
    media_type = "application/problem+json"


def problem(status: int, title: str, *, headers: dict[str, str] | None = None, **fields: str | None) -> ProblemResponse:
    content = Problem(title=title, status=status, **fields).model_dump(exclude_none=True)
    return ProblemResponse(content, status, headers)


def responses(*statuses: int) -> dict[int | str, dict[str, Any]]:
    """The typed errors of a route, for the API's description."""
    titles = {
        401: "Nobody is recognised",
        403: "Not allowed",
        404: "No such thing",
        409: "It is there already",
        413: "Too large",
        422: "A value cannot be used",
        429: "The store has no time, or the caller must wait",
        507: "The disk is full",
    }
    content = {"application/problem+json": {"schema": {"$ref": "#/components/schemas/Problem"}}}
    return {status: {"description": titles[status], "content": content} for status in statuses}


def add_handlers(app: FastAPI) -> None:
    """Every error that a route may raise becomes a problem; what nobody foresaw is `hub.protection.Unforeseen`."""

    @app.exception_handler(SettingsError)
    async def settings_error(_: Request, error: SettingsError) -> ProblemResponse:
        remedy = f"Let {error.field} {error.must}."
        return problem(422, f"{error}.", field=error.field, value=error.value, remedy=remedy)

    @app.exception_handler(Refusal)
    async def refused(_: Request, error: Refusal) -> ProblemResponse:
        told = {"type": error.type, "field": error.field, "remedy": error.remedy}
        return problem(error.status, error.title, headers=error.headers, **told)

    @app.exception_handler(RequestValidationError)
    async def validation_error(_: Request, error: RequestValidationError) -> ProblemResponse:
        first = error.errors()[0]
        if first["type"] == "json_invalid":
            told = f"The body is no JSON: {first['ctx']['error']} at character {first['loc'][-1]}."
            return problem(422, told, field="body", remedy="Send JSON (RFC 8259).")
        field = ".".join(str(part) for part in first["loc"] if part not in ("body", "query", "path")) or "body"
        value = str(first.get("input"))[:200]
        message = str(first["msg"]).removeprefix("Value error, ").lower()
        return problem(
            422, f"{field} cannot be used: {message}.", field=field, value=value, remedy=f"Mend {field}: {message}."
        )

    @app.exception_handler(NotFound)
    async def not_found(_: Request, error: NotFound) -> ProblemResponse:
        return problem(404, f"There is no {error}.", remedy="List what there is; it may have been removed.")

    @app.exception_handler(BatchTooLarge)
    async def too_large(_: Request, error: BatchTooLarge) -> ProblemResponse:
        return problem(413, str(error), field="results", remedy="Send fewer results at a time.")

    @app.exception_handler(StoreBusy)
    async def busy(_: Request, _error: StoreBusy) -> ProblemResponse:
        remedy = "Keep what you have and send it again."
        return problem(429, "The store has no time just now.", headers={"Retry-After": "2"}, remedy=remedy)

    @app.exception_handler(ReadersBusy)
    async def readers_busy(_: Request, _error: ReadersBusy) -> ProblemResponse:
        remedy = "Ask again in a moment, or for a shorter window."
        return problem(503, "No reader of the store answered within a minute.", headers={"Retry-After": "5"}, remedy=remedy)

    @app.exception_handler(StoreFull)
    async def full(_: Request, error: StoreFull) -> ProblemResponse:
        remedy = "Make room on the hub's disk; nothing was stored, so send it again then."
        return problem(507, f"The hub cannot store: {error}.", headers={"Retry-After": "10"}, remedy=remedy)

    @app.exception_handler(HTTPException)
    async def http_error(_: Request, error: HTTPException) -> ProblemResponse:
        return problem(error.status_code, str(error.detail), headers=dict(error.headers or {}))

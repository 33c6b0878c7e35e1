"""Steps: several HTTP exchanges one after another, each with what the ones before it yielded, and what is expected of it.

`${name}` in a URL, header or body stands for a variable: a secret, or what an earlier step took from its answer by JSONPath
(RFC 9535), by a regular expression, or from a header.
"""

from dataclasses import dataclass, field
from http.cookiejar import CookieJar
from typing import Annotated, Any, Literal
from urllib.parse import urlsplit

import jsonpath_rfc9535
import orjson
import regex
from pydantic import BaseModel, ConfigDict, Field, SecretStr, field_validator, model_validator

from kuppel.core.reason import Reason
from kuppel.core.result import Observation
from kuppel.probes.certificate import told_of_chain
from kuppel.probes.kind import Kind, Settings, TimeoutMs
from kuppel.probes.net import Binding, Exchange, Net, Request
from kuppel.probes.redirects import BrokenOff, Following, covers, header, headers_are_lines, web_address

MOST_STEPS = 12
_VARIABLE = regex.compile(r"\$\{([A-Za-z][A-Za-z0-9_]*)\}")
_Name = Annotated[str, Field(pattern=r"^[A-Za-z][A-Za-z0-9_]*$", max_length=40)]
_StatusRange = Annotated[str, Field(pattern=r"^[1-5]\d\d(-[1-5]\d\d)?$")]
_SECRET_HEADERS = frozenset({"authorization", "proxy-authorization", "cookie", "x-api-key"})
# Expressions are matched against so much of an answer at most.
_SEARCHED = 256 * 1024
# Some expressions take for ever on some texts.
_SEARCH_S = 0.3
From = Literal["jsonpath", "regex", "header"]


class _Part(BaseModel):
    model_config = ConfigDict(extra="forbid", frozen=True)


def _checked_expression(kind: From, expression: str) -> str:
    if kind == "jsonpath":
        try:
            jsonpath_rfc9535.compile(expression)
        except jsonpath_rfc9535.JSONPathError as error:
            raise ValueError(f"{expression!r} is no JSONPath (RFC 9535): {error}") from None
    elif kind == "regex":
        try:
            regex.compile(expression)
        except regex.error as error:
            raise ValueError(f"{expression!r} is no regular expression: {error}") from None
    return expression


class Take(_Part):
    """A variable to take from an answer."""

    name: _Name = Field(description="The variable's name.")
    source: From = Field(alias="from", default="jsonpath", description="Where to look: in JSON, in the text, in a header.")
    expression: str = Field(
        min_length=1, max_length=300, description="JSONPath, expression (its first group counts) or header name."
    )
    model_config = ConfigDict(extra="forbid", frozen=True, populate_by_name=True, serialize_by_alias=True)

    @model_validator(mode="after")
    def _is_an_expression(self) -> "Take":
        _checked_expression(self.source, self.expression)
        return self


class Assertion(_Part):
    """What an answer must hold: something at that place, and, if `value` is given, that value."""

    source: From = Field(alias="from", default="jsonpath", description="Where to look.")
    expression: str = Field(min_length=1, max_length=300, description="JSONPath, expression or header name.")
    value: str | None = Field(default=None, max_length=500, description="What must be there; anything will do if left out.")
    model_config = ConfigDict(extra="forbid", frozen=True, populate_by_name=True, serialize_by_alias=True)

    @model_validator(mode="after")
    def _is_an_expression(self) -> "Assertion":
        _checked_expression(self.source, self.expression)
        return self


class Step(_Part):
    """One exchange of a transaction."""

    name: str = Field(min_length=1, max_length=60, description="What this step does, in a few words.")
    url: str = Field(max_length=2000, description="Where to, http:// or https://.")
    method: Literal["GET", "HEAD", "POST", "PUT", "PATCH", "DELETE", "OPTIONS"] = Field(
        default="GET", description="Request method."
    )
    headers: dict[str, str] = Field(default_factory=dict, max_length=30, description="Request headers.")
    body: str = Field(default="", max_length=65_536, description="Request body.")
    expect_status: list[_StatusRange] = Field(
        default=["200-399"], min_length=1, max_length=10, description="Statuses that are right, each one or a range."
    )
    expect: list[Assertion] = Field(default_factory=list, max_length=20, description="What the answer must hold.")
    take: list[Take] = Field(default_factory=list, max_length=20, description="Variables for the steps that follow.")

    @field_validator("url")
    @classmethod
    def _is_web_address(cls, url: str) -> str:
        return url if url.startswith("${") else web_address(url)

    @field_validator("headers")
    @classmethod
    def _keep_secrets(cls, headers: dict[str, str]) -> dict[str, str]:
        for name, value in headers.items():
            if name.lower() in _SECRET_HEADERS and not _VARIABLE.search(value):
                raise ValueError(f"what {name} says belongs among the secrets: write it as ${{name}} here")
        return headers_are_lines(headers)


class TransactionSettings(Settings):
    steps: list[Step] = Field(min_length=1, max_length=MOST_STEPS, description="What to do, one after another.")
    secrets: dict[_Name, SecretStr] = Field(
        default_factory=dict, max_length=20, description="Variables that are kept secret: passwords, keys."
    )
    redirects: int = Field(default=5, ge=0, le=20, description="How many redirects to follow in a step.")
    cookies: bool = Field(default=True, description="Keep cookies from step to step, as a browser does.")
    family: Literal["auto", "ipv4", "ipv6"] = Field(default="auto", description="IP family to use.")
    proxy: str | None = Field(default=None, max_length=500, description="Proxy to go through, http://host:port.")
    verify: bool = Field(default=True, description="Whether certificates must be valid for their names.")
    authority: str | None = Field(
        default=None, max_length=65_536, description="Certificates (PEM) of an own authority to trust instead of the usual."
    )
    addresses: dict[str, str] = Field(
        default_factory=dict, max_length=20, description="IP addresses to use for names, instead of asking the resolver."
    )
    timeout_ms: TimeoutMs = 10_000

    @model_validator(mode="after")
    def _variables_are_there(self) -> "TransactionSettings":
        known = set(self.secrets)
        for number, step in enumerate(self.steps, 1):
            for text in (step.url, step.body, *step.headers.values()):
                for name in _VARIABLE.findall(text):
                    if name not in known:
                        raise ValueError(f"step {number} uses ${{{name}}}, which no step before it takes and no secret is")
            known |= {one.name for one in step.take}
        return self

    def secret_part(self) -> dict[str, Any]:
        secret: dict[str, Any] = {}
        if self.secrets:
            secret["secrets"] = {name: value.get_secret_value() for name, value in self.secrets.items()}
        if self.proxy and urlsplit(self.proxy).password:
            secret["proxy"] = self.proxy
        return secret


@dataclass(slots=True)
class _Running:
    """What a transaction has come to. Values of variables never leave it: they may be tokens."""

    settings: TransactionSettings
    variables: dict[str, str]
    times_ms: list[float] = field(default_factory=list)
    steps: list[dict[str, Any]] = field(default_factory=list)
    facts: dict[str, str] = field(default_factory=dict)
    octets: int = 0

    def filled(self, text: str) -> str:
        return str(_VARIABLE.sub(lambda found: self.variables[found[1]], text))

    def discreet(self, text: str) -> str:
        """A note without any secret in it."""
        for value in sorted(self.variables.values(), key=len, reverse=True):
            if len(value) >= 4:
                text = text.replace(value, "(kept secret)")
        return text


async def attempt(settings: TransactionSettings, net: Net, binding: Binding) -> Observation:
    """All steps, until one fails. Its time is that of the exchanges, without what the agent thinks between them."""
    running = _Running(settings, {name: value.get_secret_value() for name, value in settings.secrets.items()})
    cookies = CookieJar() if settings.cookies else None
    for number, step in enumerate(settings.steps, 1):
        following = Following(net, settings.redirects, cookies=cookies)
        told = {"name": step.name, "number": number}
        running.steps.append(told)
        try:
            exchange = await following.exchange(_request(settings, step, running, binding))
        except BrokenOff as broken:
            told |= {"timings_ms": following.total.quantities()}
            return _failed(running, broken.reason, number, step, broken.note)
        told |= {
            "status": exchange.status,
            "size": exchange.size,
            "timings_ms": following.total.quantities(),
            "address": exchange.remote,
        }
        running.octets += exchange.size
        running.times_ms.append(following.total.total_us / 1000)
        if number == 1:
            found, _ = told_of_chain(exchange.chain, net.clock.utc_us())
            running.facts |= found | {"address": exchange.remote, "http_version": exchange.version}
        wrong = _wrong(step, exchange, running)
        if wrong:
            return _failed(running, Reason.STEP_FAILED, number, step, wrong)
    quantities = {f"step_{number}": time_ms for number, time_ms in enumerate(running.times_ms, 1)}
    quantities |= {"total": sum(running.times_ms), "body_size": float(running.octets)}
    return Observation(None, "", quantities, running.facts, {"steps": running.steps})


def _request(settings: TransactionSettings, step: Step, running: _Running, binding: Binding) -> Request:
    url = running.filled(step.url)
    headers = {name: running.filled(value).replace("\r", "").replace("\n", "") for name, value in step.headers.items()}
    return Request(
        method=step.method,
        url=url,
        headers=tuple(headers.items()),
        body=running.filled(step.body).encode(),
        family=settings.family,
        proxy=settings.proxy,
        is_verified=settings.verify,
        authority=settings.authority,
        address=settings.addresses.get(urlsplit(url).hostname or ""),
        timeout_us=settings.timeout_ms * 1000,
        binding=binding,
    )


def _failed(running: _Running, reason: Reason, number: int, step: Step, note: str) -> Observation:
    # The times of a transaction that did not get to its end are detail, not samples.
    told = running.discreet(f"step {number}, {step.name}: {note}")
    running.steps[-1]["failed"] = running.discreet(note)
    return Observation(reason, told[:500], {}, running.facts, {"steps": running.steps})


def _wrong(step: Step, exchange: Exchange, running: _Running) -> str:
    """What is wrong with an answer, empty when nothing is; takes the step's variables on the way."""
    if not any(covers(one, exchange.status) for one in step.expect_status):
        return f"status {exchange.status}, expected {', '.join(step.expect_status)}"
    for one in step.expect:
        found = _found(one.source, one.expression, exchange)
        if found is None:
            return f"nothing at {one.expression}"
        if one.value is not None and found != one.value:
            return f"{one.expression} is {found[:80]!r}, expected {one.value!r}"
    for take in step.take:
        found = _found(take.source, take.expression, exchange)
        if found is None:
            return f"nothing to take at {take.expression}"
        running.variables[take.name] = found
    return ""


def _found(source: From, expression: str, exchange: Exchange) -> str | None:
    """What an expression finds in an answer, as text; of several values the first."""
    if source == "header":
        return header(exchange, expression)
    if source == "regex":
        text = exchange.body[:_SEARCHED].decode("utf-8", "replace")
        try:
            found = regex.search(expression, text, timeout=_SEARCH_S)
        except TimeoutError:
            return None
        return None if found is None else found[1 if found.re.groups else 0]
    try:
        nodes = jsonpath_rfc9535.find(expression, orjson.loads(exchange.body))
    except (ValueError, RecursionError, jsonpath_rfc9535.JSONPathError):
        return None
    return _text(nodes[0].value) if len(nodes) else None


def _text(value: object) -> str:
    return value if isinstance(value, str) else orjson.dumps(value).decode()


_STEPS = tuple(f"step_{number}" for number in range(1, MOST_STEPS + 1))

KIND = Kind(
    name="transaction",
    label="steps",
    settings=TransactionSettings,
    attempt=attempt,
    main="total",
    quantities=("total", *_STEPS, "body_size"),
    phases=_STEPS,
    about=(
        "Goes through several HTTP steps as one person would: signs in, looks up, orders. Each step can take "
        "variables from its answer by JSONPath (RFC 9535), a regular expression or a header, for the steps "
        "after it, and says what the answer must hold. Its time is that of all exchanges together. Passwords "
        "are variables that are kept secret."
    ),
    octets=lambda settings: 30_000 * len(settings.steps),
    interval_s=300,
    reasons=(
        Reason.STEP_FAILED, Reason.NAME_NOT_FOUND, Reason.NAME_TIMEOUT, Reason.NO_ROUTE, Reason.CONNECTION_REFUSED,
        Reason.CONNECT_TIMEOUT, Reason.CONNECTION_RESET, Reason.TLS_FAILED, Reason.CERTIFICATE_INVALID,
        Reason.PROXY_FAILED, Reason.TIMEOUT, Reason.TOO_MANY_REDIRECTS, Reason.PROTOCOL_ERROR,
        Reason.NO_ADDRESS_OF_FAMILY, Reason.BINDING_UNUSABLE, Reason.AGENT_ERROR,
    ),
)  # fmt: skip

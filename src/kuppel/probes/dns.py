"""Names: one question to one resolver (RFC 1034, RFC 1035), by UDP and, when the answer was cut short, by TCP (RFC 7766).

Its time is that of the exchange with the resolver, a repetition by TCP included. The answers are a fact of the stream: when
they change, that is a change of address.
"""

import secrets
from typing import Literal

import dns.exception
import dns.flags
import dns.message
import dns.rcode
import dns.rdatatype
from pydantic import Field, field_validator

from kuppel.core.reason import Reason
from kuppel.core.result import Observation
from kuppel.probes.kind import Host, Kind, Settings, TimeoutMs
from kuppel.probes.net import Binding, NameQuery, NameReply, Net, NetError

_UDP_OCTETS = 1232  # what passes everywhere without fragments (DNS flag day 2020; common practice)
Type = Literal["A", "AAAA", "CNAME", "MX", "NS", "TXT", "SRV", "SOA", "PTR", "CAA"]


class DnsSettings(Settings):
    resolver: Host
    port: int = Field(default=53, ge=1, le=65_535, description="Port of the resolver.")
    name: str = Field(min_length=1, max_length=253, description="The name to ask for.")
    type: Type = Field(default="A", description="The type of record to ask for.")
    transport: Literal["auto", "udp", "tcp"] = Field(
        default="auto", description="auto asks by UDP, and again by TCP when the answer was cut short."
    )
    is_recursive: bool = Field(default=True, description="Ask the resolver to find the answer, not only to tell its own.")
    is_signed: bool = Field(
        default=False, description="Ask for signatures, and want the resolver's word that it checked them (AD, RFC 4035)."
    )
    expect_code: str = Field(default="NOERROR", description="The response code that is right, such as NOERROR or NXDOMAIN.")
    expect_answers: list[str] = Field(
        default_factory=list, max_length=50, description="The answers that are right, in any order; any will do if empty."
    )
    timeout_ms: TimeoutMs = 2_000

    @field_validator("name")
    @classmethod
    def _is_a_name(cls, name: str) -> str:
        try:
            dns.message.make_query(name, "A")
        except (dns.exception.DNSException, UnicodeError) as error:
            raise ValueError(f"it must be a name of labels of at most 63 octets: {error}") from None
        return name

    @field_validator("expect_code")
    @classmethod
    def _is_a_code(cls, code: str) -> str:
        try:
            dns.rcode.from_text(code)
        except (dns.exception.DNSException, ValueError):
            raise ValueError("it must be a response code, such as NOERROR, NXDOMAIN, SERVFAIL or REFUSED") from None
        return code.upper()


async def attempt(settings: DnsSettings, net: Net, binding: Binding) -> Observation:
    """One question. It fails without an answer in time, on another response code, and on other answers than expected."""
    timeout_us = settings.timeout_ms * 1000
    resolution = await net.resolve(settings.resolver, "auto", timeout_us)
    question = dns.message.make_query(
        settings.name, settings.type, use_edns=0, want_dnssec=settings.is_signed, payload=_UDP_OCTETS
    )
    question.id = secrets.randbits(16)
    if not settings.is_recursive:
        question.flags &= ~dns.flags.RD
    is_tcp = settings.transport == "tcp"
    query = NameQuery(resolution.addresses[0], settings.port, question.to_wire(), is_tcp, timeout_us, binding)
    reply = await net.query(query)
    answer = _read(reply.message, question)
    elapsed_us = reply.elapsed_us
    if answer.flags & dns.flags.TC and settings.transport == "auto":
        left_us = max(1000, timeout_us - elapsed_us)
        again = NameQuery(query.address, query.port, query.message, True, left_us, binding)
        reply = await net.query(again)
        answer = _read(reply.message, question)
        elapsed_us, is_tcp = elapsed_us + reply.elapsed_us, True
    return _observe(settings, answer, elapsed_us, is_tcp=is_tcp, reply=reply, resolver=query.address)


def _read(octets: bytes, question: dns.message.Message) -> dns.message.Message:
    try:
        # What lies behind the message, and what one record has wrong, is not for us to mend.
        answer = dns.message.from_wire(octets, ignore_trailing=True)
    except (dns.exception.DNSException, ValueError, IndexError, UnicodeError) as error:
        note = f"the answer cannot be read: {type(error).__name__}"
        raise NetError(Reason.PROTOCOL_ERROR, note) from None
    if not question.is_response(answer):
        raise NetError(Reason.PROTOCOL_ERROR, "the answer is to another question")
    return answer


def _observe(
    settings: DnsSettings,
    answer: dns.message.Message,
    elapsed_us: int,
    *,
    is_tcp: bool,
    reply: NameReply,
    resolver: str,
) -> Observation:
    wanted = dns.rdatatype.from_text(settings.type)
    records = [
        (_alike(one.to_text(), settings.type), found.ttl)
        for found in answer.answer
        if found.rdtype == wanted
        for one in found
    ]
    answers = sorted({text for text, _ in records})
    code = dns.rcode.to_text(answer.rcode())
    is_checked = bool(answer.flags & dns.flags.AD)
    quantities = {"lookup": elapsed_us / 1000, "answers": float(len(answers))}
    if records:
        quantities["ttl"] = float(min(ttl for _, ttl in records))
    facts = {"resolver": resolver, "answers": ", ".join(answers) if answers else code}
    if settings.is_signed:
        facts["signatures"] = "checked by the resolver" if is_checked else "not checked"
    detail = {"code": code, "answers": answers[:50], "transport": "tcp" if is_tcp else "udp", "local": reply.local}
    reason, note = None, ""
    if code != settings.expect_code:
        reason, note = Reason.RESPONSE_CODE, f"{code}, expected {settings.expect_code}"
    elif missing := _unlike({_alike(one, settings.type) for one in settings.expect_answers}, answers):
        reason, note = Reason.UNEXPECTED_ANSWER, missing
    elif settings.is_signed and not is_checked:
        reason, note = Reason.UNEXPECTED_ANSWER, "the resolver does not say that it checked the signatures"
    # An answer that is not the right one took its time, too; but that is not the time of the name.
    return Observation(reason, note, {} if reason else quantities, facts, detail)


def _alike(text: str, kind: Type) -> str:
    """Names in one form: case says nothing in them (RFC 4343), nor does the root at their end; in texts it does."""
    return text if kind in ("TXT", "CAA") else text.lower().removesuffix(".")


def _unlike(expected: set[str], answers: list[str]) -> str:
    if not expected or expected == set(answers):
        return ""
    return f"{', '.join(answers) or 'no answer'}; expected {', '.join(sorted(expected))}"


KIND = Kind(
    name="dns",
    label="names",
    settings=DnsSettings,
    attempt=attempt,
    main="lookup",
    quantities=("lookup", "answers", "ttl"),
    about=(
        "Asks one resolver one question, by UDP and again by TCP when the answer was cut short, and times the "
        "answer. It fails on another response code or other answers than expected; when the answers change, "
        "that is noted as a change of address. Aim it at the resolver that people use, and at the one that "
        "owns the name, to tell their faults apart."
    ),
    octets=lambda _: 400,
    reasons=(
        Reason.NAME_TIMEOUT, Reason.RESPONSE_CODE, Reason.UNEXPECTED_ANSWER, Reason.CONNECTION_REFUSED,
        Reason.CONNECTION_RESET, Reason.NO_ROUTE, Reason.PROTOCOL_ERROR, Reason.NAME_NOT_FOUND, Reason.NO_ADDRESS_OF_FAMILY,
        Reason.BINDING_UNUSABLE, Reason.AGENT_ERROR,
    ),
)  # fmt: skip

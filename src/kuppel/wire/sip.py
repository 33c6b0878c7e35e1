"""SIP (RFC 3261), as much of it as setting up a call and ending it takes: requests out, responses in."""

import re
import secrets
from dataclasses import dataclass, field

PORT = 5060
_URI = re.compile(r"^sip:(?:(?P<user>[^@;?\s<>\"]+)@)?(?P<host>\[[0-9A-Fa-f:.]+\]|[^:;?\s<>\"@]+)(?::(?P<port>\d{1,5}))?$")
_MOST_OCTETS = 65_535


class NotSip(ValueError):
    """Octets that are no SIP message; the message says why."""


@dataclass(frozen=True, slots=True)
class Uri:
    """A SIP address without parameters (RFC 3261 §19.1)."""

    user: str
    host: str
    port: int

    @classmethod
    def parse(cls, text: str) -> "Uri":
        """
        >>> Uri.parse("sip:bridge@calls.skerry.example")
        Uri(user='bridge', host='calls.skerry.example', port=5060)

        Raises
        ------
        NotSip
        """
        found = _URI.match(text)
        port = int(found["port"] or PORT) if found else 0
        if not found or not 0 < port < 65_536:
            raise NotSip(f"{text!r} is no SIP address, such as sip:bridge@192.0.2.7:5060")
        return cls(found["user"] or "", found["host"].strip("[]"), port)


@dataclass(frozen=True, slots=True)
class Response:
    """A status line with its headers, names in lower case; the first of each."""

    status: int
    phrase: str
    headers: dict[str, str] = field(default_factory=dict)

    @property
    def to_tag(self) -> str:
        """What the far side calls its end of the dialogue."""
        found = re.search(r";\s*tag=([^;\s>]+)", self.headers.get("to", ""))
        return found[1] if found else ""


@dataclass(frozen=True, slots=True)
class Dialogue:
    """What stays the same in the requests of one call."""

    target: str
    local: str
    port: int
    call_id: str = field(default_factory=lambda: secrets.token_hex(12))
    tag: str = field(default_factory=lambda: secrets.token_hex(6))

    def request(self, method: str, number: int, branch: str, *, to_tag: str = "", body: str = "") -> bytes:
        """A request (RFC 3261 §8.1.1); `branch` identifies its transaction and begins with the cookie of §8.1.1.7."""
        host = f"[{self.local}]" if ":" in self.local else self.local
        lines = [
            f"{method} {self.target} SIP/2.0",
            f"Via: SIP/2.0/UDP {host}:{self.port};branch={branch};rport",
            "Max-Forwards: 70",
            f"From: <sip:kuppel@{host}>;tag={self.tag}",
            f"To: <{self.target}>" + (f";tag={to_tag}" if to_tag else ""),
            f"Call-ID: {self.call_id}",
            f"CSeq: {number} {method}",
            f"Contact: <sip:kuppel@{host}:{self.port}>",
            "User-Agent: kuppel-agent",
        ]
        if body:
            lines.append("Content-Type: application/sdp")
        lines += [f"Content-Length: {len(body.encode())}", "", body]
        return "\r\n".join(lines).encode()


def new_branch() -> str:
    return "z9hG4bK" + secrets.token_hex(8)


def offer(local: str, port: int, payload_type: int, clock_hz: int, name: str) -> str:
    """An offer of one audio stream (SDP, RFC 8866)."""
    family = "IP6" if ":" in local else "IP4"
    return "\r\n".join(
        [
            "v=0",
            f"o=kuppel 0 0 IN {family} {local}",
            "s=-",
            f"c=IN {family} {local}",
            "t=0 0",
            f"m=audio {port} RTP/AVP {payload_type}",
            f"a=rtpmap:{payload_type} {name}/{clock_hz}",
            "",
        ]
    )


def decode_response(octets: bytes) -> Response:
    """
    Raises
    ------
    NotSip
    """
    if len(octets) > _MOST_OCTETS:
        raise NotSip("it is too long")
    head = octets.partition(b"\r\n\r\n")[0].decode("utf-8", "replace")
    first, *lines = re.sub(r"\r\n[ \t]+", " ", head).split("\r\n")
    found = re.match(r"^SIP/2\.0 ([1-6]\d\d) ?(.*)$", first)
    if not found:
        raise NotSip("its first line is no status line")
    headers: dict[str, str] = {}
    for line in lines:
        name, colon, value = line.partition(":")
        if colon:
            headers.setdefault(_LONG.get(name.strip().lower(), name.strip().lower()), value.strip())
    return Response(int(found[1]), found[2][:200], headers)


# Short forms, RFC 3261 §7.3.3.
_LONG = {"t": "to", "f": "from", "i": "call-id", "v": "via", "m": "contact", "l": "content-length"}

"""A call over SIP by UDP: INVITE, what comes back, ACK and BYE; or only OPTIONS (RFC 3261 §13, §15, §11)."""

import select
import socket
import time
from collections.abc import Callable

from kuppel.core.reason import Reason
from kuppel.probes.kernel.sockets import bind, net_error
from kuppel.probes.net import Binding, Call, CallOutcome, NetError
from kuppel.wire.sip import Dialogue, NotSip, Response, decode_response, new_branch, offer

# RFC 3261 §17: a request is repeated after T1, then after twice as long, up to T2.
_T1_S, _T2_S = 0.5, 4.0
_RINGING = 180


def set_up(call: Call, binding: Binding) -> CallOutcome:
    """Set the call up and end it; blocks for at most its timeout, plus half a second to end it.

    Raises
    ------
    NetError
        when no final answer comes in time.
    """
    with socket.socket(socket.AF_INET6 if ":" in call.address else socket.AF_INET, socket.SOCK_DGRAM) as sock:
        bind(sock, binding)
        try:
            sock.connect((call.address, call.port))
        except OSError as error:
            raise net_error(error, call.address) from None
        local, port = sock.getsockname()[:2]
        dialogue = Dialogue(call.uri, str(local), int(port))
        body = offer(str(local), int(port), call.payload_type, call.clock_hz, call.codec) if call.method == "INVITE" else ""
        branch = new_branch()
        request = dialogue.request(call.method, 1, branch, body=body)
        begun = time.monotonic_ns()
        seen: list[tuple[int, Response]] = []

        def is_final(answer: Response) -> bool:
            seen.append((time.monotonic_ns(), answer))
            return answer.status >= 200

        deadline = begun + call.timeout_us * 1000
        if not _exchange(sock, request, dialogue.call_id, deadline, is_final):
            if call.method == "INVITE" and seen:
                sock.send(dialogue.request("CANCEL", 1, branch))  # it rings somewhere: nobody must pick up now
            what = "only provisional answers" if seen else "no answer"
            raise NetError(Reason.TIMEOUT, f"{what} to {call.method} within {call.timeout_us / 1e6:.3g} s")
        final_ns, final = seen[-1]
        if call.method == "INVITE":
            _end(sock, dialogue, final, branch)
        ringing = next((at for at, one in seen if one.status == _RINGING), None)
        return CallOutcome(
            final.status,
            final.phrase,
            (seen[0][0] - begun) // 1000,
            None if ringing is None else (ringing - begun) // 1000,
            (final_ns - begun) // 1000,
        )


def _end(sock: socket.socket, dialogue: Dialogue, final: Response, branch: str) -> None:
    """Acknowledge the final answer, and hang up when it was taken."""
    is_taken = final.status < 300
    ack = dialogue.request("ACK", 1, new_branch() if is_taken else branch, to_tag=final.to_tag)
    try:
        sock.send(ack)
        if is_taken:
            bye = dialogue.request("BYE", 2, new_branch(), to_tag=final.to_tag)
            deadline = time.monotonic_ns() + 500_000_000
            _exchange(sock, bye, dialogue.call_id, deadline, lambda one: "BYE" in one.headers.get("cseq", ""))
    except OSError:
        return  # the call was measured; that it could not be ended is not its fault


def _exchange(
    sock: socket.socket, request: bytes, call_id: str, deadline_ns: int, is_done: Callable[[Response], bool]
) -> bool:
    """Send a request, again and again until something comes, and hand over every response to it; True when done."""
    poll = select.poll()
    poll.register(sock, select.POLLIN)
    wait_s, has_answer = _T1_S, False
    again_ns = 0
    while (now_ns := time.monotonic_ns()) < deadline_ns:
        try:
            if now_ns >= again_ns and not has_answer:
                sock.send(request)
                again_ns = now_ns + round(wait_s * 1e9)
                wait_s = min(_T2_S, 2 * wait_s)
            until_ns = deadline_ns if has_answer else min(again_ns, deadline_ns)
            if not poll.poll(max(0, (until_ns - now_ns) / 1e6)):
                continue
            response = decode_response(sock.recv(65_535))
        except NotSip:
            continue
        except OSError as error:
            raise net_error(error, "SIP") from None
        if response.headers.get("call-id") != call_id:
            continue
        has_answer = True
        if is_done(response):
            return True
    return False

"""Why a run failed: one closed list, so that failures can be counted and compared across probe kinds."""

from enum import StrEnum


class Reason(StrEnum):
    """The reason of a failed attempt or run. A new one is added at the end, since finished days keep its number
    (`store.days`), and in `SENTENCES`; nowhere else."""

    NAME_NOT_FOUND = "name_not_found"
    NAME_TIMEOUT = "name_timeout"
    NO_ADDRESS_OF_FAMILY = "no_address_of_family"
    NO_ROUTE = "no_route"
    NO_REPLY = "no_reply"
    CONNECTION_REFUSED = "connection_refused"
    CONNECTION_RESET = "connection_reset"
    CONNECT_TIMEOUT = "connect_timeout"
    TLS_FAILED = "tls_failed"
    CERTIFICATE_INVALID = "certificate_invalid"
    PROXY_FAILED = "proxy_failed"
    TIMEOUT = "timeout"
    UNEXPECTED_STATUS = "unexpected_status"
    UNEXPECTED_TEXT = "unexpected_text"
    TOO_MANY_REDIRECTS = "too_many_redirects"
    PROTOCOL_ERROR = "protocol_error"
    NOT_PERMITTED = "not_permitted"
    BINDING_UNUSABLE = "binding_unusable"
    AGENT_ERROR = "agent_error"
    RESPONSE_CODE = "response_code"
    UNEXPECTED_ANSWER = "unexpected_answer"
    NOT_REACHED = "not_reached"
    BUDGET_SPENT = "budget_spent"
    STEP_FAILED = "step_failed"
    NO_BROWSER = "no_browser"
    CALL_REFUSED = "call_refused"


SENTENCES: dict[Reason, str] = {
    Reason.NAME_NOT_FOUND: "the name has no address",
    Reason.NAME_TIMEOUT: "the resolver did not answer in time",
    Reason.NO_ADDRESS_OF_FAMILY: "the name has no address of the wanted IP family",
    Reason.NO_ROUTE: "no route to the address",
    Reason.NO_REPLY: "no packet was answered",
    Reason.CONNECTION_REFUSED: "the connection was refused",
    Reason.CONNECTION_RESET: "the connection was cut off",
    Reason.CONNECT_TIMEOUT: "no connection in time",
    Reason.TLS_FAILED: "no secure connection could be agreed",
    Reason.CERTIFICATE_INVALID: "the certificate was not accepted",
    Reason.PROXY_FAILED: "the proxy did not pass it on",
    Reason.TIMEOUT: "no complete answer in time",
    Reason.UNEXPECTED_STATUS: "the status was not the expected one",
    Reason.UNEXPECTED_TEXT: "the expected text was not in the answer",
    Reason.TOO_MANY_REDIRECTS: "it redirected too often",
    Reason.PROTOCOL_ERROR: "the answer did not follow the protocol",
    Reason.NOT_PERMITTED: "the agent may not send this kind of packet",
    Reason.BINDING_UNUSABLE: "the interface or source address is not there",
    Reason.AGENT_ERROR: "the agent itself failed",
    Reason.RESPONSE_CODE: "the response code was not the expected one",
    Reason.UNEXPECTED_ANSWER: "the answer was not the expected one",
    Reason.NOT_REACHED: "the path ends before the target",
    Reason.BUDGET_SPENT: "the day's budget of octets is spent",
    Reason.STEP_FAILED: "a step was not answered as expected",
    Reason.NO_BROWSER: "there is no browser on the agent's machine",
    Reason.CALL_REFUSED: "the call was not accepted",
}

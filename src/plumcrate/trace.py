"""What one request set off, told apart: its id stands in every line of the log, in problems and in webhooks.

W3C Trace Context, level 1: whoever asks may say which trace a request belongs to (``traceparent``); the id of
the trace is the request's id here.
"""

from __future__ import annotations

import re
import secrets

import structlog

_NAME = "request"
_TRACEPARENT = re.compile(
    r"(?!ff)[0-9a-f]{2}-(?!0{32})([0-9a-f]{32})-(?!0{16})[0-9a-f]{16}-[0-9a-f]{2}(?:-.*)?\Z"
)


def begin(traceparent: str | None) -> str:
    """The id of a request that begins: of the trace that it names, else a new one. What is logged from now on
    in the same context bears it."""
    named = _TRACEPARENT.match(traceparent or "")
    trace = secrets.token_hex(16) if named is None else named[1]
    structlog.contextvars.bind_contextvars(**{_NAME: trace})
    return trace


def current() -> str | None:
    """The id of the request that is answered; None outside of any."""
    trace: str | None = structlog.contextvars.get_contextvars().get(_NAME)
    return trace


def traceparent(trace: str | None) -> str:
    """The header for what is asked of others on behalf of a request; None: on behalf of none."""
    return f"00-{trace or secrets.token_hex(16)}-{secrets.token_hex(8)}-01"

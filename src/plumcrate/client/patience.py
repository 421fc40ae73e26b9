"""How long a request that failed is sent again: RFC 9110, sections 9.2.2 (idempotent methods) and 10.2.3
(``Retry-After``). What makes something or starts work bears a key by which the service does it once
(draft-ietf-httpapi-idempotency-key-header)."""

from __future__ import annotations

import random
import time
import uuid
from dataclasses import replace
from typing import TypeVar

from .calls import Call
from .errors import ClientError, ProblemError, UnreachableError

#: The service has too much to do, or is between two processes: 502 and 504 come from a server in front of it.
_PASSING = frozenset({429, 502, 503, 504})
T = TypeVar("T")
_SHORTEST, _LONGEST = 0.1, 10.0


def once(call: Call[T]) -> Call[T]:
    """A call that may be sent again without being done again."""
    if call.method not in ("POST", "PATCH") or "Idempotency-Key" in (call.headers or {}):
        return call
    return replace(call, headers={**(call.headers or {}), "Idempotency-Key": uuid.uuid4().hex})


class Patience:
    """Of one request, for so many ``seconds`` from now."""

    def __init__(self, seconds: float) -> None:
        self._ends = time.monotonic() + seconds
        self._pause = _SHORTEST

    def pause(self, error: ClientError) -> float:
        """Seconds to wait before a call is sent again. Raises the error where that does harm, or no good."""
        wait = self._pause * random.uniform(0.5, 1.0)
        if isinstance(error, ProblemError) and error.retry_after is not None:
            wait = error.retry_after
        if not _may_be_sent_again(error) or time.monotonic() + wait > self._ends:
            raise error
        self._pause = min(_LONGEST, 2 * self._pause)
        return wait

    def pause_of_piece(self, error: ClientError) -> float:
        """As :meth:`pause`, of a piece of an upload: one that was cut off, or did not follow what had come,
        is sent anew from where the upload is by then."""
        if isinstance(error, ProblemError) and error.code in ("other-offset", "bad-body", "too-slow"):
            error = UnreachableError(str(error))
        return self.pause(error)


def _may_be_sent_again(error: ClientError) -> bool:
    if isinstance(error, ProblemError):
        return error.status in _PASSING or error.code == "request-under-way"
    return isinstance(error, UnreachableError)

"""How long a request that failed is sent again: RFC 9110, sections 9.2.2 (idempotent methods) and 10.2.3
(``Retry-After``)."""

from __future__ import annotations

import random
import time
from typing import Any

import httpx

from .calls import Call
from .errors import ClientError, ProblemError, UnreachableError

_IDEMPOTENT = frozenset({"GET", "PUT", "DELETE"})
#: The service has too much to do, or is between two processes: 502 and 504 come from a server in front of it.
_PASSING = frozenset({429, 502, 503, 504})
_SHORTEST, _LONGEST = 0.1, 10.0


class Patience:
    """Of one request, for so many ``seconds`` from now."""

    def __init__(self, seconds: float) -> None:
        self._ends = time.monotonic() + seconds
        self._pause = _SHORTEST

    def pause(self, call: Call[Any], error: ClientError) -> float:
        """Seconds to wait before a call is sent again. Raises the error where that does harm, or no good."""
        wait = self._pause * random.uniform(0.5, 1.0)
        if isinstance(error, ProblemError) and error.retry_after is not None:
            wait = error.retry_after
        if not _may_be_sent_again(call, error) or time.monotonic() + wait > self._ends:
            raise error
        self._pause = min(_LONGEST, 2 * self._pause)
        return wait


def _may_be_sent_again(call: Call[Any], error: ClientError) -> bool:
    if isinstance(error, UnreachableError):
        never_arrived = isinstance(error.__cause__, httpx.ConnectError | httpx.ConnectTimeout)
        return never_arrived or call.method in _IDEMPOTENT
    if isinstance(error, ProblemError) and error.status in _PASSING:
        return error.status == 429 or call.method in _IDEMPOTENT
    return False

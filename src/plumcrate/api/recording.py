"""What goes into the audit log of requests: every act, and every refusal to who came without right.

An act that has a transaction of its own is recorded in it, see :mod:`.transaction`; all else is recorded
here, before its answer is sent.
"""

from __future__ import annotations

import time

import anyio
import anyio.to_thread
import structlog
from fastapi import Request
from fastapi.routing import APIRoute
from sqlalchemy.exc import SQLAlchemyError
from sqlalchemy.orm import Session
from starlette.types import Message, Scope, Send

from plumcrate.contract.people import ActOutcome
from plumcrate.people import audit
from plumcrate.records.database import Database

from .acts import act_in, act_of
from .auth import address_of

log = structlog.get_logger()

#: So many refusals of strangers are recorded a minute; more are an attack of which the log has enough.
_STRANGERS_A_MINUTE = 60
_WITHOUT_RIGHT = (401, 403, 429)


def is_act(route: object, method: str) -> bool:
    """Whether an operation does something, or only tells."""
    if method in ("GET", "HEAD") or not isinstance(route, APIRoute):
        return False
    return not any(getattr(dependency.call, "reads", False) for dependency in route.dependant.dependencies)


def record_act(session: Session, request: Request) -> bool:
    """In the act's own transaction; whether it was one to be put on record."""
    if not is_act(request.scope.get("route"), request.method) or act_of(request).silent:
        return False
    _record(session, request, ActOutcome.DONE, "")
    return True


class Recorder:
    """Records what had no transaction of its own, and what was refused."""

    def __init__(self, database: Database) -> None:
        self._database = database
        self._threads = anyio.CapacityLimiter(4)
        self._minute, self._strangers = 0, 0

    def sending(self, scope: Scope, send: Send) -> Send:
        """``send``, with the record before the answer's beginning."""

        async def sent(message: Message) -> None:
            if message["type"] == "http.response.start" and self._worth(scope, message["status"]):
                await anyio.to_thread.run_sync(self._write, scope, message["status"], limiter=self._threads)
            await send(message)

        return sent

    def _worth(self, scope: Scope, status: int) -> bool:
        act = act_in(scope)
        if act.recorded or act.silent:
            return False
        if status in _WITHOUT_RIGHT:
            return act.actor is not None or (_tried(scope) and self._of_a_stranger())
        return is_act(scope.get("route"), scope["method"]) and act.actor is not None

    def _of_a_stranger(self) -> bool:
        minute = int(time.monotonic() // 60)
        if minute != self._minute:
            self._minute, self._strangers = minute, 0
        self._strangers += 1
        if self._strangers == _STRANGERS_A_MINUTE:
            log.warning("many strangers were refused; the rest of this minute is not put on record")
        return self._strangers <= _STRANGERS_A_MINUTE

    def _write(self, scope: Scope, status: int) -> None:
        request = Request(scope)
        outcome = (
            ActOutcome.DONE if status < 400 else ActOutcome.REFUSED if status < 500 else ActOutcome.FAILED
        )
        detail = act_of(request).problem if status >= 400 else ""
        try:
            with self._database.begin() as session:
                _record(session, request, outcome, detail)
        except SQLAlchemyError:
            log.error("an act was not put on record: the database does not answer", path=scope["path"])


def _tried(scope: Scope) -> bool:
    """Whether a stranger came with something that might have opened a door."""
    named = {name for name, _ in scope["headers"]}
    return bool({b"authorization", b"cookie"} & named) or scope["method"] == "POST"


def _record(session: Session, request: Request, outcome: ActOutcome, detail: str) -> None:
    route = request.scope.get("route")
    name = route.summary if isinstance(route, APIRoute) and route.summary else request.method
    act = act_of(request)
    audit.record(
        session,
        act.actor,
        name,
        target=f"{request.method} {request.url.path.removeprefix('/api/v1')}",
        library=act.library,
        outcome=outcome,
        address=address_of(request),
        detail=detail or act.detail,
        email=act.email,
    )

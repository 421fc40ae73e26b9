"""What every operation does beside its own work: it refuses what it would not read, is done again where
PostgreSQL undid it, is done once where its request says so, and says where to go on."""

from __future__ import annotations

import json
import re
from collections.abc import Callable, Coroutine, Iterator
from contextlib import AsyncExitStack
from inspect import signature
from typing import Any

from fastapi import APIRouter, Request, Response
from fastapi.dependencies.models import Dependant
from fastapi.routing import APIRoute

from plumcrate.contract.jobs import Job
from plumcrate.contract.runs import Run
from plumcrate.records.database import conflicted

from .acts import act_of
from .needs import need_of
from .once import HEADER, MOST_KEY, Replay
from .problems import CONFLICTS, RESPONSES, ApiError
from .transaction import works_in_transaction

Handler = Callable[[Request], Coroutine[Any, Any, Response]]
#: Where FastAPI keeps what ends with an operation: its database session among it.
_STACKS = ("fastapi_inner_astack", "fastapi_function_astack")
#: Where long work tells how far it is.
_STATUS = {Job: "jobs", Run: "runs"}
#: The cursor is the last that a page says.
_CURSOR = re.compile(rb'"cursor":"([\w-]+)"\}\Z')


_KEY = {
    "in": "header",
    "name": HEADER.title(),
    "required": False,
    "description": "Of the asker's own making. Sent again with the same key within a day, the request is not "
    "done again: the first answer comes, with `Idempotency-Replayed`.",
    "schema": {"type": "string", "minLength": 1, "maxLength": MOST_KEY, "pattern": "^[ -~]+$"},
}


class Operation(APIRoute):
    """One operation of the interface."""

    def __init__(self, path: str, endpoint: Callable[..., Any], **more: Any) -> None:
        if {"based", "if_match"} & signature(endpoint).parameters.keys():
            more["responses"] = {**(more.get("responses") or {}), **CONFLICTS}
        super().__init__(path, endpoint, **more)
        need = need_of(self)
        once = "POST" in (self.methods or ()) or (
            "PATCH" in (self.methods or ()) and works_in_transaction(self)
        )
        if once and need is not None and not need.reads:
            self.openapi_extra = {"parameters": [_KEY]}

    def get_route_handler(self) -> Handler:
        handler = super().get_route_handler()
        known = frozenset(_parameters(self.dependant))
        status = _STATUS.get(self.response_model)

        async def answered(request: Request) -> Response:
            answer = await handler(request)
            if status is not None and self.status_code == 202:
                answer.headers["Location"] = _status_at(request, status, answer)
            if "after" in known and (found := _CURSOR.search(getattr(answer, "body", b""))):
                following = request.url.include_query_params(after=found[1].decode())
                answer.headers["Link"] = f'<{following.path}?{following.query}>; rel="next"'
            return answer

        async def handled(request: Request) -> Response:
            _refuse_unknown(request, known)
            try:
                return await _retried(answered, request)
            except Replay as replay:
                act_of(request).silent = True
                return replay.answer

        return handled


def router_of(tag: str) -> APIRouter:
    """A router whose operations say which problems they may answer with."""
    return APIRouter(tags=[tag], route_class=Operation, responses=RESPONSES)


def _parameters(dependant: Dependant) -> Iterator[str]:
    """The names that an operation, and what it depends on, read of an address after its question mark."""
    yield from (field.alias for field in dependant.query_params)
    for below in dependant.dependencies:
        yield from _parameters(below)


def _refuse_unknown(request: Request, known: frozenset[str]) -> None:
    """A parameter that nobody reads would answer something else than was asked. Raises ApiError."""
    for name in request.query_params:
        if name not in known:
            takes = f"it takes {', '.join(sorted(known))}" if known else "it takes none"
            raise ApiError("invalid-request", f"this address has no parameter {name[:60]!r}: {takes}")


async def _retried(handler: Handler, request: Request) -> Response:
    """Done once more when PostgreSQL undid it because it met another one."""
    try:
        return await _by_itself(handler, request)
    except Exception as error:
        if not conflicted(error):
            raise
        return await _by_itself(handler, request)


async def _by_itself(handler: Handler, request: Request) -> Response:
    """One try, whose transaction ends with it: what was undone must not be open when the next one commits."""
    former = {name: request.scope[name] for name in _STACKS}
    try:
        async with AsyncExitStack() as inner, AsyncExitStack() as function:
            request.scope.update(zip(_STACKS, (inner, function), strict=True))
            answer = await handler(request)
            act_of(request).answer = answer  # to be kept in the transaction, which ends now
            return answer
    finally:
        request.scope.update(former)


def _status_at(request: Request, status: str, answer: Response) -> str:
    number = json.loads(bytes(answer.body))["id"]
    return f"{request.scope.get('root_path', '')}/api/v1/{status}/{number}"

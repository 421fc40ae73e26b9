"""Errors to machines: RFC 9457 problem details with the types of :mod:`.problem_types`."""

from __future__ import annotations

from typing import Any

import structlog
from fastapi import FastAPI, HTTPException, Request
from fastapi.exceptions import RequestValidationError
from fastapi.responses import JSONResponse
from psycopg import Error as PsycopgError
from sqlalchemy.exc import SQLAlchemyError
from starlette.exceptions import HTTPException as StarletteError

from plumcrate import trace
from plumcrate.api.acts import act_of
from plumcrate.api.problem_types import PAGES, TYPES, URN
from plumcrate.contract.common import Problem
from plumcrate.keeping.sealing import CannotUnseal
from plumcrate.records.database import conflicted, lost_connection, sqlstate
from plumcrate.refusal import Refusal
from plumcrate.storage.errors import StorageError

log = structlog.get_logger()

MEDIA_TYPE = "application/problem+json"
DATABASE_AWAY = "PostgreSQL does not answer; nothing was changed. Try again in a moment"

SECURITY_HEADERS = {
    "X-Content-Type-Options": "nosniff",
    "X-Frame-Options": "DENY",
    "Referrer-Policy": "same-origin",
    "Cross-Origin-Opener-Policy": "same-origin",
    "Cross-Origin-Resource-Policy": "same-origin",
    "Permissions-Policy": "camera=(), geolocation=(), microphone=()",
    # For answers that say nothing themselves: they are data, not pages.
    "Content-Security-Policy": "default-src 'none'; frame-ancestors 'none'",
}


def described(problems: dict[int, str]) -> dict[int | str, dict[str, Any]]:
    """Problems as the interface's description has them, by their status."""
    return {
        status: {
            "description": description,
            "content": {MEDIA_TYPE: {"schema": {"$ref": "#/components/schemas/Problem"}}},
        }
        for status, description in problems.items()
    }


#: What any operation may answer besides its own, for the interface's description.
RESPONSES = described(
    {
        400: "The request cannot be read.",
        401: "Nobody has signed in.",
        403: "The role, or where the request came from, does not allow it.",
        404: "There is no such thing.",
        408: "The request came too slowly.",
        409: "It does not fit what is under way.",
        413: "The body is too large.",
        422: "The request does not fit.",
        429: "Too much at a time.",
        503: "The database or the library's files cannot be reached, or there is too much to do.",
    }
)
#: And one that changes what somebody else may change too.
CONFLICTS = described(
    {412: "Somebody else changed it meanwhile.", 428: "Which version was changed must be said."}
)


class ApiError(HTTPException):
    """A problem to answer with. ``code`` is a key of :data:`~plumcrate.api.problem_types.TYPES`."""

    def __init__(self, code: str, detail: str, **more: object) -> None:
        super().__init__(TYPES[code].status, detail)
        self.code = code
        self.detail: str = detail
        self.more = more

    def __str__(self) -> str:
        return self.detail


#: Seconds, by status: what was refused for too much, and what is away for a moment.
_TRY_AGAIN_AFTER = {429: "5", 503: "2"}


def respond(code: str, detail: str, **more: object) -> JSONResponse:
    title, status = TYPES[code].title, TYPES[code].status
    said = {"type": f"{URN}{code}", "title": title, "status": status, "detail": detail}
    if (request := trace.current()) is not None:
        said["instance"] = f"urn:plumcrate:request:{request}"
    problem = Problem.model_validate({**said, **more})
    headers = {"Link": f'<{PAGES}/{code}>; rel="help"'}
    if status == 401:
        headers["WWW-Authenticate"] = "Bearer"
    if status in _TRY_AGAIN_AFTER:
        headers["Retry-After"] = _TRY_AGAIN_AFTER[status]
    if status in (408, 413):
        headers["Connection"] = "close"  # what is left of the body is not read
    return JSONResponse(problem.model_dump(), status, headers=headers, media_type=MEDIA_TYPE)


def install(app: FastAPI) -> None:
    """Answers every error of the service as a problem."""

    @app.exception_handler(ApiError)
    def _ours(request: Request, error: ApiError) -> JSONResponse:
        act_of(request).problem = error.code
        return respond(error.code, error.detail, **error.more)

    @app.exception_handler(Refusal)
    def _refusal(request: Request, error: Refusal) -> JSONResponse:
        act_of(request).problem = error.code
        return respond(error.code, str(error), **error.more)

    @app.exception_handler(StorageError)
    def _storage(_: Request, error: StorageError) -> JSONResponse:
        if error.code not in _STORAGE:
            log.error("files could not be read or written", reason=str(error), code=error.code)
        return respond(_STORAGE.get(error.code, "storage"), str(error), reason=error.code)

    @app.exception_handler(CannotUnseal)
    def _sealed(_: Request, error: CannotUnseal) -> JSONResponse:
        return respond("sealed", str(error))

    @app.exception_handler(RequestValidationError)
    def _invalid(_: Request, error: RequestValidationError) -> JSONResponse:
        places = [
            {"where": _plain(".".join(str(part) for part in fault["loc"])), "what": _plain(fault["msg"])}
            for fault in error.errors()[:20]
        ]
        detail = "; ".join(f"{place['where']}: {place['what']}" for place in places)
        return respond("invalid-request", detail, errors=places)

    @app.exception_handler(StarletteError)
    def _http(_: Request, error: StarletteError) -> JSONResponse:
        code = {404: "not-found", 405: "not-possible-here", 400: "bad-body"}.get(error.status_code)
        if code is not None:
            detail = {"not-found": "no page or resource has this address"}.get(code, str(error.detail))
            answer = respond(code, detail)
            answer.headers.update(error.headers or {})
            return answer
        problem = Problem(type="about:blank", title=str(error.detail), status=error.status_code)
        return JSONResponse(problem.model_dump(), error.status_code, error.headers, media_type=MEDIA_TYPE)

    for kind in (SQLAlchemyError, PsycopgError):
        app.add_exception_handler(kind, _database)

    @app.exception_handler(Exception)
    def _any(_: Request, error: Exception) -> JSONResponse:
        log.error("unexpected error", exc_info=error)
        answer = respond("internal", "the service's log says more; nothing was changed by this request")
        answer.headers.update(SECURITY_HEADERS)  # this answer is made outside the gate
        return answer


_STORAGE = {"name-taken": "name-taken", "bad-name": "invalid-request", "gone": "not-found"}


def _database(_: Request, error: Exception) -> JSONResponse:
    """What PostgreSQL refused, told from what it could not be asked."""
    state = sqlstate(error)
    if lost_connection(error):
        log.error("the database does not answer", reason=str(error).splitlines()[:1])
        return respond("database", DATABASE_AWAY)
    if conflicted(error) or state == "57014":
        return respond("busy", "the database has too much to do; nothing was changed. Try again in a moment")
    if state is not None and state.startswith("22"):
        return respond("invalid-request", "a value does not fit what is kept of it")
    if state is not None and state.startswith("23"):
        return respond("library-busy", "it changed meanwhile; nothing was done. Look again, then try again")
    log.error("the database refused a statement", exc_info=error)
    return respond("internal", "the service's log says more; nothing was changed by this request")


def _plain(text: str) -> str:
    """Bounded, and encodable whatever a request held."""
    return text.encode("utf-8", "replace").decode()[:500]

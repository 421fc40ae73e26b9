"""Errors to machines: RFC 9457 problem details with stable types. See docs/api.md for the list."""

from __future__ import annotations

import structlog
from fastapi import FastAPI, Request
from fastapi.exceptions import RequestValidationError
from fastapi.responses import JSONResponse
from sqlalchemy.exc import OperationalError
from starlette.exceptions import HTTPException

from plumcrate.contract import Problem
from plumcrate.storage.folder import StorageError
from plumcrate.work.runs import RunError

log = structlog.get_logger()

#: Every problem type, with its title and status.
PROBLEMS: dict[str, tuple[str, int]] = {
    "not-signed-in": ("You are not signed in", 401),
    "wrong-sign-in": ("The address or the password is wrong", 401),
    "too-many-attempts": ("Too many attempts to sign in", 429),
    "not-allowed": ("Your role does not allow this", 403),
    "foreign-origin": ("The request came from another site", 403),
    "not-found": ("There is no such thing", 404),
    "invalid-request": ("The request does not fit", 422),
    "folder-missing": ("The folder is not there", 422),
    "folder-unreadable": ("The folder cannot be read", 422),
    "folder-read-only": ("The folder cannot be written", 422),
    "library-overlaps": ("The folder belongs to another library", 409),
    "slug-taken": ("The short name is taken", 409),
    "library-treated": ("The library still holds what we made", 409),
    "survey-open": ("A survey is already under way", 409),
    "not-confirmed": ("The confirmation is missing", 422),
    "name-taken": ("The name is taken", 409),
    "not-a-picture": ("The file is not a picture", 422),
    "too-large": ("The file is too large", 413),
    "bad-signature": ("The signature does not fit", 401),
    "too-old": ("The message is too old, or from the future", 401),
    "no-hook": ("The library takes no webhooks yet", 404),
    "run-ended": ("The run has ended", 409),
    "no-version": ("There is no such version of the file", 404),
    "cannot-show": ("The picture cannot be shown", 422),
    "storage": ("The library's files cannot be reached", 503),
    "database": ("The database does not answer", 503),
    "internal": ("Something went wrong inside the service", 500),
}


class ApiError(Exception):
    """A problem to answer with. ``code`` is a key of :data:`PROBLEMS`."""

    def __init__(self, code: str, detail: str, **more: object) -> None:
        super().__init__(detail)
        self.code = code
        self.detail = detail
        self.more = more


def respond(code: str, detail: str, **more: object) -> JSONResponse:
    title, status = PROBLEMS[code]
    problem = Problem.model_validate(
        {"type": f"urn:plumcrate:problem:{code}", "title": title, "status": status, "detail": detail, **more}
    )
    headers = {"WWW-Authenticate": "Bearer"} if status == 401 else None
    return JSONResponse(problem.model_dump(), status, headers=headers, media_type="application/problem+json")


def install(app: FastAPI) -> None:
    """Answers every error of the service as a problem."""

    @app.exception_handler(ApiError)
    def _ours(_: Request, error: ApiError) -> JSONResponse:
        return respond(error.code, error.detail, **error.more)

    @app.exception_handler(RunError)
    def _run(_: Request, error: RunError) -> JSONResponse:
        return respond(error.code, str(error))

    @app.exception_handler(StorageError)
    def _storage(_: Request, error: StorageError) -> JSONResponse:
        return respond("storage", str(error), reason=error.code)

    @app.exception_handler(RequestValidationError)
    def _invalid(_: Request, error: RequestValidationError) -> JSONResponse:
        places = [
            {"where": ".".join(str(part) for part in fault["loc"]), "what": fault["msg"]}
            for fault in error.errors()
        ]
        detail = "; ".join(f"{place['where']}: {place['what']}" for place in places)
        return respond("invalid-request", detail, errors=places)

    @app.exception_handler(HTTPException)
    def _http(_: Request, error: HTTPException) -> JSONResponse:
        if error.status_code == 404:
            return respond("not-found", "no page or resource has this address")
        problem = Problem(type="about:blank", title=str(error.detail), status=error.status_code)
        return JSONResponse(
            problem.model_dump(), error.status_code, error.headers, media_type="application/problem+json"
        )

    @app.exception_handler(OperationalError)
    def _database(_: Request, error: OperationalError) -> JSONResponse:
        log.error("the database does not answer", reason=str(error.orig).splitlines()[0])
        return respond("database", "PostgreSQL does not answer; nothing was changed. Try again in a moment")

    @app.exception_handler(Exception)
    def _any(_: Request, error: Exception) -> JSONResponse:
        log.exception("unexpected error", exc_info=error)
        return respond("internal", "the service's log says more; nothing was changed by this request")

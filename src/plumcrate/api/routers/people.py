"""Sign-in, keys, health."""

from __future__ import annotations

from datetime import timedelta

from fastapi import APIRouter, Request, Response
from sqlalchemy import delete, func, select
from sqlalchemy.exc import SQLAlchemyError

from plumcrate import __version__, contract
from plumcrate.api import auth
from plumcrate.api.auth import Administering, Looking
from plumcrate.api.problems import ApiError
from plumcrate.records import tables
from plumcrate.work.feeding import SILENT_AFTER
from plumcrate.work.machine import examine

from .deps import Session, TheSettings, the

router = APIRouter(tags=["people"])


@router.post("/session", summary="Sign in")
def sign_in(
    body: contract.SignIn, request: Request, response: Response, session: Session, settings: TheSettings
) -> contract.Person:
    """Sets the session cookie. After ten failures an address has to wait five minutes."""
    address = request.client.host if request.client else "unknown"
    attempts: auth.Attempts = request.app.state.attempts
    attempts.check(address)
    try:
        return auth.sign_in(session, settings, response, body.email, body.password)
    except ApiError:
        attempts.failed(address)
        raise


@router.get("/session", summary="Who am I")
def who(person: Looking) -> contract.Person:
    return person


@router.delete("/session", status_code=204, summary="Sign out")
def sign_out(request: Request, response: Response, session: Session) -> None:
    auth.sign_out(session, request, response)


@router.get("/keys", summary="List keys")
def keys(person: Administering, session: Session) -> list[contract.Key]:
    rows = session.scalars(select(tables.Key).order_by(tables.Key.id))
    return [_key_view(row) for row in rows]


@router.post("/keys", status_code=201, summary="Make a key")
def make_key(body: contract.KeyRequest, person: Administering, session: Session) -> contract.NewKey:
    """The answer holds the secret, which is shown this once."""
    row, secret = auth.new_key(session, body.name, body.role)
    return contract.NewKey(**_key_view(row).model_dump(), secret=secret)


@router.delete("/keys/{key_id}", status_code=204, summary="Revoke a key")
def revoke_key(key_id: int, person: Administering, session: Session) -> None:
    the(session, tables.Key, key_id, "key")
    session.execute(delete(tables.Key).where(tables.Key.id == key_id))


@router.get("/health", summary="Health")
def health(request: Request) -> contract.Health:
    """Open to everybody, for monitors."""
    try:
        with request.app.state.database.begin() as session:
            alive = tables.WorkerRow.heard_at > func.now() - timedelta(seconds=SILENT_AFTER)
            workers = session.scalar(select(func.count()).where(alive)) or 0
    except SQLAlchemyError:
        return contract.Health(version=__version__, database=False, workers=0)
    return contract.Health(version=__version__, database=True, workers=workers)


@router.get("/machine", summary="Check the machine")
def machine(person: Looking, request: Request, settings: TheSettings) -> contract.Machine:
    """Formats, disks, permissions, database, clock, workers: each fine, or what to do."""
    return examine(settings, request.app.state.database)


def _key_view(row: tables.Key) -> contract.Key:
    return contract.Key(**{name: getattr(row, name) for name in contract.Key.model_fields})

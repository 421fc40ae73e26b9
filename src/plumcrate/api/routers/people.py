"""Sign-in, keys, health."""

from __future__ import annotations

import anyio.to_thread
from fastapi import Request, Response
from sqlalchemy.exc import SQLAlchemyError

from plumcrate import __version__, contract
from plumcrate.api import auth
from plumcrate.api.auth import Administering, Looking
from plumcrate.api.problems import ApiError
from plumcrate.records import tables
from plumcrate.records.database import Database
from plumcrate.work.feeding import workers_alive
from plumcrate.work.machine import examine
from plumcrate.work.sandbox import Sandbox

from .deps import Id, Session, TheSettings, TheState, router_of, the

router = router_of("people")


@router.post("/session", summary="Sign in")
def sign_in(
    body: contract.SignIn, request: Request, response: Response, session: Session, settings: TheSettings
) -> contract.Person:
    """Sets the session cookie. After ten failures an address has to wait five minutes."""
    address = request.client.host if request.client else "unknown"
    account = body.email.strip().lower()
    attempts: auth.Attempts = request.app.state.attempts
    attempts.begin(address, account)
    person = auth.sign_in(session, settings, response, account, body.password)
    attempts.succeeded(address, account)
    return person


@router.get("/session", summary="Who am I")
def who(request: Request) -> contract.Person | None:
    """Null when nobody has signed in, so that a browser can ask; a key that is not known is refused."""
    try:
        return auth.identify_person(request)
    except ApiError:
        if request.headers.get("authorization"):
            raise
        return None


@router.delete("/session", status_code=204, summary="Sign out")
def sign_out(request: Request, response: Response, session: Session) -> None:
    auth.sign_out(session, request, response)


@router.get("/keys", summary="List keys")
def keys(person: Administering, session: Session) -> list[contract.Key]:
    return [_key_view(row) for row in auth.all_keys(session)]


@router.post("/keys", status_code=201, summary="Make a key")
def make_key(body: contract.KeyRequest, person: Administering, session: Session) -> contract.NewKey:
    """The answer holds the secret, which is shown this once."""
    row, secret = auth.new_key(session, body.name, body.role)
    return contract.NewKey(**_key_view(row).model_dump(), secret=secret)


@router.delete("/keys/{key_id}", status_code=204, summary="Revoke a key")
def revoke_key(key_id: Id, person: Administering, session: Session) -> None:
    session.delete(the(session, tables.Key, key_id, "key"))


@router.get("/health", summary="Health")
async def health(request: Request) -> contract.Health:
    """Open to everybody, for monitors. It waits for nobody: it has a thread and a connection of its own."""
    state = request.app.state
    return await anyio.to_thread.run_sync(_health, state.monitor, limiter=state.health_threads)


def _health(database: Database) -> contract.Health:
    try:
        with database.begin() as session:
            workers = workers_alive(session)
    except SQLAlchemyError:
        return contract.Health(version=__version__, database=False, workers=0)
    return contract.Health(version=__version__, database=True, workers=workers)


@router.get("/machine", summary="Check the machine")
def machine(person: Looking, request: Request, state: TheState) -> contract.Machine:
    """Formats, disks, permissions, database, clock, workers, containment: each fine, or what to do."""
    sandbox: Sandbox = request.app.state.sandbox
    return examine(state, request.app.state.database, sandbox.ready())


def _key_view(row: tables.Key) -> contract.Key:
    return contract.Key(**{name: getattr(row, name) for name in contract.Key.model_fields})

"""Who is asking: a browser's session cookie, or a machine's key as a bearer token (RFC 6750)."""

from __future__ import annotations

import hashlib
import secrets
import time
from collections import deque
from datetime import UTC, datetime, timedelta
from typing import Annotated

from argon2 import PasswordHasher
from argon2.exceptions import VerificationError
from fastapi import Depends, Request, Response
from sqlalchemy import delete, select
from sqlalchemy.orm import Session as OrmSession

from plumcrate.contract import Person, Role
from plumcrate.records import tables
from plumcrate.records.database import Database
from plumcrate.settings import Settings

from .problems import ApiError

COOKIE = "plumcrate_session"
_RANK = {Role.LOOK: 0, Role.TREAT: 1, Role.ADMINISTER: 2}
_hasher = PasswordHasher()


def hash_password(password: str) -> str:
    """Argon2id, RFC 9106."""
    return _hasher.hash(password)


def _sha256(token: str) -> bytes:
    return hashlib.sha256(token.encode()).digest()


class Attempts:
    """Slows guessing: at most ``most`` failed sign-ins an address in ``seconds``."""

    def __init__(self, most: int = 10, seconds: float = 300.0) -> None:
        self._most, self._seconds = most, seconds
        self._failed: dict[str, deque[float]] = {}

    def check(self, address: str) -> None:
        times = self._failed.get(address, deque())
        while times and times[0] < time.monotonic() - self._seconds:
            times.popleft()
        if len(times) >= self._most:
            raise ApiError("too-many-attempts", "wait five minutes, then try again")

    def failed(self, address: str) -> None:
        if len(self._failed) > 10_000:
            self._failed.clear()
        self._failed.setdefault(address, deque()).append(time.monotonic())


def sign_in(session: OrmSession, settings: Settings, response: Response, email: str, password: str) -> Person:
    """Checks a password and sets the session cookie. Raises ApiError."""
    row = session.scalar(select(tables.Person).where(tables.Person.email == email.strip().lower()))
    try:
        # A password is checked even when the address is unknown, so that timing tells nothing.
        _hasher.verify(row.password_hash if row else _NOBODY, password)
    except VerificationError:
        row = None
    if row is None:
        raise ApiError("wrong-sign-in", "check both and try again")
    token = secrets.token_urlsafe(32)
    expires = datetime.now(UTC) + timedelta(days=settings.session_days)
    session.execute(delete(tables.Session).where(tables.Session.expires_at < datetime.now(UTC)))
    session.add(tables.Session(token_sha256=_sha256(token), person_id=row.id, expires_at=expires))
    response.set_cookie(
        COOKIE, token, max_age=settings.session_days * 86_400, httponly=True, samesite="strict",
        secure=settings.secure_cookies, path="/",
    )  # fmt: skip
    return Person(name=row.name, email=row.email, role=Role(row.role))


_NOBODY = hash_password(secrets.token_urlsafe(16))


def sign_out(session: OrmSession, request: Request, response: Response) -> None:
    token = request.cookies.get(COOKIE)
    if token:
        session.execute(delete(tables.Session).where(tables.Session.token_sha256 == _sha256(token)))
    response.delete_cookie(COOKIE, path="/")


def new_key(session: OrmSession, name: str, role: Role) -> tuple[tables.Key, str]:
    """Makes a key; the secret is returned once and only its hash kept."""
    secret = f"pc_{secrets.token_urlsafe(32)}"
    key = tables.Key(name=name, role=role, secret_sha256=_sha256(secret))
    session.add(key)
    session.flush()
    session.refresh(key)
    return key, secret


def _person(request: Request) -> Person:
    database: Database = request.app.state.database
    authorization = request.headers.get("authorization", "")
    if authorization.lower().startswith("bearer "):
        with database.begin() as session:
            digest = _sha256(authorization[7:].strip())
            key = session.scalar(select(tables.Key).where(tables.Key.secret_sha256 == digest))
            if key is None:
                raise ApiError("not-signed-in", "the key is unknown or was revoked")
            now = datetime.now(UTC)
            if key.last_used_at is None or now - key.last_used_at > timedelta(minutes=1):
                key.last_used_at = now
            return Person(name=key.name, email=None, role=Role(key.role))
    token = request.cookies.get(COOKIE)
    if not token:
        raise ApiError("not-signed-in", "sign in, or send a key as a bearer token")
    _refuse_foreign(request)
    with database.begin() as session:
        row = session.scalar(
            select(tables.Person)
            .join(tables.Session, tables.Session.person_id == tables.Person.id)
            .where(
                tables.Session.token_sha256 == _sha256(token), tables.Session.expires_at > datetime.now(UTC)
            )
        )
        if row is None:
            raise ApiError("not-signed-in", "the session has ended; sign in again")
        return Person(name=row.name, email=row.email, role=Role(row.role))


def _refuse_foreign(request: Request) -> None:
    """A cookie must not carry another site's request (cross-site request forgery)."""
    origin = request.headers.get("origin")
    if request.method in ("GET", "HEAD") or origin is None:
        return
    if origin.partition("://")[2] != request.headers.get("host"):
        raise ApiError("foreign-origin", "open the console at its own address")


def _at_least(role: Role) -> object:
    def check(person: Annotated[Person, Depends(_person)]) -> Person:
        if _RANK[person.role] < _RANK[role]:
            raise ApiError("not-allowed", f"this needs the role {role}; yours is {person.role}")
        return person

    return Depends(check)


Looking = Annotated[Person, _at_least(Role.LOOK)]
Treating = Annotated[Person, _at_least(Role.TREAT)]
Administering = Annotated[Person, _at_least(Role.ADMINISTER)]

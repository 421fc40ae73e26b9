"""Who is asking: a browser's session cookie, or a machine's key as a bearer token (RFC 6750)."""

from __future__ import annotations

import hashlib
import secrets
import threading
import time
from collections import deque
from collections.abc import Iterator
from contextlib import contextmanager
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

#: Under TLS the name itself makes browsers insist on it (RFC 6265bis, 4.1.3.2).
COOKIE, SECURE_COOKIE = "plumcrate_session", "__Host-plumcrate_session"
#: So many passwords are checked at a time: each takes 64 MB and both the machine's cores.
_CHECKS = threading.BoundedSemaphore(4)
_RANK = {Role.LOOK: 0, Role.TREAT: 1, Role.ADMINISTER: 2}
_hasher = PasswordHasher()


def hash_password(password: str) -> str:
    """Argon2id, RFC 9106."""
    return _hasher.hash(password)


def _sha256(token: str) -> bytes:
    return hashlib.sha256(token.encode("utf-8", "surrogatepass")).digest()


class Attempts:
    """Slows guessing: so many failed sign-ins an address, and an account, in ``seconds``.

    A try counts before its password is checked, so that many at once are no more than one after another;
    one that succeeds is taken back.
    """

    def __init__(self, most: int = 10, most_an_account: int = 30, seconds: float = 300.0) -> None:
        self._most = {"address": most, "account": most_an_account}
        self._seconds = seconds
        self._tries: dict[tuple[str, str], deque[float]] = {}
        self._lock = threading.Lock()

    def begin(self, address: str, account: str) -> None:
        """Raises ApiError when it is too often."""
        keys = [("address", address), ("account", _sha256(account).hex())]
        with self._lock:
            now = time.monotonic()
            if len(self._tries) > 20_000:
                self._forget(now)
            for key in keys:
                times = self._tries.setdefault(key, deque())
                while times and times[0] < now - self._seconds:
                    times.popleft()
                if len(times) >= self._most[key[0]]:
                    raise ApiError("too-many-attempts", "wait five minutes, then try again")
            for key in keys:
                self._tries[key].append(now)

    def succeeded(self, address: str, account: str) -> None:
        with self._lock:
            for key in (("address", address), ("account", _sha256(account).hex())):
                if self._tries.get(key):
                    self._tries[key].pop()

    def _forget(self, now: float) -> None:
        """The oldest go when many addresses tried; those that are slowed stay."""
        self._tries = {
            key: times for key, times in self._tries.items() if times and times[-1] > now - self._seconds
        }
        if len(self._tries) > 20_000:
            least = sorted(self._tries, key=lambda key: len(self._tries[key]))
            for key in least[: len(self._tries) - 10_000]:
                del self._tries[key]


@contextmanager
def _checking() -> Iterator[None]:
    if not _CHECKS.acquire(timeout=10):
        raise ApiError("busy", "many sign in just now; try again in a moment")
    try:
        yield
    finally:
        _CHECKS.release()


def sign_in(session: OrmSession, settings: Settings, response: Response, email: str, password: str) -> Person:
    """Checks a password and sets the session cookie. Raises ApiError."""
    row = session.scalar(select(tables.Person).where(tables.Person.email == email.strip().lower()))
    try:
        # A password is checked even when the address is unknown, so that timing tells nothing.
        with _checking():
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
        _cookie_name(settings), token, max_age=settings.session_days * 86_400, httponly=True,
        samesite="strict", secure=settings.secure_cookies, path="/",
    )  # fmt: skip
    return Person(name=row.name, email=row.email, role=Role(row.role))


_NOBODY = hash_password(secrets.token_urlsafe(16))


def _cookie_name(settings: Settings) -> str:
    return SECURE_COOKIE if settings.secure_cookies else COOKIE


def sign_out(session: OrmSession, request: Request, response: Response) -> None:
    settings: Settings = request.app.state.settings
    token = request.cookies.get(_cookie_name(settings))
    if token:
        _refuse_foreign(request)
        session.execute(delete(tables.Session).where(tables.Session.token_sha256 == _sha256(token)))
    response.delete_cookie(
        _cookie_name(settings), path="/", secure=settings.secure_cookies, httponly=True, samesite="strict"
    )


def all_keys(session: OrmSession) -> list[tables.Key]:
    """In the order in which they were made."""
    return list(session.scalars(select(tables.Key).order_by(tables.Key.id)))


def new_key(session: OrmSession, name: str, role: Role) -> tuple[tables.Key, str]:
    """Makes a key; the secret is returned once and only its hash kept."""
    secret = f"pc_{secrets.token_urlsafe(32)}"
    key = tables.Key(name=name, role=role, secret_sha256=_sha256(secret))
    session.add(key)
    session.flush()
    session.refresh(key)
    return key, secret


def identify_person(request: Request) -> Person:
    """Who asks, by key or cookie. Raises ApiError ``not-signed-in``."""
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
    token = request.cookies.get(_cookie_name(request.app.state.settings))
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


def _person(request: Request) -> Person:
    """Whom the gate let in."""
    person = getattr(request.state, "person", None)
    if not isinstance(person, Person):
        raise ApiError("not-signed-in", "sign in, or send a key as a bearer token")
    return person


def _at_least(role: Role) -> object:
    def check(person: Annotated[Person, Depends(_person)]) -> Person:
        if _RANK[person.role] < _RANK[role]:
            raise ApiError("not-allowed", f"this needs the role {role}; yours is {person.role}")
        return person

    return Depends(check)


Looking = Annotated[Person, _at_least(Role.LOOK)]
Treating = Annotated[Person, _at_least(Role.TREAT)]
Administering = Annotated[Person, _at_least(Role.ADMINISTER)]

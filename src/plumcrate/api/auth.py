"""Who is asking: a browser's session cookie, or a machine's key as a bearer token (RFC 6750)."""

from __future__ import annotations

import secrets

from cryptography.fernet import InvalidToken
from fastapi import Request, Response

from plumcrate.keeping.sealing import CannotUnseal, Seal
from plumcrate.people.actor import Actor, by_key, by_session
from plumcrate.settings import Settings

from .problems import ApiError
from .service import service_of

#: Under TLS the name itself makes browsers insist on it (RFC 6265bis, 4.1.3.2).
COOKIE, SECURE_COOKIE = "plumcrate_session", "__Host-plumcrate_session"
_KNOWN_PREFIX = b"browser:"
#: What a browser bears that once signed in to an account.
_KNOWN, _SECURE_KNOWN = "plumcrate_known", "__Host-plumcrate_known"
_KNOWN_SECONDS = 180 * 86_400


def address_of(request: Request) -> str:
    """Where a request comes from."""
    return request.client.host if request.client else "unknown"


def identify(request: Request) -> Actor:
    """Who asks, by key or cookie. Raises ApiError ``not-signed-in``."""
    database = service_of(request).database
    authorization = request.headers.get("authorization", "")
    if authorization.lower().startswith("bearer "):
        with database.reading() as session:
            actor = by_key(session, authorization[7:].strip(), address_of(request))
        if actor is None:
            raise ApiError("not-signed-in", "the key is unknown, was revoked or has expired")
        return actor
    token = session_token(request)
    if not token:
        raise ApiError("not-signed-in", "sign in, or send a key as a bearer token")
    refuse_foreign(request)
    with database.reading() as session:
        actor = by_session(session, token)
    if actor is None:
        raise ApiError("not-signed-in", "the session has ended; sign in again")
    return actor


def session_token(request: Request) -> str | None:
    settings = service_of(request).settings
    return request.cookies.get(SECURE_COOKIE if settings.secure_cookies else COOKIE)


def give_session(response: Response, settings: Settings, token: str) -> None:
    _set(response, settings, (COOKIE, SECURE_COOKIE), token, settings.session_days * 86_400)


def take_session(response: Response, settings: Settings) -> None:
    response.delete_cookie(
        SECURE_COOKIE if settings.secure_cookies else COOKIE,
        path="/",
        secure=settings.secure_cookies,
        httponly=True,
        samesite="strict",
    )


def known_browser(request: Request, seal: Seal, account: str) -> str | None:
    """The name of this browser, when it signed in to the account before; None when it did not.

    The name is what was sealed. Its cookie can be written in many ways that unseal to the same.
    """
    settings = service_of(request).settings
    token = request.cookies.get(_SECURE_KNOWN if settings.secure_cookies else _KNOWN)
    if not token or len(token) > 2_000:
        return None
    try:
        told = seal.open(token.encode())
    except (CannotUnseal, InvalidToken, OSError, ValueError):
        return None
    name, _, of = told.removeprefix(_KNOWN_PREFIX).partition(b":")
    return name.decode("ascii") if told.startswith(_KNOWN_PREFIX) and of == _bytes(account) else None


def make_known(response: Response, settings: Settings, seal: Seal, account: str) -> None:
    try:
        name = secrets.token_hex(16).encode()
        token = seal.close(_KNOWN_PREFIX + name + b":" + _bytes(account)).decode()
    except OSError:
        return  # the state folder is away; the browser is a stranger's as others are
    _set(response, settings, (_KNOWN, _SECURE_KNOWN), token, _KNOWN_SECONDS)


def _bytes(account: str) -> bytes:
    return account.encode("utf-8", "surrogatepass")


def _set(response: Response, settings: Settings, names: tuple[str, str], token: str, seconds: int) -> None:
    response.set_cookie(
        names[settings.secure_cookies],
        token,
        max_age=seconds,
        httponly=True,
        samesite="strict",
        secure=settings.secure_cookies,
        path="/",
    )


def refuse_foreign(request: Request) -> None:
    """A cookie must not carry another site's request (cross-site request forgery)."""
    origin = request.headers.get("origin")
    if request.method in ("GET", "HEAD") or origin is None:
        return
    settings = service_of(request).settings
    own = (settings.address or "").rstrip("/").lower()
    if origin.lower() != own and origin.partition("://")[2] != request.headers.get("host"):
        raise ApiError("foreign-origin", "open the console at its own address")

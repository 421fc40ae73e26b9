"""Keys for machines: made, listed, rotated, revoked."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import UTC, datetime, timedelta

from sqlalchemy import ColumnElement, delete, select
from sqlalchemy.orm import Session

from plumcrate.contract.common import Page
from plumcrate.contract.people import Ability, KeyRequest
from plumcrate.contract.people import Key as KeyView
from plumcrate.records.queries import cursors
from plumcrate.records.tables import Key, KeyGrant, Library
from plumcrate.refusal import Refusal

from .tokens import new_key_secret, sha256

#: A key of which nobody could say that it is still needed is forgotten so long after it expired.
_KEEP_EXPIRED = timedelta(days=90)
_SETTLED = ("name", "abilities", "service", "hint", "by", "replaces")


def new_key(session: Session, request: KeyRequest, by: str) -> tuple[Key, str]:
    """Makes a key; the secret is returned once and only its hash kept. Raises :class:`Refusal`."""
    numbers = None if request.libraries is None else _numbers(session, request.libraries)
    expires = None if request.days is None else datetime.now(UTC) + timedelta(days=request.days)
    session.execute(delete(Key).where(Key.expires_at < datetime.now(UTC) - _KEEP_EXPIRED))
    abilities = list(Ability) if request.service else request.abilities
    return _made(
        session,
        Key(name=request.name, abilities=abilities, service=request.service, by=by, expires_at=expires),
        numbers,
    )


def rotate(session: Session, key: Key, overlap: timedelta, by: str) -> tuple[Key, str]:
    """A new secret for the same; the former one goes on for a while. Raises :class:`Refusal`."""
    now = datetime.now(UTC)
    if key.expires_at is not None and key.expires_at <= now:
        raise Refusal("ended", f"the key {key.name} has expired: make a new one")
    if session.scalar(select(Key.id).where(Key.replaces == key.id)) is not None:
        raise Refusal("ended", f"the key {key.name} was rotated already: rotate the one that took over")
    numbers = None if key.all_libraries else _of(session, key)
    lasts = key.expires_at - key.created_at if key.expires_at is not None else None
    fresh = Key(
        name=key.name,
        abilities=key.abilities,
        service=key.service,
        by=by,
        replaces=key.id,
        expires_at=None if lasts is None else now + lasts,
    )
    ends = now + overlap
    key.expires_at = ends if key.expires_at is None else min(key.expires_at, ends)
    return _made(session, fresh, numbers)


def keys_page(session: Session, library_id: int | None, *, after: str | None, limit: int) -> Page[KeyView]:
    """In the order in which they were made: all, or those that open this library alone. Raises Refusal for a
    cursor of another list."""
    query = select(Key)
    return cursors.by_number(
        session,
        query if library_id is None else query.where(_only(library_id)),
        Key.id,
        lambda rows: views(session, rows),
        of=f"keys of {library_id or 'all'}",
        after=after,
        limit=limit,
        latest_first=False,
    )


def key_of(session: Session, library_id: int | None, number: int) -> Key | None:
    """By its number, among those of :func:`keys_page`."""
    query = select(Key).where(Key.id == number)
    return session.scalar(query if library_id is None else query.where(_only(library_id)))


def view(session: Session, key: Key) -> KeyView:
    """A key as the wire shows it."""
    return views(session, [key])[0]


def views(session: Session, keys: Sequence[Key]) -> list[KeyView]:
    """Those keys, in one statement whatever their number."""
    opened: dict[int, list[str]] = {}
    some = [key.id for key in keys if not key.all_libraries]
    if some:
        query = select(KeyGrant.key_id, Library.slug).join(Library, KeyGrant.library_id == Library.id)
        for number, slug in session.execute(query.where(KeyGrant.key_id.in_(some)).order_by(Library.slug)):
            opened.setdefault(number, []).append(slug)
    rest = ("id", *_SETTLED, "created_at", "expires_at", "last_used_at", "last_used_from")
    return [
        KeyView.model_validate(
            {"libraries": None if key.all_libraries else opened.get(key.id, [])}
            | {name: getattr(key, name) for name in rest}
        )
        for key in keys
    ]


def _made(session: Session, key: Key, numbers: Sequence[int] | None) -> tuple[Key, str]:
    secret = new_key_secret()
    key.secret_sha256, key.hint, key.all_libraries = sha256(secret), secret[-4:], numbers is None
    session.add(key)
    session.flush()
    session.add_all(KeyGrant(key_id=key.id, library_id=number) for number in numbers or ())
    session.flush()
    session.refresh(key)
    return key, secret


def _only(library_id: int) -> ColumnElement[bool]:
    """The condition that a key opens this library and no other."""
    mine = select(KeyGrant.key_id).where(KeyGrant.library_id == library_id)
    others = select(KeyGrant.key_id).where(KeyGrant.library_id != library_id)
    return Key.id.in_(mine) & Key.id.not_in(others)


def _of(session: Session, key: Key) -> list[int]:
    return list(session.scalars(select(KeyGrant.library_id).where(KeyGrant.key_id == key.id)))


def _numbers(session: Session, slugs: Sequence[str]) -> list[int]:
    query = select(Library.slug, Library.id).where(Library.slug.in_(slugs))
    found = dict(session.execute(query).all())
    for slug in slugs:
        if slug not in found:
            raise Refusal("not-found", f"there is no library called {slug}")
    return [found[slug] for slug in slugs]

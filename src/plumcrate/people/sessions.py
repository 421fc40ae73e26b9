"""Browsers that are signed in."""

from __future__ import annotations

from datetime import UTC, datetime, timedelta

from sqlalchemy import delete, func, select
from sqlalchemy.orm import Session

from plumcrate.contract.people import SignedIn
from plumcrate.keeping.sealing import Seal
from plumcrate.records import tables
from plumcrate.refusal import Refusal

from . import passwords
from .actor import Actor
from .invitations import need_second_factor
from .tokens import new_token, sha256

_BROWSER = 200


def check(session: Session, seal: Seal, email: str, password: str, code: str | None) -> tables.Person:
    """Whose address, password and second factor they are. Raises :class:`Refusal`: ``wrong-sign-in``, or
    ``second-factor`` where only that is missing."""
    row = session.scalar(
        select(tables.Person).where(tables.Person.email == email, tables.Person.suspended.is_(False))
    )
    if not passwords.fits(row.password_hash if row is not None else None, password) or row is None:
        raise Refusal("wrong-sign-in", "check both and try again")
    need_second_factor(session, seal, row, code)
    return row


def begin(session: Session, person: tables.Person, address: str, browser: str, days: int) -> str:
    """Signs a browser in, always with a new token, which is told this once."""
    token = new_token()
    now = datetime.now(UTC)
    session.execute(delete(tables.Session).where(tables.Session.expires_at < now))
    session.add(
        tables.Session(
            token_sha256=sha256(token),
            person_id=person.id,
            address=address,
            browser=_plain(browser),
            expires_at=now + timedelta(days=days),
        )
    )
    person.signed_in_at = now
    return token


def end(session: Session, token: str) -> None:
    session.execute(delete(tables.Session).where(tables.Session.token_sha256 == sha256(token)))


def end_all(session: Session, person_id: int) -> None:
    session.execute(delete(tables.Session).where(tables.Session.person_id == person_id))


def end_one(session: Session, person_id: int, number: int) -> bool:
    """Whether there was such a session of this person."""
    mine = (tables.Session.id == number) & (tables.Session.person_id == person_id)
    return (
        session.execute(delete(tables.Session).where(mine).returning(tables.Session.id)).first() is not None
    )


def of(session: Session, actor: Actor) -> list[SignedIn]:
    """Of one person, the one that was seen last first."""
    query = (
        select(tables.Session)
        .where(tables.Session.person_id == actor.number, tables.Session.expires_at > func.now())
        .order_by(tables.Session.seen_at.desc())
    )
    return [
        SignedIn(
            id=row.id,
            current=row.id == actor.session,
            created_at=row.created_at,
            seen_at=row.seen_at,
            address=row.address,
            browser=row.browser,
        )
        for row in session.scalars(query)
    ]


def _plain(text: str) -> str:
    return "".join(character for character in text[:_BROWSER] if character.isprintable())

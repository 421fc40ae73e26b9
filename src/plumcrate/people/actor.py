"""Who asks, and what they may do in which library."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from datetime import UTC, datetime, timedelta

from sqlalchemy import ColumnElement, func, select, true, update
from sqlalchemy.orm import InstrumentedAttribute, Session

from plumcrate.contract.people import ROLES, Ability, Access, Person, Role
from plumcrate.records import tables
from plumcrate.records.tables import Library

from .tokens import sha256

_NONE: frozenset[Ability] = frozenset()
#: When somebody was last seen is noted so often.
_NOTE_EVERY = timedelta(minutes=1)


@dataclass(frozen=True, slots=True)
class Actor:
    """A person (``kind`` "person") or a machine with a key ("key"). ``everywhere``: what they may do in every
    library; ``abilities``: in one, by its number."""

    kind: str
    number: int
    name: str
    email: str | None = None
    service: bool = False
    everywhere: frozenset[Ability] = _NONE
    abilities: Mapping[int, frozenset[Ability]] = field(default_factory=dict)
    roles: Mapping[int, Role] = field(default_factory=dict)
    session: int | None = None
    second_factor: bool = False

    def may(self, library_id: int, ability: Ability) -> bool:
        return ability in self.everywhere or ability in self.abilities.get(library_id, _NONE)

    def may_somewhere(self, ability: Ability) -> bool:
        return ability in self.everywhere or any(ability in held for held in self.abilities.values())

    def may_see(
        self, column: ColumnElement[int] | InstrumentedAttribute[int] | None = None
    ) -> ColumnElement[bool]:
        """The condition under which a row may be seen, by its column of libraries' numbers."""
        if Ability.LOOK in self.everywhere:
            return true()
        seen = [number for number, held in self.abilities.items() if Ability.LOOK in held]
        return (Library.id if column is None else column).in_(seen)

    def in_library(self, library_id: int) -> frozenset[Ability]:
        return self.everywhere | self.abilities.get(library_id, _NONE)


def by_key(session: Session, secret: str, address: str) -> Actor | None:
    """Whose key it is; None for one that is unknown, revoked or has expired."""
    opened = select(func.array_agg(tables.KeyGrant.library_id)).where(tables.KeyGrant.key_id == tables.Key.id)
    found = session.execute(
        select(tables.Key, opened.scalar_subquery()).where(
            tables.Key.secret_sha256 == sha256(secret),
            tables.Key.expires_at.is_(None) | (tables.Key.expires_at > func.now()),
        )
    ).one_or_none()
    if found is None:
        return None
    row, numbers = found
    now = datetime.now(UTC)
    if row.last_used_at is None or now - row.last_used_at > _NOTE_EVERY:
        session.execute(
            update(tables.Key)
            .where(tables.Key.id == row.id)
            .values(last_used_at=now, last_used_from=address)
            .execution_options(synchronize_session=False)
        )
    held = frozenset(Ability(ability) for ability in row.abilities)
    if row.all_libraries:
        return Actor("key", row.id, row.name, service=row.service, everywhere=held)
    return Actor("key", row.id, row.name, abilities=dict.fromkeys(numbers or (), held))


def by_session(session: Session, token: str) -> Actor | None:
    """Whose browser it is; None when the session has ended."""
    found = session.execute(
        select(tables.Session, tables.Person)
        .join(tables.Person, tables.Session.person_id == tables.Person.id)
        .where(
            tables.Session.token_sha256 == sha256(token),
            tables.Session.expires_at > func.now(),
            tables.Person.suspended.is_(False),
        )
    ).one_or_none()
    if found is None:
        return None
    opened, person = found
    now = datetime.now(UTC)
    if now - opened.seen_at > _NOTE_EVERY:
        opened.seen_at = now
        session.flush()
    return of_person(session, person, opened.id)


def of_person(session: Session, person: tables.Person, opened: int | None = None) -> Actor:
    """A person, with a session's number where there is one."""
    roles = {
        grant.library_id: Role(grant.role)
        for grant in session.scalars(
            select(tables.PersonGrant).where(tables.PersonGrant.person_id == person.id)
        )
    }
    return Actor(
        "person",
        person.id,
        person.name,
        person.email,
        person.service,
        everywhere=frozenset(Ability) if person.service else _NONE,
        abilities={number: ROLES[role] for number, role in roles.items()},
        roles=roles,
        session=opened,
        second_factor=person.second_factor_since is not None,
    )


def person_view(session: Session, actor: Actor) -> Person:
    """As the wire says who asks: with the libraries that may be seen."""
    rows = session.execute(
        select(Library.id, Library.slug).where(actor.may_see()).order_by(Library.name)
    ).all()
    return Person(
        name=actor.name,
        email=actor.email,
        service=actor.service,
        second_factor=actor.second_factor,
        access=[
            Access(
                library=slug,
                role=Role.ADMINISTER if actor.kind == "person" and actor.service else actor.roles.get(number),
                abilities=[ability for ability in Ability if ability in actor.in_library(number)],
            )
            for number, slug in rows
        ],
    )

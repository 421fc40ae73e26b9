"""Who has an account, and who a role in which library."""

from __future__ import annotations

from collections.abc import Sequence

from sqlalchemy import delete, func, select
from sqlalchemy.orm import Session

from plumcrate.contract.common import Page
from plumcrate.contract.people import Grant, Member, PersonChange, PersonRow, Role
from plumcrate.records.queries import cursors
from plumcrate.records.tables import Library, Person, PersonGrant
from plumcrate.refusal import Refusal

from . import second_factor, sessions
from .invitations import put_grant

_PEOPLE_LOCK = 727_015


def people_page(session: Session, *, after: str | None, limit: int) -> Page[PersonRow]:
    """In the order in which they came. Raises Refusal for a cursor of another list."""
    return cursors.by_number(
        session,
        select(Person),
        Person.id,
        lambda rows: person_rows(session, rows),
        of="people",
        after=after,
        limit=limit,
        latest_first=False,
    )


def person_rows(session: Session, people: Sequence[Person]) -> list[PersonRow]:
    """Those people, in one statement whatever their number."""
    grants: dict[int, list[Grant]] = {}
    told = (
        select(PersonGrant.person_id, Library.slug, PersonGrant.role)
        .join(Library, Library.id == PersonGrant.library_id)
        .where(PersonGrant.person_id.in_([person.id for person in people]))
    )
    for number, slug, role in session.execute(told.order_by(Library.slug)):
        grants.setdefault(number, []).append(Grant(library=slug, role=Role(role)))
    return [_row(person, grants.get(person.id, [])) for person in people]


def change(session: Session, person: Person, asked: PersonChange) -> None:
    """Raises :class:`Refusal`: one who administers the service is always left."""
    if asked.name is not None:
        person.name = asked.name
    if asked.service is False or asked.suspended:
        _leave_one(session, person)
    if asked.service is not None:
        person.service = asked.service
    if asked.suspended is not None:
        person.suspended = asked.suspended
        if asked.suspended:
            sessions.end_all(session, person.id)
    if asked.second_factor is False:
        second_factor.end(session, person)
    if asked.grants is not None:
        numbers = libraries_of(session, asked.grants)
        session.execute(delete(PersonGrant).where(PersonGrant.person_id == person.id))
        for number, role in numbers.items():
            put_grant(session, person.id, number, role)
    session.flush()


def remove(session: Session, person: Person) -> None:
    """Raises :class:`Refusal` for the last who administers the service."""
    _leave_one(session, person)
    session.delete(person)


def libraries_of(session: Session, grants: list[Grant]) -> dict[int, Role]:
    """Roles by library's number. Raises :class:`Refusal`."""
    wanted = {grant.library: grant.role for grant in grants}
    query = select(Library.slug, Library.id).where(Library.slug.in_(wanted))
    found = dict(session.execute(query).all())
    for slug in wanted:
        if slug not in found:
            raise Refusal("not-found", f"there is no library called {slug}")
    return {found[slug]: role for slug, role in wanted.items()}


def members_page(session: Session, library_id: int, *, after: str | None, limit: int) -> Page[Member]:
    """Those with a role in a library, in the order in which they came. Raises Refusal for a cursor of another
    list."""

    def rows(people: Sequence[Person]) -> list[Member]:
        roles = dict(
            session.execute(
                select(PersonGrant.person_id, PersonGrant.role).where(
                    PersonGrant.library_id == library_id,
                    PersonGrant.person_id.in_([person.id for person in people]),
                )
            ).all()
        )
        return [_member(person, roles[person.id]) for person in people]

    theirs = select(PersonGrant.person_id).where(PersonGrant.library_id == library_id)
    return cursors.by_number(
        session,
        select(Person).where(Person.id.in_(theirs)),
        Person.id,
        rows,
        of=f"people of {library_id}",
        after=after,
        limit=limit,
        latest_first=False,
    )


def member(session: Session, library_id: int, person_id: int) -> Member:
    """Raises :class:`Refusal` for one who has no role there."""
    found = session.execute(
        select(Person, PersonGrant.role)
        .join(PersonGrant, PersonGrant.person_id == Person.id)
        .where(PersonGrant.library_id == library_id, Person.id == person_id)
    ).one_or_none()
    if found is None:
        raise Refusal("not-found", f"the library has no member with the number {person_id}")
    return _member(*found)


def change_member(session: Session, library_id: int, person_id: int, role: Role) -> Member:
    """Raises :class:`Refusal` for one who has no role there."""
    former = member(session, library_id, person_id)
    put_grant(session, person_id, library_id, role)
    return former.model_copy(update={"role": role})


def remove_member(session: Session, library_id: int, person_id: int) -> None:
    """Takes the role away; the account stays. Raises :class:`Refusal`."""
    theirs = (PersonGrant.library_id == library_id) & (PersonGrant.person_id == person_id)
    gone = session.execute(delete(PersonGrant).where(theirs).returning(PersonGrant.person_id)).first()
    if gone is None:
        raise Refusal("not-found", f"the library has no member with the number {person_id}")


def _leave_one(session: Session, person: Person) -> None:
    session.execute(select(func.pg_advisory_xact_lock(_PEOPLE_LOCK)))
    others = select(Person.id).where(
        Person.service.is_(True), Person.suspended.is_(False), Person.id != person.id
    )
    if person.service and not person.suspended and session.scalar(others.limit(1)) is None:
        raise Refusal("last-administrator", f"{person.name} is the last administrator of the service")


def _row(row: Person, grants: list[Grant]) -> PersonRow:
    return PersonRow(
        id=row.id,
        name=row.name,
        email=row.email,
        service=row.service,
        suspended=row.suspended,
        second_factor=row.second_factor_since is not None,
        grants=grants,
        created_at=row.created_at,
        signed_in_at=row.signed_in_at,
    )


def _member(person: Person, role: str) -> Member:
    return Member(id=person.id, name=person.name, email=person.email, role=Role(role))

"""Links that let somebody in: an invitation, the first set-up, a new password. Each opens once."""

from __future__ import annotations

from collections.abc import Mapping
from datetime import UTC, datetime, timedelta

from sqlalchemy import ColumnElement, delete, func, select
from sqlalchemy.dialects.postgresql import insert
from sqlalchemy.orm import Session

from plumcrate.contract.common import Page
from plumcrate.contract.people import Grant, InvitationPurpose, Joining, LinkOffer, Role
from plumcrate.contract.people import Invitation as InvitationView
from plumcrate.keeping.sealing import Seal
from plumcrate.records.queries import cursors
from plumcrate.records.tables import Invitation, InvitationGrant, Library, Person, PersonGrant
from plumcrate.records.tables import Session as Opened
from plumcrate.refusal import Refusal

from . import passwords, second_factor
from .tokens import new_token, sha256

#: A set-up link is good for so long; every start without any person makes a new one.
_SET_UP, _NEW_PASSWORD = timedelta(days=7), timedelta(days=2)
_SET_UP_LOCK = 727_014


def invite(
    session: Session, email: str, name: str, *, grants: Mapping[int, Role], service: bool, days: int, by: str
) -> tuple[Invitation, str]:
    """An invitation and its token, which is told this once."""
    row = Invitation(
        purpose=InvitationPurpose.INVITATION,
        email=email.strip().lower(),
        name=name,
        service=service,
        by=by,
        expires_at=datetime.now(UTC) + timedelta(days=days),
    )
    return _made(session, row, grants)


def new_password(session: Session, person: Person, by: str) -> tuple[Invitation, str]:
    """A link with which a person chooses a new password; a former one is worth nothing."""
    stale = (Invitation.purpose == InvitationPurpose.NEW_PASSWORD) & (Invitation.email == person.email)
    session.execute(delete(Invitation).where(stale))
    row = Invitation(
        purpose=InvitationPurpose.NEW_PASSWORD,
        email=person.email,
        name=person.name,
        by=by,
        expires_at=datetime.now(UTC) + _NEW_PASSWORD,
    )
    return _made(session, row, {})


def set_up(session: Session) -> str | None:
    """The token of a link that makes the first administrator; None when somebody is there. A former one is
    worth nothing."""
    session.execute(select(func.pg_advisory_xact_lock(_SET_UP_LOCK)))
    if _anybody(session):
        return None
    session.execute(delete(Invitation).where(Invitation.purpose == InvitationPurpose.SET_UP))
    row = Invitation(
        purpose=InvitationPurpose.SET_UP,
        email="",
        name="",
        service=True,
        by="",
        expires_at=datetime.now(UTC) + _SET_UP,
    )
    return _made(session, row, {})[1]


def offer(session: Session, token: str) -> LinkOffer:
    """What a link offers; not whether its address has an account. Raises :class:`Refusal`
    ``no-invitation``."""
    row = _open(session, token)
    names = (
        select(Library.name)
        .join(InvitationGrant, InvitationGrant.library_id == Library.id)
        .where(InvitationGrant.invitation_id == row.id)
    )
    return LinkOffer(
        purpose=InvitationPurpose(row.purpose),
        email=row.email,
        name=row.name,
        service=row.service,
        libraries=list(session.scalars(names.order_by(Library.name))),
        expires_at=row.expires_at,
    )


def join(session: Session, seal: Seal, asked: Joining) -> Person:
    """Takes up an offer: of several who try at once, one. Raises :class:`Refusal`."""
    row = _open(session, asked.token, lock=True)
    purpose = InvitationPurpose(row.purpose)
    if purpose is InvitationPurpose.SET_UP:
        person = _first(session, asked)
    elif purpose is InvitationPurpose.NEW_PASSWORD:
        person = _renewed(session, seal, row, asked)
    else:
        person = _invited(session, seal, row, asked)
        person.service = person.service or row.service
        for grant in session.scalars(
            select(InvitationGrant).where(InvitationGrant.invitation_id == row.id)
        ).all():
            put_grant(session, person.id, grant.library_id, Role(grant.role))
    session.execute(delete(Invitation).where(Invitation.id == row.id))
    return person


def put_grant(session: Session, person_id: int, library_id: int, role: Role) -> None:
    """Gives a person a role in a library, in the place of the one they had."""
    row = insert(PersonGrant).values(person_id=person_id, library_id=library_id, role=role)
    session.execute(
        row.on_conflict_do_update(index_elements=["person_id", "library_id"], set_={"role": role})
    )


def waiting_page(
    session: Session, library_id: int | None, *, after: str | None, limit: int
) -> Page[InvitationView]:
    """Those that wait: all, or those to this library alone. Raises Refusal for a cursor of another list."""
    query = select(Invitation).where(Invitation.expires_at > func.now())
    return cursors.by_number(
        session,
        query if library_id is None else query.where(_only(library_id)),
        Invitation.id,
        lambda rows: [view(session, row) for row in rows],
        of=f"invitations to {library_id or 'all'}",
        after=after,
        limit=limit,
        latest_first=False,
    )


def waiting_one(session: Session, library_id: int | None, number: int) -> Invitation | None:
    query = select(Invitation).where(Invitation.id == number)
    return session.scalar(query if library_id is None else query.where(_only(library_id)))


def view(session: Session, row: Invitation) -> InvitationView:
    grants = session.execute(
        select(Library.slug, InvitationGrant.role)
        .join(InvitationGrant, InvitationGrant.library_id == Library.id)
        .where(InvitationGrant.invitation_id == row.id)
        .order_by(Library.slug)
    )
    rest = ("id", "purpose", "email", "name", "service", "by", "created_at", "expires_at")
    return InvitationView.model_validate(
        {"grants": [Grant(library=slug, role=Role(role)) for slug, role in grants]}
        | {name: getattr(row, name) for name in rest}
    )


def _only(library_id: int) -> ColumnElement[bool]:
    mine = select(InvitationGrant.invitation_id).where(InvitationGrant.library_id == library_id)
    others = select(InvitationGrant.invitation_id).where(InvitationGrant.library_id != library_id)
    return Invitation.id.in_(mine) & Invitation.id.not_in(others) & Invitation.service.is_(False)


def _made(session: Session, row: Invitation, grants: Mapping[int, Role]) -> tuple[Invitation, str]:
    session.execute(delete(Invitation).where(Invitation.expires_at < func.now()))
    token = new_token()
    row.token_sha256 = sha256(token)
    session.add(row)
    session.flush()
    session.add_all(
        InvitationGrant(invitation_id=row.id, library_id=number, role=role) for number, role in grants.items()
    )
    session.flush()
    session.refresh(row)
    return row, token


def _open(session: Session, token: str, *, lock: bool = False) -> Invitation:
    query = select(Invitation).where(
        Invitation.token_sha256 == sha256(token), Invitation.expires_at > func.now()
    )
    row = session.scalar(query.with_for_update() if lock else query)
    if row is None:
        raise Refusal("no-invitation", "the link was used, taken back or has expired: ask for a new one")
    return row


def _anybody(session: Session) -> bool:
    return session.scalar(select(Person.id).limit(1)) is not None


def _account(session: Session, email: str) -> Person | None:
    return session.scalar(select(Person).where(Person.email == email))


def _first(session: Session, asked: Joining) -> Person:
    session.execute(select(func.pg_advisory_xact_lock(_SET_UP_LOCK)))
    if _anybody(session):
        raise Refusal("no-invitation", "the service has its administrator already: sign in")
    if asked.email is None:
        raise Refusal("invalid-request", "enter your e-mail address: you sign in with it")
    return new_person(session, asked.email, asked.name, asked.password, service=True)


def _invited(session: Session, seal: Seal, row: Invitation, asked: Joining) -> Person:
    known = _account(session, row.email)
    if known is None:
        return new_person(session, row.email, asked.name or row.name, asked.password)
    if not passwords.fits(known.password_hash, asked.password) or known.suspended:
        raise Refusal("wrong-sign-in", f"{row.email} has an account here: give its password")
    need_second_factor(session, seal, known, asked.code)
    return known


def _renewed(session: Session, seal: Seal, row: Invitation, asked: Joining) -> Person:
    person = _account(session, row.email)
    if person is None or person.suspended:
        raise Refusal("no-invitation", "the account is not there any more")
    need_second_factor(session, seal, person, asked.code)
    person.password_hash = passwords.hash_password(asked.password)
    session.execute(delete(Opened).where(Opened.person_id == person.id))
    return person


def new_person(session: Session, email: str, name: str, password: str, *, service: bool = False) -> Person:
    """Raises :class:`Refusal` for a weak password, or an address that is taken."""
    email = email.strip().lower()
    if _account(session, email) is not None:
        raise Refusal("name-taken", f"{email} has an account already")
    person = Person(
        email=email,
        name=name.strip() or email.partition("@")[0],
        service=service,
        password_hash=passwords.hash_password(password),
    )
    session.add(person)
    session.flush()
    session.refresh(person)
    return person


def need_second_factor(session: Session, seal: Seal, person: Person, code: str | None) -> None:
    """Takes the second factor of an account that has one. Raises :class:`Refusal`."""
    if person.second_factor_since is None:
        return
    if not code:
        raise Refusal("second-factor", "give the six digits of the second factor, or a recovery code")
    if not second_factor.take(session, person, seal, code):
        raise Refusal("wrong-sign-in", "the code is wrong, or was used: wait for the next one")

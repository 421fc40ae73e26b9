"""Those who administer the whole service, made or let in again from its own machine."""

from __future__ import annotations

from sqlalchemy import delete, select
from sqlalchemy.orm import Session

from plumcrate.contract.people import InvitationPurpose
from plumcrate.records.tables import Invitation, Person

from . import audit, passwords, second_factor, sessions
from .invitations import new_person


def make_administrator(session: Session, email: str, name: str, password: str) -> bool:
    """Whether the account is new. One that was there gets the password, loses its second factor, is signed
    out everywhere, and is suspended no more. Raises Refusal for a weak password."""
    email = email.strip().lower()
    person = session.scalar(select(Person).where(Person.email == email))
    new = person is None
    if person is None:
        new_person(session, email, name, password, service=True)
    else:
        person.password_hash = passwords.hash_password(password)
        person.service, person.suspended = True, False
        second_factor.end(session, person)
        sessions.end_all(session, person.id)
    session.execute(delete(Invitation).where(Invitation.purpose == InvitationPurpose.SET_UP))
    act = "Make an administrator" if new else "Reset an administrator"
    audit.record(session, None, act, target=email, detail="on the service's own machine")
    return new

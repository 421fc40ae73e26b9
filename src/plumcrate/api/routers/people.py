"""People: all of them, those of a library, and the links that let them in."""

from __future__ import annotations

from fastapi import Request, Response

from plumcrate.api.acts import act_of
from plumcrate.api.auth import refuse_foreign
from plumcrate.api.conditions import BasedOn, tagged
from plumcrate.api.needs import Administering, Serving
from plumcrate.api.problems import ApiError
from plumcrate.contract.common import Page
from plumcrate.contract.people import (
    Invitation,
    InvitationPurpose,
    InvitationRequest,
    Joining,
    LinkOffer,
    Member,
    MemberChange,
    MemberInvitation,
    NewInvitation,
    Person,
    PersonChange,
    PersonRow,
    Token,
)
from plumcrate.people import invitations, members
from plumcrate.people.mailing import Mailing
from plumcrate.records import tables
from plumcrate.settings import Settings

from .deps import After, Id, Limit, Session, Slug, TheSeal, TheSettings, router_of, the, the_library
from .sessions import guarded, signed_in

router = router_of("people")


@router.get("/people", summary="List people")
def people(actor: Serving, session: Session, after: After = None, limit: Limit = 100) -> Page[PersonRow]:
    return members.people_page(session, after=after, limit=limit)


@router.get("/people/{person_id}", summary="One person")
def person(person_id: Id, actor: Serving, session: Session, response: Response) -> PersonRow:
    row = members.person_rows(session, [the(session, tables.Person, person_id, "person")])[0]
    return tagged(response, row, _settings(row))


@router.patch("/people/{person_id}", summary="Change a person")
def change(
    person_id: Id, body: PersonChange, actor: Serving, session: Session, request: Request, based: BasedOn
) -> PersonRow:
    """Roles, name, whether they administer the service, whether they may sign in at all."""
    person = the(session, tables.Person, person_id, "person")
    act_of(request).detail = f"{person.email}: {body.model_dump_json(exclude_unset=True)}"
    based.on(_settings(members.person_rows(session, [person])[0]))
    members.change(session, person, body)
    row = members.person_rows(session, [person])[0]
    return based.tagged(row, _settings(row))


def _settings(row: PersonRow) -> PersonChange:
    """What can be changed of a person."""
    return PersonChange.model_validate(row, from_attributes=True)


@router.delete("/people/{person_id}", status_code=204, summary="Delete a person's account")
def remove(person_id: Id, actor: Serving, session: Session, request: Request) -> None:
    person = the(session, tables.Person, person_id, "person")
    act_of(request).detail = person.email
    members.remove(session, person)


@router.post("/people/{person_id}/new-password", status_code=201, summary="Make a link for a new password")
def new_password(
    person_id: Id, actor: Serving, session: Session, request: Request, settings: TheSettings
) -> NewInvitation:
    """The link is shown this once; it is good for two days."""
    person = the(session, tables.Person, person_id, "person")
    act_of(request).detail = person.email
    row, token = invitations.new_password(session, person, actor.name)
    return _told(session, row, token, request, settings)


@router.get("/invitations", summary="List invitations")
def waiting(actor: Serving, session: Session, after: After = None, limit: Limit = 100) -> Page[Invitation]:
    """Those that have not been taken up."""
    return invitations.waiting_page(session, None, after=after, limit=limit)


@router.post("/invitations", status_code=201, summary="Invite somebody")
def invite(
    body: InvitationRequest, actor: Serving, session: Session, request: Request, settings: TheSettings
) -> NewInvitation:
    """The link is shown this once; it is mailed too where mail was set up."""
    grants = members.libraries_of(session, body.grants)
    if not grants and not body.service:
        raise ApiError("invalid-request", "name the libraries, or invite to the whole service")
    rights = (
        "administer the service"
        if body.service
        else ", ".join(f"{g.role} in {g.library}" for g in body.grants)
    )
    act_of(request).detail = f"{body.email}: {rights}"
    row, token = invitations.invite(
        session, body.email, body.name, grants=grants, service=body.service, days=body.days, by=actor.name
    )
    return _told(session, row, token, request, settings)


@router.delete("/invitations/{invitation_id}", status_code=204, summary="Take an invitation back")
def take_back(invitation_id: Id, actor: Serving, session: Session) -> None:
    _take_back(session, None, invitation_id)


@router.post("/joining/offer", summary="What a link offers")
def offer(body: Token, session: Session, request: Request) -> LinkOffer:
    """Open to who has the link."""
    act_of(request).silent = True
    return invitations.offer(session, body.token)


@router.post("/joining", status_code=201, summary="Take up what a link offers")
def join(
    body: Joining,
    request: Request,
    response: Response,
    session: Session,
    settings: TheSettings,
    seal: TheSeal,
) -> Person:
    """Makes the account, or adds to the one that is there, and signs in. A link opens once."""
    refuse_foreign(request)
    account = invitations.offer(session, body.token).email or "set-up"
    act_of(request).email = account
    person = guarded(request, seal, account, lambda: invitations.join(session, seal, body))
    return signed_in(request, response, session, settings, seal, person)


@router.get("/libraries/{slug}/people", summary="People of a library")
def of_library(
    slug: Slug, actor: Administering, session: Session, after: After = None, limit: Limit = 100
) -> Page[Member]:
    """Those with a role in it. Administrators of the whole service are not among them."""
    return members.members_page(session, the_library(session, slug).id, after=after, limit=limit)


@router.get("/libraries/{slug}/people/{person_id}", summary="One person of a library")
def member_of_library(
    slug: Slug, person_id: Id, actor: Administering, session: Session, response: Response
) -> Member:
    found = members.member(session, the_library(session, slug).id, person_id)
    return tagged(response, found, MemberChange(role=found.role))


@router.put("/libraries/{slug}/people/{person_id}", summary="Change a role in a library")
def change_member(
    slug: Slug,
    person_id: Id,
    body: MemberChange,
    actor: Administering,
    session: Session,
    request: Request,
    based: BasedOn,
) -> Member:
    library = the_library(session, slug)
    former = members.member(session, library.id, person_id)
    based.on(MemberChange(role=former.role))
    member = members.change_member(session, library.id, person_id, body.role)
    act_of(request).detail = f"{member.email}: {body.role}"
    return based.tagged(member, body)


@router.delete(
    "/libraries/{slug}/people/{person_id}", status_code=204, summary="Take somebody out of a library"
)
def remove_member(slug: Slug, person_id: Id, actor: Administering, session: Session) -> None:
    """The account stays."""
    members.remove_member(session, the_library(session, slug).id, person_id)


@router.get("/libraries/{slug}/invitations", summary="Invitations to a library")
def waiting_here(
    slug: Slug, actor: Administering, session: Session, after: After = None, limit: Limit = 100
) -> Page[Invitation]:
    """Those to this library alone, that have not been taken up."""
    return invitations.waiting_page(session, the_library(session, slug).id, after=after, limit=limit)


@router.post("/libraries/{slug}/invitations", status_code=201, summary="Invite somebody to a library")
def invite_here(
    slug: Slug,
    body: MemberInvitation,
    actor: Administering,
    session: Session,
    request: Request,
    settings: TheSettings,
) -> NewInvitation:
    """Whether the address has an account is not told: who opens the link is asked for its password then."""
    grants = {the_library(session, slug).id: body.role}
    act_of(request).detail = f"{body.email}: {body.role}"
    row, token = invitations.invite(
        session, body.email, body.name, grants=grants, service=False, days=body.days, by=actor.name
    )
    return _told(session, row, token, request, settings)


@router.delete(
    "/libraries/{slug}/invitations/{invitation_id}",
    status_code=204,
    summary="Take an invitation to a library back",
)
def take_back_here(slug: Slug, invitation_id: Id, actor: Administering, session: Session) -> None:
    _take_back(session, the_library(session, slug).id, invitation_id)


def _take_back(session: Session, library_id: int | None, number: int) -> None:
    row = invitations.waiting_one(session, library_id, number)
    if row is None:
        raise ApiError("not-found", f"there is no invitation {number}")
    session.delete(row)


def _told(
    session: Session, row: tables.Invitation, token: str, request: Request, settings: Settings
) -> NewInvitation:
    link = f"{_home(request, settings)}/join#{token}"
    view = invitations.view(session, row)
    mailing = Mailing(settings.mail_sender, tuple(settings.mail_command), settings.smtp)
    fault = None
    if mailing.possible and settings.address is None:
        # By the address that this request came to it could be made to lead anywhere.
        fault = "set PLUMCRATE_ADDRESS to where people reach the service: links are mailed only then"
    elif mailing.possible and not mailing.send(row.email, *_words(view, link)):
        fault = "the mail could not be handed over; the service's log says why"
    mailed = mailing.possible and fault is None
    return NewInvitation(**view.model_dump(), link=link, mailed=mailed, mail_fault=fault)


def _home(request: Request, settings: Settings) -> str:
    return (settings.address or str(request.base_url)).rstrip("/")


def _words(view: Invitation, link: str) -> tuple[str, str]:
    """Subject and text."""
    until = f"{view.expires_at:%d %B %Y, %H:%M %Z}"
    if view.purpose is InvitationPurpose.NEW_PASSWORD:
        subject = "A new password for Plum Crate"
        text = f"{view.by} made a link with which you choose a new password:"
    else:
        subject = "An invitation to Plum Crate"
        text = f"{view.by} invites you to look after pictures with Plum Crate. Open this link:"
    return subject, f"{text}\n\n{link}\n\nIt opens once, and until {until}.\n"

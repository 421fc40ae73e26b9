"""Signing in and out, and what a person does about their own account."""

from __future__ import annotations

import contextlib
from collections.abc import Callable
from typing import TypeVar

from fastapi import Request, Response

from plumcrate.api import auth
from plumcrate.api.acts import act_of
from plumcrate.api.needs import Myself
from plumcrate.api.problems import ApiError
from plumcrate.api.service import service_of
from plumcrate.contract.people import (
    Code,
    PasswordChange,
    PasswordOnly,
    Person,
    RecoveryCodes,
    SecondFactorOffer,
    SignedIn,
    SignIn,
)
from plumcrate.keeping.sealing import Seal
from plumcrate.people import passwords, second_factor, sessions
from plumcrate.people.actor import Actor, of_person, person_view
from plumcrate.records import tables
from plumcrate.refusal import Refusal

from .deps import Id, Session, TheSeal, TheSettings, router_of

router = router_of("sessions")

Checked = TypeVar("Checked")
#: Refusals of which each is a guess that was wrong.
_GUESSES = ("wrong-sign-in", "wrong-code", "wrong-password")


@router.post("/session", summary="Sign in")
def sign_in(
    body: SignIn,
    request: Request,
    response: Response,
    session: Session,
    settings: TheSettings,
    seal: TheSeal,
) -> Person:
    """Sets the session cookie. Where the account has a second factor, the first answer is ``second-factor``:
    send all of it again with the code. After ten failures an address has to wait five minutes; browsers that
    signed in to the account before are counted by themselves."""
    auth.refuse_foreign(request)
    account = body.email.strip().lower()
    act_of(request).email = account
    person = guarded(
        request, seal, account, lambda: sessions.check(session, seal, account, body.password, body.code)
    )
    return signed_in(request, response, session, settings, seal, person)


def guarded(request: Request, seal: Seal, account: str, check: Callable[[], Checked]) -> Checked:
    """What ``check`` answers, as one of few tries. What it raises is counted as a wrong guess."""
    attempts = service_of(request).attempts
    browser = auth.known_browser(request, seal, account)
    tried = (auth.address_of(request), account, browser)
    attempts.begin(*tried)
    try:
        done = check()
    except Refusal as error:
        if error.code not in _GUESSES:
            attempts.take_back(*tried)
        raise
    attempts.take_back(*tried)
    return done


def signed_in(
    request: Request,
    response: Response,
    session: Session,
    settings: TheSettings,
    seal: Seal,
    person: tables.Person,
) -> Person:
    """Signs the browser in, always in a session of its own."""
    token = sessions.begin(
        session,
        person,
        auth.address_of(request),
        request.headers.get("user-agent", ""),
        settings.session_days,
    )
    former = auth.session_token(request)
    if former:
        sessions.end(session, former)
    session.flush()
    auth.give_session(response, settings, token)
    auth.make_known(response, settings, seal, person.email)
    act_of(request).actor = actor = of_person(session, person)
    return person_view(session, actor)


@router.get("/session", summary="Who am I")
def actor(request: Request, session: Session) -> Person | None:
    """Null when nobody has signed in, so that a browser can ask; a key that is not known is refused."""
    try:
        return person_view(session, auth.identify(request))
    except ApiError:
        if request.headers.get("authorization"):
            raise
        return None


@router.delete("/session", status_code=204, summary="Sign out")
def sign_out(request: Request, response: Response, session: Session, settings: TheSettings) -> None:
    token = auth.session_token(request)
    act = act_of(request)
    act.silent = True
    if token:
        auth.refuse_foreign(request)
        with contextlib.suppress(ApiError):  # the session had ended: there is nobody of whom to note it
            act.actor, act.silent = auth.identify(request), False
        sessions.end(session, token)
    auth.take_session(response, settings)


@router.get("/me/sessions", summary="Where I am signed in")
def my_sessions(actor: Myself, session: Session) -> list[SignedIn]:
    return sessions.of(session, actor)


@router.delete("/me/sessions", status_code=204, summary="Sign out everywhere")
def sign_out_everywhere(actor: Myself, session: Session, response: Response, settings: TheSettings) -> None:
    """Here too."""
    sessions.end_all(session, actor.number)
    auth.take_session(response, settings)


@router.delete("/me/sessions/{session_id}", status_code=204, summary="Sign out elsewhere")
def sign_out_there(session_id: Id, actor: Myself, session: Session) -> None:
    if not sessions.end_one(session, actor.number, session_id):
        raise ApiError("not-found", f"you have no session {session_id}")


@router.put("/me/password", status_code=204, summary="Change my password")
def change_password(
    body: PasswordChange,
    actor: Myself,
    request: Request,
    response: Response,
    session: Session,
    settings: TheSettings,
    seal: TheSeal,
) -> None:
    """Signs out everywhere else."""
    person = _confirmed(request, session, seal, actor, body.current)
    person.password_hash = passwords.hash_password(body.new)
    sessions.end_all(session, person.id)
    signed_in(request, response, session, settings, seal, person)


@router.post("/me/second-factor", summary="Begin with a second factor")
def offer_second_factor(
    body: PasswordOnly, actor: Myself, request: Request, session: Session, seal: TheSeal
) -> SecondFactorOffer:
    """Not in force before a code of it was told."""
    return second_factor.offer(_confirmed(request, session, seal, actor, body.password), seal)


@router.put("/me/second-factor", summary="Put the second factor in force")
def begin_second_factor(
    body: Code, actor: Myself, request: Request, session: Session, seal: TheSeal
) -> RecoveryCodes:
    person = session.get_one(tables.Person, actor.number)
    codes = guarded(
        request, seal, person.email, lambda: second_factor.begin(session, person, seal, body.code)
    )
    return RecoveryCodes(codes=codes)


@router.post("/me/recovery-codes", summary="Make new recovery codes")
def recovery_codes(
    body: PasswordOnly, actor: Myself, request: Request, session: Session, seal: TheSeal
) -> RecoveryCodes:
    """Former ones are worth nothing from now on."""
    person = _confirmed(request, session, seal, actor, body.password)
    if person.second_factor_since is None:
        raise ApiError("second-factor-there", "there is no second factor")
    return RecoveryCodes(codes=second_factor.new_recovery_codes(session, person))


@router.post("/me/second-factor/end", status_code=204, summary="Take the second factor away")
def end_second_factor(
    body: PasswordOnly, actor: Myself, request: Request, session: Session, seal: TheSeal
) -> None:
    second_factor.end(session, _confirmed(request, session, seal, actor, body.password))


def _confirmed(request: Request, session: Session, seal: Seal, actor: Actor, password: str) -> tables.Person:
    """The person's own row, after their password. Raises Refusal."""
    person = session.get_one(tables.Person, actor.number)

    def check() -> None:
        if not passwords.fits(person.password_hash, password):
            raise Refusal("wrong-password", "that is not your password; nothing was changed")

    guarded(request, seal, person.email, check)
    return person

"""Links that let somebody in."""

from __future__ import annotations

from pydantic import TypeAdapter

from plumcrate.contract.common import Page
from plumcrate.contract.people import Invitation, InvitationRequest, MemberInvitation, NewInvitation

from . import base
from .base import Call


def page(library: str | None = None, *, after: str | None = None, limit: int = 100) -> Call[Page[Invitation]]:
    """Those that wait: all, or those to one library alone."""
    return base.get(f"{base.within(library)}/invitations", Page[Invitation], after=after, limit=limit)


def invite(request: InvitationRequest) -> Call[NewInvitation]:
    """To any libraries, or to the whole service."""
    return base.post("/invitations", NewInvitation, request)


def invite_member(library: str, request: MemberInvitation) -> Call[NewInvitation]:
    return base.post(f"{base.within(library)}/invitations", NewInvitation, request)


def take_back(number: int, library: str | None = None) -> Call[None]:
    """An invitation that waits."""
    return Call("DELETE", f"{base.within(library)}/invitations/{base.part(number)}", TypeAdapter(type(None)))

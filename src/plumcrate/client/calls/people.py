"""Everybody with an account."""

from __future__ import annotations

from pydantic import TypeAdapter

from plumcrate.contract.common import Page
from plumcrate.contract.people import NewInvitation, PersonChange, PersonRow

from . import base
from .base import Call


def page(*, after: str | None = None, limit: int = 100) -> Call[Page[PersonRow]]:
    return base.get("/people", Page[PersonRow], after=after, limit=limit)


def change(number: int, change: PersonChange) -> Call[PersonRow]:
    """What the change leaves out stays as it is."""
    return Call("PATCH", f"/people/{base.part(number)}", TypeAdapter(PersonRow), body=change)


def remove(number: int) -> Call[None]:
    return Call("DELETE", f"/people/{base.part(number)}", TypeAdapter(type(None)))


def new_password(number: int) -> Call[NewInvitation]:
    """A link with which a person chooses a new password."""
    return base.post(f"/people/{base.part(number)}/new-password", NewInvitation)

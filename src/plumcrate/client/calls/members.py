"""Those with a role in a library."""

from __future__ import annotations

from pydantic import TypeAdapter

from plumcrate.contract.common import Page
from plumcrate.contract.people import Member, MemberChange, Role

from . import base
from .base import Call


def page(library: str, *, after: str | None = None, limit: int = 100) -> Call[Page[Member]]:
    """Those with a role in a library."""
    return base.get(f"{base.within(library)}/people", Page[Member], after=after, limit=limit)


def change(library: str, number: int, role: Role) -> Call[Member]:
    body = MemberChange(role=role)
    return Call("PUT", f"{base.within(library)}/people/{base.part(number)}", TypeAdapter(Member), body=body)


def remove(library: str, number: int) -> Call[None]:
    """The account stays."""
    return Call("DELETE", f"{base.within(library)}/people/{base.part(number)}", TypeAdapter(type(None)))

"""Keys for machines: all, or those of one library."""

from __future__ import annotations

from pydantic import TypeAdapter

from plumcrate.contract.common import Page
from plumcrate.contract.people import Key, KeyRequest, LibraryKeyRequest, NewKey, Rotation

from . import base
from .base import Call


def page(library: str | None = None, *, after: str | None = None, limit: int = 100) -> Call[Page[Key]]:
    """All, or those that open one library alone."""
    return base.get(f"{base.within(library)}/keys", Page[Key], after=after, limit=limit)


def make(request: KeyRequest) -> Call[NewKey]:
    """For any libraries; the answer holds the secret."""
    return base.post("/keys", NewKey, request)


def make_for_library(library: str, request: LibraryKeyRequest) -> Call[NewKey]:
    return base.post(f"{base.within(library)}/keys", NewKey, request)


def rotate(number: int, request: Rotation, library: str | None = None) -> Call[NewKey]:
    """A new secret for the same; the former one goes on for a while."""
    return base.post(f"{base.within(library)}/keys/{base.part(number)}/rotation", NewKey, request)


def revoke(number: int, library: str | None = None) -> Call[None]:
    return Call("DELETE", f"{base.within(library)}/keys/{base.part(number)}", TypeAdapter(type(None)))

"""Pictures that show the same."""

from __future__ import annotations

from pydantic import TypeAdapter

from plumcrate.contract.near_duplicates import KeptApart, NearDuplicates, Redirected, RedirectTo

from . import base
from .base import Call


def page(library: str, *, after: str | None = None, limit: int = 20) -> Call[NearDuplicates]:
    """Groups of pictures that show the same, those with most bytes to spare first."""
    return base.get(f"{base.within(library)}/near-duplicates", NearDuplicates, after=after, limit=limit)


def keep_apart(picture_id: int, apart: bool = True) -> Call[None]:
    """Keeps a picture out of all groups, or lets it be in one again."""
    path = f"/pictures/{base.part(picture_id)}/kept-apart"
    return Call("PUT", path, TypeAdapter(type(None)), body=KeptApart(apart=apart))


def redirect(picture_id: int, to: int) -> Call[Redirected]:
    """Answers a picture with another, wherever Plum Crate serves it or rewrites pages."""
    path = f"/pictures/{base.part(picture_id)}/redirect"
    return Call("PUT", path, TypeAdapter(Redirected), body=RedirectTo(picture_id=to))


def take_redirect_back(picture_id: int) -> Call[None]:
    """Answers a picture with itself again."""
    return Call("DELETE", f"/pictures/{base.part(picture_id)}/redirect", TypeAdapter(type(None)))

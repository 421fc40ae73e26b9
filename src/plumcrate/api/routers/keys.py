"""Keys for machines: all of them, and those of a library."""

from __future__ import annotations

from datetime import timedelta

from fastapi import Request

from plumcrate.api.acts import act_of
from plumcrate.api.needs import Administering, Serving
from plumcrate.api.problems import ApiError
from plumcrate.contract.common import Page
from plumcrate.contract.people import Key, KeyRequest, LibraryKeyRequest, NewKey, Rotation
from plumcrate.people import keys
from plumcrate.people.actor import Actor
from plumcrate.records import tables

from .deps import After, Id, Limit, Session, Slug, router_of, the_library

router = router_of("keys")


@router.get("/keys", summary="List keys")
def every_key(actor: Serving, session: Session, after: After = None, limit: Limit = 100) -> Page[Key]:
    return keys.keys_page(session, None, after=after, limit=limit)


@router.post("/keys", status_code=201, summary="Make a key")
def make(body: KeyRequest, actor: Serving, session: Session, request: Request) -> NewKey:
    """The answer holds the secret, which is shown this once."""
    act_of(request).detail = _words(body)
    return _told(session, *keys.new_key(session, body, actor.name))


@router.delete("/keys/{key_id}", status_code=204, summary="Revoke a key")
def revoke(key_id: Id, actor: Serving, session: Session, request: Request) -> None:
    """At once."""
    _revoke(session, None, key_id, request)


@router.post("/keys/{key_id}/rotation", status_code=201, summary="Give a key a new secret")
def rotate(key_id: Id, body: Rotation, actor: Serving, session: Session, request: Request) -> NewKey:
    """As a new key with the same rights; the former one goes on working for a while."""
    return _rotate(session, None, key_id, body, actor, request)


@router.get("/libraries/{slug}/keys", summary="Keys of a library")
def of_library(
    slug: Slug, actor: Administering, session: Session, after: After = None, limit: Limit = 100
) -> Page[Key]:
    """Those that open this library alone."""
    return keys.keys_page(session, the_library(session, slug).id, after=after, limit=limit)


@router.post("/libraries/{slug}/keys", status_code=201, summary="Make a key for a library")
def make_here(
    slug: Slug, body: LibraryKeyRequest, actor: Administering, session: Session, request: Request
) -> NewKey:
    """The answer holds the secret, which is shown this once."""
    asked = KeyRequest(
        name=body.name, abilities=body.abilities, libraries=[the_library(session, slug).slug], days=body.days
    )
    act_of(request).detail = _words(asked)
    return _told(session, *keys.new_key(session, asked, actor.name))


@router.delete("/libraries/{slug}/keys/{key_id}", status_code=204, summary="Revoke a key of a library")
def revoke_here(slug: Slug, key_id: Id, actor: Administering, session: Session, request: Request) -> None:
    """At once."""
    _revoke(session, the_library(session, slug).id, key_id, request)


@router.post(
    "/libraries/{slug}/keys/{key_id}/rotation",
    status_code=201,
    summary="Give a key of a library a new secret",
)
def rotate_here(
    slug: Slug, key_id: Id, body: Rotation, actor: Administering, session: Session, request: Request
) -> NewKey:
    """As a new key with the same rights; the former one goes on working for a while."""
    return _rotate(session, the_library(session, slug).id, key_id, body, actor, request)


def _words(asked: KeyRequest) -> str:
    """What a key is made for, for the audit log."""
    where = "all libraries" if asked.libraries is None else ", ".join(asked.libraries)
    may = "administer the service" if asked.service else f"{', '.join(asked.abilities)} in {where}"
    return f"{asked.name}: {may}" + (f", for {asked.days} days" if asked.days is not None else "")


def _revoke(session: Session, library_id: int | None, number: int, request: Request) -> None:
    key = _the_key(session, library_id, number)
    act_of(request).detail = key.name
    session.delete(key)


def _rotate(
    session: Session, library_id: int | None, number: int, body: Rotation, actor: Actor, request: Request
) -> NewKey:
    key = _the_key(session, library_id, number)
    act_of(request).detail = f"{key.name}, overlap of {body.overlap_hours} h"
    return _told(session, *keys.rotate(session, key, timedelta(hours=body.overlap_hours), actor.name))


def _the_key(session: Session, library_id: int | None, number: int) -> tables.Key:
    key = keys.key_of(session, library_id, number)
    if key is None:
        raise ApiError("not-found", f"there is no key {number}")
    return key


def _told(session: Session, row: tables.Key, secret: str) -> NewKey:
    return NewKey(**keys.view(session, row).model_dump(), secret=secret)

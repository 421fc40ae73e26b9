"""Incoming webhooks: a site tells which files it changed. Each message is taken in once."""

from __future__ import annotations

import contextlib
from collections.abc import Mapping
from datetime import timedelta

from pydantic import ValidationError
from sqlalchemy import delete, func
from sqlalchemy.dialects.postgresql import insert
from sqlalchemy.orm import Session

from plumcrate.contract.automation import HookAnswer, HookEvent
from plumcrate.keeping.sealing import CannotUnseal, Seal
from plumcrate.keeping.state import StateFolder
from plumcrate.records.queries.libraries import by_slug
from plumcrate.records.tables import HookDelivery, Library
from plumcrate.refusal import Refusal
from plumcrate.storage.errors import NotThere
from plumcrate.webhooks.signing import PREFIX, UNFIT, new_secret, verify

from .arrivals import note_arrivals
from .mapping import note_renditions

#: A message is known again for longer than its time stamp lets it in.
_REMEMBERED = timedelta(minutes=20)


_NOBODYS_SECRET = new_secret()


def give_secret(library: Library, seal: Seal) -> str:
    """A new secret; a former one is worth nothing from now on."""
    secret = new_secret()
    library.hook_secret = seal.close(secret.encode())
    return secret


def _secret_of(library: Library, seal: Seal, state: StateFolder) -> str | None:
    """One from before secrets were sealed is sealed now, where the state folder is the right one. Raises
    :class:`Refusal`."""
    if library.hook_secret is None:
        return None
    if library.hook_secret.startswith(PREFIX.encode()):
        secret = library.hook_secret.decode()
        with contextlib.suppress(NotThere):
            state.check()
            library.hook_secret = seal.close(secret.encode())
        return secret
    try:
        return seal.open(library.hook_secret).decode()
    except CannotUnseal as error:
        raise Refusal("storage", f"the secret cannot be read: {error}") from None


def take_hook(
    session: Session, slug: str, headers: Mapping[str, str], body: bytes, seal: Seal, state: StateFolder
) -> HookAnswer:
    """Takes a message in, once. Raises :class:`Refusal`.

    A library that does not exist, or has no secret yet, answers as one whose signature does not fit.
    """
    library = by_slug(session, slug)
    verify((_secret_of(library, seal, state) if library else None) or _NOBODYS_SECRET, headers, body)
    if library is None:
        raise Refusal("bad-signature", UNFIT)
    try:
        event = HookEvent.model_validate_json(body)
    except ValidationError as error:
        raise Refusal("invalid-request", f"the message does not fit: {error.errors()[0]['msg']}") from None
    session.execute(delete(HookDelivery).where(HookDelivery.received_at < func.now() - _REMEMBERED))
    fresh = session.execute(
        insert(HookDelivery)
        .values(library_id=library.id, hook_id=headers["webhook-id"])
        .on_conflict_do_nothing()
        .returning(HookDelivery.hook_id)
    ).first()
    if fresh is None:
        return HookAnswer(taken=0, repeated=True)
    note_renditions(session, library, event.data.renditions)
    taken = note_arrivals(session, library, event.data.paths, whole=event.data.whole)
    return HookAnswer(taken=taken, repeated=False)

"""Webhooks signed by the Standard Webhooks scheme (https://www.standardwebhooks.com)."""

from __future__ import annotations

import base64
import secrets
from collections.abc import Mapping
from datetime import timedelta

from pydantic import ValidationError
from sqlalchemy import delete, func
from sqlalchemy.dialects.postgresql import insert
from sqlalchemy.orm import Session
from standardwebhooks import Webhook, WebhookVerificationError

from plumcrate.contract import HookAnswer, HookEvent
from plumcrate.records.queries.libraries import by_slug
from plumcrate.records.tables import HookDelivery, Library
from plumcrate.storage.names import fault_of

from .intake import tell
from .refusal import Refusal

#: A message is known again for longer than its time stamp lets it in.
_REMEMBERED = timedelta(minutes=20)
_SIGNATURES, _LONGEST = 20, 200


def new_secret() -> str:
    """A secret with 32 random bytes, as the scheme writes it."""
    return "whsec_" + base64.b64encode(secrets.token_bytes(32)).decode()


_NOBODYS_SECRET = new_secret()


def give_secret(library: Library) -> str:
    """A new secret; a former one is worth nothing from now on."""
    library.hook_secret = new_secret()
    return library.hook_secret


def take_hook(session: Session, slug: str, headers: Mapping[str, str], body: bytes) -> HookAnswer:
    """Takes a message in, once. Raises :class:`Refusal`.

    A library that does not exist, or has no secret yet, answers as one whose signature does not fit.
    """
    library = by_slug(session, slug)
    _verify((library.hook_secret if library else None) or _NOBODYS_SECRET, headers, body)
    if library is None:
        raise Refusal("bad-signature", _UNFIT)
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
    return HookAnswer(taken=tell(session, library, event.data.paths), repeated=False)


_UNFIT = "the signature was not made with this library's secret"


def _verify(secret: str, headers: Mapping[str, str], body: bytes) -> None:
    """Raises :class:`Refusal`."""
    hook_id, stamp = headers.get("webhook-id", ""), headers.get("webhook-timestamp", "")
    if not (
        0 < len(hook_id) <= _LONGEST and fault_of(hook_id) is None and stamp.isdecimal() and len(stamp) < 16
    ):
        raise Refusal("bad-signature", "the headers webhook-id and webhook-timestamp are needed")
    signatures = " ".join(headers.get("webhook-signature", "").split()[:_SIGNATURES])
    given = {"webhook-id": hook_id, "webhook-timestamp": stamp, "webhook-signature": signatures}
    try:
        Webhook(secret).verify(body, given, json_parse=False)
    except WebhookVerificationError as error:
        if "imestamp" in str(error):
            raise Refusal(
                "too-old", "its time is more than five minutes from ours: set both clocks"
            ) from None
        raise Refusal("bad-signature", _UNFIT) from None
    except (ValueError, TypeError, UnicodeError):
        raise Refusal("bad-signature", _UNFIT) from None

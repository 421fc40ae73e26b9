"""What a request with an ``Idempotency-Key`` did is done once, however often the request is sent.

The answer is kept, sealed, in the transaction in which the work was done: neither is there without the
other. Operations that work in transactions of their own (putting an orphaned original back, attaching a
folder again, asking the site) keep it right after. Whoever asks again with the same key gets the same answer
for a day (draft-ietf-httpapi-idempotency-key-header, section 2). An answer that refuses is not kept: nothing
was done.
"""

from __future__ import annotations

import hashlib
from dataclasses import dataclass
from datetime import datetime

from fastapi import Request, Response
from sqlalchemy import func, select
from sqlalchemy.orm import Session

from plumcrate.keeping.sealing import Seal
from plumcrate.keeping.state import StateFolder
from plumcrate.people.actor import Actor
from plumcrate.records.queries.kept_answers import KEPT_FOR
from plumcrate.records.tables import KeptAnswer
from plumcrate.refusal import Refusal

HEADER, REPLAYED = "idempotency-key", "Idempotency-Replayed"
MOST_KEY, _MOST_KEPT = 255, 1_000_000
_KEPT_HEADERS = ("content-type", "location", "etag")
_LOCK = 727_016


class Replay(Exception):
    """The request was answered before."""

    def __init__(self, answer: Response) -> None:
        super().__init__("it was answered before")
        self.answer = answer


@dataclass(frozen=True, slots=True)
class Once:
    """A key as one actor uses it, for one request."""

    actor: str
    key: str
    asked: bytes
    state: StateFolder
    seal: Seal

    def begin(self, session: Session) -> None:
        """Until the session's transaction ends, nobody else does what this key asks for. Raises Refusal,
        and :class:`Replay` where it was done before."""
        number = int.from_bytes(
            hashlib.sha256(f"{self.actor}\n{self.key}".encode()).digest()[:4], "big", signed=True
        )
        if not session.scalar(select(func.pg_try_advisory_xact_lock(_LOCK, number))):
            raise Refusal(
                "request-under-way", "a request with this Idempotency-Key is being answered: ask again then"
            )
        kept = session.get(KeptAnswer, (self.actor, self.key))
        if kept is None or kept.created_at < _now(session) - KEPT_FOR:
            return
        if kept.asked_sha256 != self.asked:
            raise Refusal("key-used", "this Idempotency-Key was used for another request: make a new one")
        headers = {**kept.headers, REPLAYED: "true"}
        raise Replay(Response(self.seal.open(kept.body), kept.status, headers=headers))

    def keep(self, session: Session, answer: Response) -> None:
        """In the transaction in which the work was done. Raises StorageError where the state folder is not
        there, and then nothing is done."""
        body = getattr(answer, "body", None)
        if not isinstance(body, bytes) or len(body) > _MOST_KEPT:
            return
        self.state.check()
        row = KeptAnswer(
            actor=self.actor,
            key=self.key,
            asked_sha256=self.asked,
            status=answer.status_code,
            headers={name: answer.headers[name] for name in _KEPT_HEADERS if name in answer.headers},
            body=self.seal.close(body),
            created_at=_now(session),
        )
        session.merge(row)


def once_of(request: Request, actor: Actor, body: bytes, state: StateFolder, seal: Seal) -> Once | None:
    """None for a request without a key, and for methods that are idempotent by themselves. Raises Refusal for
    a key that cannot be one."""
    if request.method not in ("POST", "PATCH") or HEADER not in request.headers:
        return None
    key = request.headers[HEADER]
    if not 0 < len(key) <= MOST_KEY or not key.isascii() or not key.isprintable():
        raise Refusal("invalid-request", f"an Idempotency-Key is 1 to {MOST_KEY} printable signs of ASCII")
    asked = hashlib.sha256(f"{request.method} {request.url.path}?{request.url.query}\n".encode() + body)
    return Once(f"{actor.kind} {actor.number}", key, asked.digest(), state, seal)


def _now(session: Session) -> datetime:
    return session.scalars(select(func.now())).one()

"""Changes that say what they are based on: RFC 9110, section 13.1.1 (``If-Match``).

A resource's tag speaks of what can be changed of it, and not of what is counted beside: its settings. The tag
comes as ``ETag``; sent back as ``If-Match``, the change is done only where nobody changed the settings
meanwhile.
"""

from __future__ import annotations

import hashlib
import json
from typing import Annotated, TypeVar

from fastapi import Depends, Header, Request, Response
from pydantic import BaseModel
from sqlalchemy import func, select
from sqlalchemy.orm import Session as OrmSession

from plumcrate.contract.people import ActOutcome
from plumcrate.delivery.conditions import lists
from plumcrate.records.tables import AuditRow

from .problems import ApiError
from .transaction import Session

IfMatch = Annotated[str | None, Header(max_length=200, description="The `ETag` of the version changed.")]
View = TypeVar("View", bound=BaseModel)
_LOCK = 727_017
#: So far back is looked for who changed something.
_LATEST_ACTS = 10_000


class Based:
    """The version that a change of one resource is based on. Of two changes of a resource, one waits for the
    other."""

    def __init__(
        self, request: Request, response: Response, session: Session, if_match: IfMatch = None
    ) -> None:
        self._response, self._session, self._wanted = response, session, if_match
        self._target = f"{request.method} {request.url.path.removeprefix('/api/v1')}"
        number = int.from_bytes(hashlib.sha256(str(request.url).encode()).digest()[:4], "big", signed=True)
        session.execute(select(func.pg_advisory_xact_lock(_LOCK, number)))
        session.expire_all()  # what was read before may have been changed while this one waited

    def on(self, settings: BaseModel | None) -> None:
        """Raises ApiError ``changed-meanwhile`` where ``settings``, which are in force, are not those that
        were changed; None: there are none yet."""
        if self._wanted is None or (settings is not None and lists(self._wanted, tag_of(settings))):
            return
        raise changed_meanwhile(self._session, self._target, settings)

    def tagged(self, view: View, settings: BaseModel) -> View:
        """``view`` as the answer, with the tag of what was made of its settings."""
        return tagged(self._response, view, settings)


BasedOn = Annotated[Based, Depends()]


def tagged(response: Response, view: View, settings: BaseModel) -> View:
    """``view`` as the answer, with the tag of its settings."""
    response.headers["ETag"] = tag_of(settings)
    return view


def tag_of(settings: BaseModel) -> str:
    """A strong tag of settings."""
    written = json.dumps(settings.model_dump(mode="json"), sort_keys=True)
    return f'"{hashlib.sha256(written.encode()).hexdigest()[:20]}"'


def changed_meanwhile(session: OrmSession, target: str, settings: BaseModel | None) -> ApiError:
    """What to say to who changed a version that is in force no more: who made the one that is, and what it
    says, as ``current``."""
    latest = select(AuditRow.id).order_by(AuditRow.id.desc()).limit(_LATEST_ACTS).subquery()
    act = session.scalars(
        select(AuditRow)
        .where(AuditRow.id.in_(select(latest.c.id)))
        .where(AuditRow.target == target, AuditRow.outcome == ActOutcome.DONE)
        .order_by(AuditRow.id.desc())
        .limit(1)
    ).first()
    who = (
        f"{act.actor or 'somebody'} changed it at {act.at:%Y-%m-%d %H:%M} UTC"
        if act
        else "it is another by now"
    )
    return ApiError(
        "changed-meanwhile",
        f"{who}. Nothing of yours was saved: look at what it is now, then save yours again",
        by=act.actor if act else None,
        at=act.at.isoformat() if act else None,
        current=None if settings is None else settings.model_dump(mode="json"),
        tag=None if settings is None else tag_of(settings),
    )

"""The audit log: one row an act, added in the act's own transaction where there is one, never changed."""

from __future__ import annotations

from collections.abc import Iterator
from datetime import datetime

from sqlalchemy import Select, or_, select
from sqlalchemy.orm import Session

from plumcrate.contract.common import Page
from plumcrate.contract.people import ActOutcome, AuditEntry
from plumcrate.csv_lines import line
from plumcrate.records.queries import cursors
from plumcrate.records.tables import AuditRow

from .actor import Actor

_LONGEST = 500
_PIECE = 1_000
COLUMNS = ("at", "actor", "kind", "email", "address", "library", "act", "target", "outcome", "detail")


def record(
    session: Session,
    actor: Actor | None,
    act: str,
    *,
    target: str = "",
    library: str | None = None,
    outcome: ActOutcome = ActOutcome.DONE,
    address: str = "",
    detail: str = "",
    email: str | None = None,
) -> None:
    """``email``: whom a stranger said to be."""
    session.add(
        AuditRow(
            actor=_fit(actor.name if actor else ""),
            kind=actor.kind if actor else "stranger",
            email=_fit(actor.email if actor and actor.email else email or "") or None,
            address=_fit(address),
            library=library,
            act=_fit(act),
            target=_fit(target),
            outcome=outcome,
            detail=_fit(detail),
        )
    )


def _fit(text: str) -> str:
    """Bounded, and without what a terminal or the database would take for more than text."""
    plain = text.encode("utf-8", "replace").decode()
    return "".join(character if character.isprintable() else "�" for character in plain[:_LONGEST])


def entries(
    session: Session,
    library: str | None,
    *,
    search: str | None,
    outcome: ActOutcome | None,
    since: datetime | None,
    until: datetime | None,
    after: str | None,
    limit: int,
) -> Page[AuditEntry]:
    """The latest first; ``library`` None for all. Raises Refusal for a cursor of another list."""
    return cursors.by_number(
        session,
        _matching(library, search, outcome, since, until),
        AuditRow.id,
        lambda rows: [AuditEntry.model_validate(row) for row in rows],
        of=f"acts in {library or 'all'}",
        after=after,
        limit=limit,
    )


def as_csv(
    session: Session,
    library: str | None,
    *,
    search: str | None,
    outcome: ActOutcome | None,
    since: datetime | None,
    until: datetime | None,
) -> Iterator[str]:
    """The oldest first, as RFC 4180 has it. No field begins as a formula of a spreadsheet does."""
    yield line(COLUMNS)
    query = _matching(library, search, outcome, since, until).order_by(AuditRow.id)
    for row in session.scalars(query.execution_options(yield_per=_PIECE)):
        yield line(getattr(row, name) or "" for name in COLUMNS)


def _matching(
    library: str | None,
    search: str | None,
    outcome: ActOutcome | None,
    since: datetime | None,
    until: datetime | None,
) -> Select[AuditRow]:
    query = select(AuditRow)
    if library is not None:
        query = query.where(AuditRow.library == library)
    if outcome is not None:
        query = query.where(AuditRow.outcome == outcome)
    if since is not None:
        query = query.where(AuditRow.at >= since)
    if until is not None:
        query = query.where(AuditRow.at < until)
    for word in (search or "").split()[:8]:
        places = (
            AuditRow.actor,
            AuditRow.email,
            AuditRow.act,
            AuditRow.target,
            AuditRow.address,
            AuditRow.library,
            AuditRow.detail,
        )
        query = query.where(or_(*(place.icontains(word, autoescape=True) for place in places)))
    return query

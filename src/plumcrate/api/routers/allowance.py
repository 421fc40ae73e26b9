"""A library's monthly allowance."""

from __future__ import annotations

from datetime import UTC, datetime

from plumcrate.api.needs import Looking, Serving
from plumcrate.contract.allowance import Allowance, AllowanceSettings
from plumcrate.runs.allowance import allowance_view
from plumcrate.runs.runs import automation_of

from .deps import Session, Slug, router_of, the_library

router = router_of("allowance")


@router.get("/libraries/{slug}/allowance", summary="What may be treated in this month")
def allowance(slug: Slug, actor: Looking, session: Session) -> Allowance:
    """Counted once a file and month, whether there is a limit or not."""
    library = the_library(session, slug)
    return allowance_view(session, library, automation_of(library), datetime.now(UTC))


@router.put("/libraries/{slug}/allowance", summary="Set a library's allowance")
def set_allowance(slug: Slug, body: AllowanceSettings, actor: Serving, session: Session) -> Allowance:
    """For administrators of the service. What was used in this month stays used."""
    library = the_library(session, slug)
    library.allowance = body.model_dump(mode="json")
    session.flush()
    return allowance_view(session, library, automation_of(library), datetime.now(UTC))

"""A library's monthly allowance."""

from __future__ import annotations

from datetime import UTC, datetime

from fastapi import Response

from plumcrate.api.conditions import BasedOn, tagged
from plumcrate.api.needs import Looking, Serving
from plumcrate.contract.allowance import Allowance, AllowanceSettings
from plumcrate.runs.allowance import allowance_view
from plumcrate.runs.runs import automation_of

from .deps import Session, Slug, router_of, the_library

router = router_of("allowance")


@router.get("/libraries/{slug}/allowance", summary="What may be treated in this month")
def allowance(slug: Slug, actor: Looking, session: Session, response: Response) -> Allowance:
    """Counted once a file and month, whether there is a limit or not."""
    library = the_library(session, slug)
    view = allowance_view(session, library, automation_of(library), datetime.now(UTC))
    return tagged(response, view, AllowanceSettings.model_validate(library.allowance))


@router.put("/libraries/{slug}/allowance", summary="Set a library's allowance")
def set_allowance(
    slug: Slug, body: AllowanceSettings, actor: Serving, session: Session, based: BasedOn
) -> Allowance:
    """For administrators of the service. What was used in this month stays used."""
    library = the_library(session, slug)
    based.on(AllowanceSettings.model_validate(library.allowance))
    library.allowance = body.model_dump(mode="json")
    session.flush()
    view = allowance_view(session, library, automation_of(library), datetime.now(UTC))
    return based.tagged(view, body)

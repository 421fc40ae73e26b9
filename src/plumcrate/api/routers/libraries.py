"""Libraries and their savings."""

from __future__ import annotations

from fastapi import Request, Response

from plumcrate.api.acts import act_of
from plumcrate.api.conditions import BasedOn, tag_of, tagged
from plumcrate.api.needs import Administering, Looking, Serving
from plumcrate.api.service import service_of
from plumcrate.contract.libraries import Library, LibraryChange, LibraryRequest
from plumcrate.contract.savings import Savings
from plumcrate.intake import connecting
from plumcrate.records.queries.libraries import all_libraries, library_view, library_views
from plumcrate.records.queries.savings import savings

from .deps import Session, Slug, TheSettings, TheState, router_of, the_library

router = router_of("libraries")


@router.get("/libraries", summary="List libraries")
def libraries(actor: Looking, session: Session) -> list[Library]:
    """Those that may be seen."""
    views = library_views(session, all_libraries(session, actor.may_see()))
    return [view.model_copy(update={"tag": tag_of(_settings(view))}) for view in views]


@router.post("/libraries", status_code=201, summary="Connect a library")
def connect(
    body: LibraryRequest, actor: Serving, session: Session, settings: TheSettings, request: Request
) -> Library:
    """Connects a folder tree. Nothing in it is touched; survey it next."""
    library = connecting.connect(session, body, settings.state_dir, actor.name)
    act_of(request).library = library.slug
    return library_view(session, library)


@router.get("/libraries/{slug}", summary="One library with its totals")
def library(slug: Slug, actor: Looking, session: Session, response: Response) -> Library:
    """Its `ETag` is of its settings; it comes back as `If-Match` when they are changed."""
    return _tagged(response, library_view(session, the_library(session, slug)))


@router.patch("/libraries/{slug}", summary="Change a library's settings")
def change(
    slug: Slug,
    body: LibraryChange,
    actor: Administering,
    session: Session,
    based: BasedOn,
    response: Response,
) -> Library:
    row = the_library(session, slug)
    based.on(_settings(library_view(session, row)))
    connecting.change(session, row, body)
    return _tagged(response, library_view(session, row))


def _tagged(response: Response, view: Library) -> Library:
    settings = _settings(view)
    return tagged(response, view.model_copy(update={"tag": tag_of(settings)}), settings)


def _settings(view: Library) -> LibraryChange:
    """What can be changed of a library."""
    return LibraryChange.model_validate(view, from_attributes=True)


@router.delete("/libraries/{slug}", status_code=204, summary="Disconnect a library")
def disconnect(slug: Slug, actor: Serving, session: Session, state: TheState, request: Request) -> None:
    """Forgets the records. Refused while the library holds anything we made, and while anything is under
    way in it: restore all first. Backups of files that were deleted stay on disk for a while."""
    connecting.disconnect(session, the_library(session, slug), state)
    service_of(request).previews.forget(slug)


@router.get("/libraries/{slug}/savings", summary="What was saved")
def the_savings(slug: Slug, actor: Looking, session: Session) -> Savings:
    return savings(session, the_library(session, slug))

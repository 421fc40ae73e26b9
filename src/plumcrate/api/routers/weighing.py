"""Pages of the site: what they weigh, what a recipe would make of them, what to treat on them first."""

from __future__ import annotations

from datetime import UTC, datetime
from typing import Annotated

from fastapi import Query, Response
from sqlalchemy import select

from plumcrate.api.conditions import BasedOn, tagged
from plumcrate.api.needs import Looking, Treating
from plumcrate.api.problems import ApiError
from plumcrate.contract.common import Page
from plumcrate.contract.jobs import Job, JobKind
from plumcrate.contract.runs import Run, RunRequest, Scope
from plumcrate.contract.weighing import (
    Needed,
    NeededRequest,
    PageSettings,
    Point,
    SitePage,
    TreatPage,
    Weighing,
    WeighRequest,
)
from plumcrate.intake.connecting import refuse_odd_schedule
from plumcrate.jobs import long_work as jobs
from plumcrate.keeping.sealing import Seal
from plumcrate.people.actor import Actor
from plumcrate.records import tables
from plumcrate.records.queries import cursors
from plumcrate.records.queries import weighings as queries
from plumcrate.records.queries.jobs import job_view
from plumcrate.records.queries.runs import run_view
from plumcrate.runs.runs import create_run
from plumcrate.weighing import views
from plumcrate.weighing.job import WeighOrder
from plumcrate.weighing.recording import page_of
from plumcrate.weighing.sealing import seal

from .deps import After, Id, Session, Slug, TheQueue, TheState, router_of, the, the_library

router = router_of("weighing")

_MOST_WAITING = 20


@router.post("/libraries/{slug}/weighings", status_code=202, summary="Weigh pages")
def weigh(slug: Slug, body: WeighRequest, actor: Treating, session: Session, queue: TheQueue) -> Job:
    """In a real browser, for real and as each recipe named would have them. A job; its report names the
    weighings."""
    library = the_library(session, slug)
    if queries.open_weighings(session, library.id) >= _MOST_WAITING:
        raise ApiError("too-many", f"{_MOST_WAITING} weighings wait already: let some end, or stop them")
    order = WeighOrder.model_validate(body.model_dump())
    row = jobs.start(session, queue, library, JobKind.WEIGHING, order, actor.name)
    return job_view(session, row, slug)


@router.get("/libraries/{slug}/site-pages", summary="Pages that are weighed")
def site_pages(slug: Slug, actor: Looking, session: Session) -> list[SitePage]:
    library = the_library(session, slug)
    ends, counts = queries.ends_of(session, library.id), queries.counts_of(session, library.id)
    return [
        views.page_view(page, slug, ends.get(page.id), counts.get(page.id, 0))
        for page in queries.pages_of(session, library.id)
    ]


@router.get("/site-pages/{page_id}", summary="One page")
def site_page(page_id: Id, actor: Looking, session: Session, response: Response) -> SitePage:
    view = _view(session, the(session, tables.SitePage, page_id, "page"))
    return tagged(response, view, _settings(view))


@router.put("/libraries/{slug}/site-pages", summary="Settings of a page")
def change_page(
    slug: Slug,
    body: PageSettings,
    actor: Treating,
    session: Session,
    state: TheState,
    based: BasedOn,
    address: Annotated[str, Query(max_length=2_000, pattern=r"^https?://[^\s\x00-\x1f]+$")],
) -> SitePage:
    """Its budget, when it is weighed by itself, and what signs in to it. A page that is not known yet is
    noted."""
    library = the_library(session, slug)
    if body.schedule is not None:
        refuse_odd_schedule(body.schedule)
    page = page_of(session, library.id, address)
    based.on(_settings(_view(session, page)))
    page.budget = body.budget.model_dump(exclude_none=True) if body.budget is not None else None
    page.schedule, page.next_at = body.schedule, None
    if not body.after_runs:
        page.after_runs_since = None
    elif page.after_runs_since is None:
        page.after_runs_since = datetime.now(UTC)
    if body.secrets is not None:
        state.check()
        page.secrets = seal(Seal(state.path), body.secrets)
    session.flush()
    view = _view(session, page)
    return based.tagged(view, _settings(view))


def _settings(view: SitePage) -> PageSettings:
    """What can be changed of a page, and is not secret."""
    return PageSettings(budget=view.budget, schedule=view.schedule, after_runs=view.after_runs)


@router.delete("/site-pages/{page_id}", status_code=204, summary="Forget a page")
def forget_page(page_id: Id, actor: Treating, session: Session) -> None:
    """With all its weighings and shots."""
    session.delete(the(session, tables.SitePage, page_id, "page"))


@router.get("/site-pages/{page_id}/weighings", summary="Weighings of a page")
def of_page(
    page_id: Id,
    actor: Looking,
    session: Session,
    after: After = None,
    limit: Annotated[int, Query(ge=1, le=100)] = 20,
) -> Page[Weighing]:
    """The latest first."""
    page = the(session, tables.SitePage, page_id, "page")
    slug = session.get_one(tables.Library, page.library_id).slug
    seen = _seen(session, actor)
    return cursors.by_number(
        session,
        queries.weighings_of(page_id),
        tables.Weighing.id,
        lambda rows: [views.weighing_view(row, page, slug, seen) for row in rows],
        of=f"weighings of {page_id}",
        after=after,
        limit=limit,
    )


@router.get("/site-pages/{page_id}/history", summary="What a page weighed over time")
def history(page_id: Id, actor: Looking, session: Session) -> list[Point]:
    """Up to 500 weighings, the oldest first."""
    the(session, tables.SitePage, page_id, "page")
    return views.history_of(queries.latest_weighings(session, page_id, 500))


@router.get("/weighings/{weighing_id}", summary="One weighing")
def weighing(weighing_id: Id, actor: Looking, session: Session) -> Weighing:
    row = the(session, tables.Weighing, weighing_id, "weighing")
    return views.weighing_view(row, *_page_and_slug(session, row), _seen(session, actor))


@router.get(
    "/libraries/{slug}/shots/{shot_id}",
    summary="A picture of a page",
    response_class=Response,
    responses={200: {"content": {"image/webp": {}}, "description": "The page as it was seen"}},
)
def shot(slug: Slug, shot_id: Id, actor: Looking, session: Session) -> Response:
    data = queries.shot_bytes(session, the_library(session, slug).id, shot_id)
    if data is None:
        raise ApiError("not-found", f"there is no picture {shot_id} of a page")
    return Response(
        data, media_type="image/webp", headers={"Cache-Control": "private, max-age=31536000, immutable"}
    )


@router.post("/weighings/{weighing_id}/run", status_code=202, summary="Treat what a page shows")
def treat(weighing_id: Id, body: TreatPage, actor: Treating, session: Session) -> Run:
    """The library's pictures of the first view, or all of the page, before all that waits."""
    row = the(session, tables.Weighing, weighing_id, "weighing")
    library = session.get_one(tables.Library, row.library_id)
    numbers: dict[int, None] = {}
    for reading in views.readings_of(row):
        for picture in reading.pictures:
            wanted = body.everything or picture.first_view
            if wanted and picture.picture_id is not None and picture.library == library.slug:
                numbers.setdefault(picture.picture_id)
    there = queries.pictures_there(session, library.id, list(numbers))
    if not there:
        raise ApiError("nothing-to-treat", "the page shows no picture of the library there")
    request = RunRequest(library=library.slug, scope=Scope(pictures=there), first=True)
    return run_view(session, create_run(session, library, request))


@router.post("/weighings/{weighing_id}/needs", status_code=201, summary="Note the size that a place needs")
def need(weighing_id: Id, body: NeededRequest, actor: Treating, session: Session) -> list[Needed]:
    """For the sizes to come. Answers all that are noted in the library."""
    row = the(session, tables.Weighing, weighing_id, "weighing")
    page, _ = _page_and_slug(session, row)
    for reading in views.readings_of(row):
        for picture in reading.pictures:
            if reading.device is body.device and picture.number == body.number:
                known = picture.picture_id is not None and queries.pictures_there(
                    session, row.library_id, [picture.picture_id]
                )
                if not known or not picture.needed_width or picture.picture_id is None:
                    raise ApiError("not-found", "that is no picture of the library, or its size is not known")
                size = picture.needed_width, picture.needed_height
                queries.note_need(session, row.library_id, picture.picture_id, size, page.address)
                return queries.needs_of(session, row.library_id)
    raise ApiError("not-found", f"there is no picture {body.number} on {body.device}")


@router.get("/libraries/{slug}/needs", summary="Sizes that places need")
def needs(slug: Slug, actor: Looking, session: Session) -> list[Needed]:
    """The latest first."""
    return queries.needs_of(session, the_library(session, slug).id)


@router.delete("/libraries/{slug}/needs/{need_id}", status_code=204, summary="Forget a needed size")
def forget_need(slug: Slug, need_id: Id, actor: Treating, session: Session) -> None:
    if not queries.forget_need(session, the_library(session, slug).id, need_id):
        raise ApiError("not-found", f"there is no needed size {need_id}")


def _seen(session: Session, actor: Actor) -> set[str]:
    """The short names of the libraries that may be seen."""
    return set(session.scalars(select(tables.Library.slug).where(actor.may_see())))


def _page_and_slug(session: Session, row: tables.Weighing) -> tuple[tables.SitePage, str]:
    page = session.get_one(tables.SitePage, row.page_id)
    return page, session.get_one(tables.Library, row.library_id).slug


def _view(session: Session, page: tables.SitePage) -> SitePage:
    slug = session.get_one(tables.Library, page.library_id).slug
    ends, counts = queries.ends_of(session, page.library_id), queries.counts_of(session, page.library_id)
    return views.page_view(page, slug, ends.get(page.id), counts.get(page.id, 0))

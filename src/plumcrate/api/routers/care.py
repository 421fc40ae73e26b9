"""Looking after a library: its backups, checks against the records, forecasts."""

from __future__ import annotations

import shutil
from datetime import timedelta
from typing import Annotated, TypeVar

from fastapi import Path
from fastapi.responses import FileResponse
from sqlalchemy import ColumnElement, func, select, true
from sqlalchemy.orm import Session as OrmSession

from plumcrate import contract
from plumcrate.api.auth import Administering, Looking, Treating
from plumcrate.api.problems import ApiError
from plumcrate.contract import JobState
from plumcrate.keeping.changes import Note
from plumcrate.keeping.keeper import Keeper
from plumcrate.keeping.orphans import orphans
from plumcrate.keeping.prune import Which, claimed, orphaned, prune
from plumcrate.keeping.recognising import recognise_library
from plumcrate.records import tables
from plumcrate.records.queries.libraries import check_view, current_recipe, forecast_view
from plumcrate.storage.names import fault_of_new, shown
from plumcrate.work.feeding import start_job
from plumcrate.work.intake import tell
from plumcrate.work.locks import PATH_LOCK, path_key
from plumcrate.work.reading import is_picture

from .deps import (
    Id,
    Limit,
    Offset,
    Session,
    Slug,
    TheDatabase,
    TheQueue,
    TheState,
    router_of,
    the,
    the_library,
)

BackupId = Annotated[int, Path(ge=1, le=2**63 - 1)]
#: So many forecasts and checks one person may have under way.
_MOST_OPEN = 3

router = router_of("care")


@router.get("/libraries/{slug}/backups", summary="What the backups hold")
def backups(slug: Slug, person: Looking, session: Session, state: TheState) -> contract.Backups:
    library = the_library(session, slug)
    size = tables.Backup.size
    needed, orphans = claimed(), orphaned()
    row = session.execute(
        select(
            func.count(),
            func.coalesce(func.sum(size), 0),
            func.count().filter(needed),
            func.coalesce(func.sum(size).filter(needed), 0),
            func.count().filter(orphans),
            func.coalesce(func.sum(size).filter(orphans), 0),
            func.min(tables.Backup.created_at),
        ).where(tables.Backup.library_id == library.id, tables.Backup.pruned_at.is_(None))
    ).one()
    return contract.Backups(
        backups=row[0],
        bytes=int(row[1]),
        needed=row[2],
        bytes_needed=int(row[3]),
        orphaned=row[4],
        bytes_orphaned=int(row[5]),
        oldest_at=row[6],
        folder=str(state.backups_of(slug)),
        bytes_free=shutil.disk_usage(state.path).free if state.path.is_dir() else None,
    )


@router.get("/libraries/{slug}/orphans", summary="Backups that lost their file")
def the_orphans(
    slug: Slug, person: Looking, session: Session, offset: Offset = 0, limit: Limit = 60
) -> contract.Page[contract.Orphan]:
    """Of files that somebody deleted, moved away or overwritten; the latest first."""
    return orphans(session, the_library(session, slug).id, offset, limit)


@router.get(
    "/libraries/{slug}/orphans/{backup_id}/content",
    summary="The bytes of such a backup",
    response_class=FileResponse,
    responses={200: {"content": {"application/octet-stream": {}}, "description": "The bytes, to be saved"}},
)
def orphan_content(
    slug: Slug, backup_id: BackupId, person: Looking, session: Session, state: TheState
) -> FileResponse:
    row = _orphan(session, slug, backup_id)
    place = Keeper.of(state.database, the_library(session, slug), state).backups.place(row.sha256)
    state.check()
    if not place.is_file():
        raise ApiError("not-found", f"the backup of {row.path} is not in the store")
    name = row.path.rpartition("/")[2] or "backup"
    return FileResponse(place, media_type="application/octet-stream", filename=name)


@router.post("/libraries/{slug}/orphans/{backup_id}/restore", summary="Put such a backup into the library")
def restore_orphan(
    slug: Slug,
    backup_id: BackupId,
    body: contract.PutBackRequest,
    person: Treating,
    database: TheDatabase,
    state: TheState,
) -> contract.Orphan:
    """Under its former path, or another that is free. It is then a file of the library as any other."""
    with database.begin() as session:
        library, row = the_library(session, slug), _orphan(session, slug, backup_id)
    path = body.path or row.path
    fault = fault_of_new(path) or (None if is_picture(path) else "does not end as pictures do")
    if fault is not None:
        raise ApiError("invalid-request", f"the name {shown(path)} {fault}")
    with database.advisory_lock(PATH_LOCK, path_key(library.id, path)) as free:
        if not free:
            raise ApiError("name-taken", f"something is being written to {path} just now")
        keeper = Keeper.of(database, library, state)
        keeper.put_back_as(row.sha256, path, Note(detail={"by": person.name}))
    with database.begin() as session:
        tell(session, session.get_one(tables.Library, library.id), [path], contract.NewFiles.BY_HAND)
    return contract.Orphan(id=row.id, path=path, size=row.size, created_at=row.created_at)


def _orphan(session: OrmSession, slug: str, backup_id: int) -> tables.Backup:
    library = the_library(session, slug)
    row = session.get(tables.Backup, backup_id)
    if row is None or row.library_id != library.id or row.pruned_at is not None:
        raise ApiError("not-found", f"{library.name} has no backup {backup_id}")
    return row


@router.post("/libraries/{slug}/recognise", summary="Say that a library's folder is the right one, as it is")
def recognise(
    slug: Slug, body: contract.RecogniseRequest, person: Administering, database: TheDatabase, state: TheState
) -> contract.Recognised:
    """For a folder that lost its mark, was moved or copied to another volume, and for changes that cannot be
    settled because their files are gone for good. Nothing is deleted."""
    if body.confirm != slug:
        raise ApiError("not-confirmed", f"confirm with the library's short name, {slug}")
    with database.begin() as session:
        library = the_library(session, slug)
    return recognise_library(Keeper.of(database, library, state))


@router.post("/libraries/{slug}/backups/prune", summary="Delete backups")
def prune_backups(
    slug: Slug,
    body: contract.PruneRequest,
    person: Administering,
    database: TheDatabase,
    state: TheState,
) -> contract.Pruned:
    """Deletes backups by age, or all. Those that are the only original of a treated file stay unless
    ``needed_too`` says otherwise, and orphaned ones unless ``orphans_too`` does; a file without a backup can
    never be put back."""
    with database.begin() as session:
        library = the_library(session, slug)
    if body.confirm != slug:
        raise ApiError("not-confirmed", f"to delete backups, confirm with the library's short name, {slug}")
    age: ColumnElement[bool] = true()
    if body.older_than_days is not None:
        # A person who says so goes by the calendar; what happens by itself also by the days seen.
        age = tables.Backup.created_at < func.now() - timedelta(days=body.older_than_days)
    which = Which(age, orphans=body.orphans_too, needed=body.needed_too)
    return prune(Keeper.of(database, library, state), which, note=f"deleted by {person.name}")


@router.post("/libraries/{slug}/checks", status_code=202, summary="Compare library, backups and records")
def start_check(
    slug: Slug, body: contract.CheckRequest, person: Treating, session: Session, queue: TheQueue
) -> contract.Check:
    """Reads every treated file, copy and backup, and mends differences when asked to."""
    library = _locked(session, slug)
    _refuse_second(session, tables.Check, library, "check")
    row = tables.Check(library_id=library.id, mend=body.mend, findings=[])
    start_job(session, queue, row)
    session.refresh(row)
    return check_view(row, slug)


@router.get("/libraries/{slug}/checks", summary="The latest checks")
def checks(slug: Slug, person: Looking, session: Session) -> list[contract.Check]:
    library = the_library(session, slug)
    query = select(tables.Check).where(tables.Check.library_id == library.id)
    return [
        check_view(row, slug) for row in session.scalars(query.order_by(tables.Check.id.desc()).limit(10))
    ]


@router.get("/checks/{check_id}", summary="One check")
def check(check_id: Id, person: Looking, session: Session) -> contract.Check:
    row = the(session, tables.Check, check_id, "check")
    return check_view(row, session.get_one(tables.Library, row.library_id).slug)


@router.post("/libraries/{slug}/forecasts", status_code=202, summary="Forecast the saving")
def start_forecast(
    slug: Slug, body: contract.ForecastRequest, person: Treating, session: Session, queue: TheQueue
) -> contract.Forecast:
    """Treats a sample in memory for a while and reckons the rest. Nothing is written to the library."""
    library = _locked(session, slug)
    _refuse_second(session, tables.Forecast, library, "forecast")
    theirs = tables.Forecast.by == person.name, tables.Forecast.state.in_(_OPEN)
    if (session.scalar(select(func.count()).where(*theirs)) or 0) >= _MOST_OPEN:
        raise ApiError("too-many", f"you have {_MOST_OPEN} forecasts under way; stop one, or wait")
    recipe = current_recipe(session, library.id)
    row = tables.Forecast(
        by=person.name,
        library_id=library.id,
        settings={"recipe": recipe.settings, "seconds": body.seconds},
        recipe_version=recipe.version,
    )
    start_job(session, queue, row)
    session.refresh(row)
    return forecast_view(session, row, library)


@router.get("/libraries/{slug}/forecasts", summary="The latest forecasts")
def forecasts(slug: Slug, person: Looking, session: Session) -> list[contract.Forecast]:
    library = the_library(session, slug)
    query = select(tables.Forecast).where(tables.Forecast.library_id == library.id)
    rows = session.scalars(query.order_by(tables.Forecast.id.desc()).limit(5))
    return [forecast_view(session, row, library) for row in rows]


@router.get("/forecasts/{forecast_id}", summary="One forecast")
def one_forecast(forecast_id: Id, person: Looking, session: Session) -> contract.Forecast:
    row = the(session, tables.Forecast, forecast_id, "forecast")
    return forecast_view(session, row, session.get_one(tables.Library, row.library_id))


@router.post("/checks/{check_id}/stop", summary="Stop a check")
def stop_check(check_id: Id, person: Treating, session: Session) -> contract.Check:
    """What it found and mended so far stays."""
    row = _stopped(session, tables.Check, check_id, "check")
    return check_view(row, session.get_one(tables.Library, row.library_id).slug)


@router.post("/forecasts/{forecast_id}/stop", summary="Stop a forecast")
def stop_forecast(forecast_id: Id, person: Treating, session: Session) -> contract.Forecast:
    row = _stopped(session, tables.Forecast, forecast_id, "forecast")
    return forecast_view(session, row, session.get_one(tables.Library, row.library_id))


_OPEN = (JobState.WAITING, JobState.RUNNING)
Job = TypeVar("Job", tables.Check, tables.Forecast)


def _locked(session: OrmSession, slug: str) -> tables.Library:
    """The library, locked, so that two requests do not start the same."""
    library = the_library(session, slug)
    session.execute(select(tables.Library.id).where(tables.Library.id == library.id).with_for_update())
    return library


def _refuse_second(session: OrmSession, table: type[Job], library: tables.Library, noun: str) -> None:
    number = session.scalar(
        select(table.id).where(table.library_id == library.id, table.state.in_(_OPEN)).limit(1)
    )
    if number is not None:
        raise ApiError(f"{noun}-open", f"{noun} {number} is under way; follow it, or stop it", number=number)


def _stopped(session: OrmSession, table: type[Job], number: int, noun: str) -> Job:
    row = session.get(table, number, with_for_update=True)
    if row is None:
        raise ApiError("not-found", f"there is no {noun} {number}")
    if row.state not in _OPEN:
        raise ApiError("ended", f"{noun} {number} has already {row.state}")
    row.state, row.finished_at = JobState.STOPPED, func.now()
    session.flush()
    session.refresh(row)
    return row

"""Looking after a library: its backups, checks against the records, forecasts."""

from __future__ import annotations

import shutil
from datetime import UTC, datetime, timedelta

from fastapi import APIRouter
from sqlalchemy import func, select

from plumcrate import contract
from plumcrate.api.auth import Administering, Looking, Treating
from plumcrate.api.problems import ApiError
from plumcrate.keeping.backups import BackupStore
from plumcrate.keeping.keeper import Keeper
from plumcrate.keeping.prune import needed, prune
from plumcrate.records import tables
from plumcrate.records.queries.libraries import check_view, current_recipe, forecast_view
from plumcrate.storage.folder import Folder
from plumcrate.work.feeding import start_job

from .deps import Session, TheDatabase, TheQueue, TheSettings, the, the_library

router = APIRouter(tags=["care"])


@router.get("/libraries/{slug}/backups", summary="What the backups hold")
def backups(slug: str, person: Looking, session: Session, settings: TheSettings) -> contract.Backups:
    library = the_library(session, slug)
    place = settings.backups_of(slug)
    claimed = needed()
    size = tables.Backup.size
    row = session.execute(
        select(
            func.count(),
            func.coalesce(func.sum(size), 0),
            func.count().filter(claimed),
            func.coalesce(func.sum(size).filter(claimed), 0),
            func.min(tables.Backup.created_at),
        ).where(tables.Backup.library_id == library.id, tables.Backup.pruned_at.is_(None))
    ).one()
    disk = settings.state_dir if settings.state_dir.is_dir() else None
    return contract.Backups(
        backups=row[0],
        bytes=int(row[1]),
        needed=row[2],
        bytes_needed=int(row[3]),
        oldest_at=row[4],
        folder=str(place),
        bytes_free=shutil.disk_usage(disk).free if disk else None,
    )


@router.post("/libraries/{slug}/backups/prune", summary="Delete backups")
def prune_backups(
    slug: str,
    body: contract.PruneRequest,
    person: Administering,
    database: TheDatabase,
    settings: TheSettings,
) -> contract.Pruned:
    """Deletes backups by age, or all. Those that are the only original of a treated file stay unless
    ``needed_too`` says otherwise; a file without a backup can never be put back."""
    with database.begin() as session:
        library = the_library(session, slug)
    if body.confirm != slug:
        raise ApiError("not-confirmed", f"to delete backups, confirm with the library's short name, {slug}")
    before = None
    if body.older_than_days is not None:
        before = datetime.now(UTC) - timedelta(days=body.older_than_days)
    keeper = Keeper(database, library.id, Folder(library.root), BackupStore(settings.backups_of(slug)))
    return prune(keeper, before, needed_too=body.needed_too, note=f"deleted by {person.name}")


@router.post("/libraries/{slug}/checks", status_code=202, summary="Compare library, backups and records")
def start_check(
    slug: str, body: contract.CheckRequest, person: Treating, session: Session, queue: TheQueue
) -> contract.Check:
    """Reads every treated file, copy and backup, and mends differences when asked to."""
    library = the_library(session, slug)
    row = tables.Check(library_id=library.id, mend=body.mend, findings=[])
    start_job(session, queue, row)
    session.refresh(row)
    return check_view(row, slug)


@router.get("/libraries/{slug}/checks", summary="The latest checks")
def checks(slug: str, person: Looking, session: Session) -> list[contract.Check]:
    library = the_library(session, slug)
    query = select(tables.Check).where(tables.Check.library_id == library.id)
    return [
        check_view(row, slug) for row in session.scalars(query.order_by(tables.Check.id.desc()).limit(10))
    ]


@router.get("/checks/{check_id}", summary="One check")
def check(check_id: int, person: Looking, session: Session) -> contract.Check:
    row = the(session, tables.Check, check_id, "check")
    return check_view(row, session.get_one(tables.Library, row.library_id).slug)


@router.post("/libraries/{slug}/forecasts", status_code=202, summary="Forecast the saving")
def start_forecast(
    slug: str, body: contract.ForecastRequest, person: Looking, session: Session, queue: TheQueue
) -> contract.Forecast:
    """Treats a sample in memory for a while and reckons the rest. Nothing is written to the library."""
    library = the_library(session, slug)
    recipe = current_recipe(session, library.id)
    row = tables.Forecast(
        library_id=library.id,
        settings={"recipe": recipe.settings, "seconds": body.seconds},
        recipe_version=recipe.version,
    )
    start_job(session, queue, row)
    session.refresh(row)
    return forecast_view(session, row, library)


@router.get("/libraries/{slug}/forecasts", summary="The latest forecasts")
def forecasts(slug: str, person: Looking, session: Session) -> list[contract.Forecast]:
    library = the_library(session, slug)
    query = select(tables.Forecast).where(tables.Forecast.library_id == library.id)
    rows = session.scalars(query.order_by(tables.Forecast.id.desc()).limit(5))
    return [forecast_view(session, row, library) for row in rows]


@router.get("/forecasts/{forecast_id}", summary="One forecast")
def one_forecast(forecast_id: int, person: Looking, session: Session) -> contract.Forecast:
    row = the(session, tables.Forecast, forecast_id, "forecast")
    return forecast_view(session, row, session.get_one(tables.Library, row.library_id))

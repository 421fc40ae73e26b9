"""Libraries, their surveys and their savings."""

from __future__ import annotations

import os
import re
import unicodedata
from datetime import UTC, datetime
from pathlib import Path

from croniter import CroniterError, croniter
from sqlalchemy import Select, delete, func, select
from sqlalchemy.orm import Session as OrmSession

from plumcrate import contract
from plumcrate.api.auth import Administering, Looking, Treating
from plumcrate.api.problems import ApiError
from plumcrate.contract import FileState, ItemState, RunState, SurveyState
from plumcrate.keeping.keeper import Keeper
from plumcrate.records import tables
from plumcrate.records.database import notify
from plumcrate.records.queries.libraries import library_view, new_library, survey_view
from plumcrate.records.queries.savings import savings
from plumcrate.settings import Settings
from plumcrate.storage.errors import StorageError
from plumcrate.storage.grouping import USUAL_PATTERNS, PatternError, compile_pattern
from plumcrate.storage.names import shown
from plumcrate.work.locks import CONNECT_LOCK, RUNS_LOCK
from plumcrate.work.runs import start_survey

from .deps import Id, Session, Slug, TheDatabase, TheQueue, TheSettings, TheState, router_of, the, the_library

router = router_of("libraries")


@router.get("/libraries", summary="List libraries")
def libraries(person: Looking, session: Session) -> list[contract.Library]:
    rows = session.scalars(select(tables.Library).order_by(tables.Library.name))
    return [library_view(session, row) for row in rows]


@router.post("/libraries", status_code=201, summary="Connect a library")
def connect(
    body: contract.LibraryRequest, person: Administering, session: Session, service: TheSettings
) -> contract.Library:
    """Connects a folder tree. Nothing in it is touched; survey it next."""
    # One at a time, so that no two overlap.
    session.execute(select(func.pg_advisory_xact_lock(CONNECT_LOCK, 1)))
    root = _checked_root(session, body.root, service)
    slug = body.slug or _slug(body.name)
    if session.scalar(select(tables.Library.id).where(tables.Library.slug == slug)):
        raise ApiError("slug-taken", f"another library is called {slug}; give another short name")
    settings = contract.RecipeSettings(level=body.level, webp=body.webp, avif=body.avif)
    patterns = _checked_patterns(body.patterns)
    library = new_library(session, slug, body.name.strip(), str(root), patterns, settings, person.name)
    return library_view(session, library)


@router.get("/libraries/{slug}", summary="One library with its totals")
def library(slug: Slug, person: Looking, session: Session) -> contract.Library:
    return library_view(session, the_library(session, slug))


@router.patch("/libraries/{slug}", summary="Change a library's settings")
def change(
    slug: Slug, body: contract.LibraryChange, person: Administering, session: Session
) -> contract.Library:
    row = the_library(session, slug)
    if body.name is not None:
        row.name = body.name
    if body.patterns is not None:
        row.patterns = _checked_patterns(body.patterns)
    if body.upkeep is not None:
        _check_schedules(body.upkeep)
        changed = body.upkeep.model_dump(mode="json", exclude_unset=True)
        merged = contract.Upkeep.model_validate(row.upkeep | changed)
        row.upkeep = merged.model_dump(mode="json")
        row.next_survey_at = row.next_run_at = None  # reckoned anew by the feeder
    session.flush()
    return library_view(session, row)


@router.delete("/libraries/{slug}", status_code=204, summary="Disconnect a library")
def disconnect(
    slug: Slug, person: Administering, session: Session, database: TheDatabase, state: TheState
) -> None:
    """Forgets the records. Refused while the library holds anything we made, and while anything is under
    way in it: restore all first. Backups of files that were deleted stay on disk."""
    row = the_library(session, slug)
    # Whoever begins a change or a run of the library waits for this row, or was here first and is seen.
    session.execute(select(func.pg_advisory_xact_lock(RUNS_LOCK, row.id & 0x7FFFFFFF)))
    session.execute(select(tables.Library.id).where(tables.Library.id == row.id).with_for_update())
    _refuse_while_busy(session, row)
    treated = session.scalar(
        select(tables.File.id)
        .where(
            tables.File.library_id == row.id,
            tables.File.before_sha256.is_not(None),
            tables.File.state != FileState.GONE,
        )
        .limit(1)
    ) or session.scalar(select(tables.Copy.id).where(tables.Copy.library_id == row.id).limit(1))
    if treated:
        raise ApiError(
            "library-treated", "restore all its pictures first, so that every original is back in its place"
        )
    if row.marked_at is not None:
        try:
            Keeper.of(database, row, state).store.remove_mark()
        except StorageError as error:
            raise ApiError("storage", f"{error}: it cannot be left clean before it is back") from None
    runs = select(tables.Run.id).where(tables.Run.library_id == row.id)
    session.execute(delete(tables.Item).where(tables.Item.run_id.in_(runs)))
    session.delete(row)


def _refuse_while_busy(session: OrmSession, library: tables.Library) -> None:
    """Raises ApiError ``library-busy`` while a change, a run or a job of the library is open."""
    runs = select(tables.Run.id).where(tables.Run.library_id == library.id)
    under_way = {
        "a change that is not settled": select(tables.Journal.id).where(
            tables.Journal.library_id == library.id
        ),
        "a run": runs.where(tables.Run.state.in_([RunState.RUNNING, RunState.PAUSED])),
        "a file in hand": select(tables.Item.id).where(
            tables.Item.run_id.in_(runs), tables.Item.state == ItemState.WORKING
        ),
    }
    for noun, table in (
        ("a survey", tables.Survey),
        ("a check", tables.Check),
        ("a forecast", tables.Forecast),
    ):
        under_way[noun] = _open_jobs(table, library.id)
    for noun, query in under_way.items():
        if session.scalar(query.limit(1)) is not None:
            raise ApiError("library-busy", f"{noun} is under way in {library.name}: stop it, or wait for it")


def _open_jobs(
    table: type[tables.Survey] | type[tables.Check] | type[tables.Forecast], library_id: int
) -> Select[int]:
    return select(table.id).where(table.library_id == library_id, table.state.in_(["waiting", "running"]))


@router.post("/libraries/{slug}/surveys", status_code=202, summary="Start a survey")
def survey(slug: Slug, person: Treating, session: Session, queue: TheQueue) -> contract.Survey:
    row = the_library(session, slug)
    session.execute(select(tables.Library.id).where(tables.Library.id == row.id).with_for_update())
    open_survey = session.scalar(
        select(tables.Survey.id).where(
            tables.Survey.library_id == row.id,
            tables.Survey.state.in_([SurveyState.WAITING, SurveyState.RUNNING]),
        )
    )
    if open_survey:
        raise ApiError(
            "survey-open", f"survey {open_survey} is under way; follow it instead", survey=open_survey
        )
    started = tables.Survey(library_id=row.id)
    session.add(started)
    session.flush()
    start_survey(session, queue, started)
    notify(session, survey=started.id)
    session.flush()
    session.refresh(started)
    return survey_view(started, slug)


@router.get("/libraries/{slug}/surveys", summary="The latest surveys")
def surveys(slug: Slug, person: Looking, session: Session) -> list[contract.Survey]:
    row = the_library(session, slug)
    rows = session.scalars(
        select(tables.Survey)
        .where(tables.Survey.library_id == row.id)
        .order_by(tables.Survey.id.desc())
        .limit(10)
    )
    return [survey_view(one, slug) for one in rows]


@router.get("/surveys/{survey_id}", summary="One survey")
def one_survey(survey_id: Id, person: Looking, session: Session) -> contract.Survey:
    row = the(session, tables.Survey, survey_id, "survey")
    return survey_view(row, session.get_one(tables.Library, row.library_id).slug)


@router.get("/libraries/{slug}/savings", summary="What was saved")
def the_savings(slug: Slug, person: Looking, session: Session) -> contract.Savings:
    return savings(session, the_library(session, slug))


def _check_schedules(upkeep: contract.Upkeep) -> None:
    for schedule in (upkeep.survey_schedule, upkeep.run_schedule):
        if schedule is not None and not _comes(schedule):
            raise ApiError(
                "invalid-request",
                f"{schedule!r} is no schedule: give minute, hour, day, month and weekday, such as 30 2 * * *",
            )


def _comes(schedule: str) -> bool:
    """Whether a schedule is one, and its time ever comes: 30 February does not."""
    if len(schedule) > 200 or len(schedule.split()) != 5:
        return False
    try:
        croniter(schedule, datetime.now(UTC)).get_next(datetime)
    except (CroniterError, ValueError, ArithmeticError):
        return False
    return True


def _checked_patterns(patterns: list[str] | None) -> list[str]:
    if patterns is None:
        return list(USUAL_PATTERNS)
    try:
        for pattern in patterns:
            compile_pattern(pattern)
    except PatternError as error:
        raise ApiError("invalid-request", str(error)) from None
    return patterns


def _checked_root(session: OrmSession, given: str, settings: Settings) -> Path:
    path = Path(given)
    if not path.is_absolute():
        raise ApiError("invalid-request", "give the folder's absolute path, as the service sees it")
    try:
        root = Path(os.path.realpath(path))
    except (OSError, ValueError):
        raise ApiError("folder-missing", f"{shown(given)} cannot be a folder") from None
    try:
        there = root.is_dir()
    except (OSError, ValueError):
        there = False
    if not there:
        raise ApiError("folder-missing", f"there is no folder {shown(given)} on the service's machine")
    if not os.access(root, os.R_OK | os.X_OK):
        raise ApiError("folder-unreadable", f"the service may not read {given}: check its owner and mode")
    if not os.access(root, os.W_OK):
        raise ApiError("folder-read-only", f"the service may not write {given}: check its owner and mode")
    state = Path(os.path.realpath(settings.state_dir))
    if state.is_relative_to(root) or root.is_relative_to(state):
        raise ApiError("library-overlaps", "the folder and the service's own state folder must not overlap")
    for other in session.scalars(select(tables.Library)):
        if root.is_relative_to(other.root) or Path(other.root).is_relative_to(root):
            raise ApiError(
                "library-overlaps",
                f"{given} and the library {other.name} ({other.root}) share files; "
                "a file may belong to one library only",
            )
    return root


def _slug(name: str) -> str:
    plain = unicodedata.normalize("NFKD", name).encode("ascii", "ignore").decode().lower()
    return re.sub(r"[^a-z0-9]+", "-", plain).strip("-")[:60].strip("-") or "library"

"""Libraries, their surveys and their savings."""

from __future__ import annotations

import os
import re
import unicodedata
from pathlib import Path

from croniter import croniter
from fastapi import APIRouter
from sqlalchemy import delete, select
from sqlalchemy.orm import Session as OrmSession

from plumcrate import contract
from plumcrate.api.auth import Administering, Looking, Treating
from plumcrate.api.problems import ApiError
from plumcrate.contract import SurveyState
from plumcrate.records import tables
from plumcrate.records.database import notify
from plumcrate.records.queries.libraries import library_view, new_library, survey_view
from plumcrate.records.queries.savings import savings
from plumcrate.settings import Settings
from plumcrate.storage.grouping import USUAL_PATTERNS, PatternError, compile_pattern
from plumcrate.work.runs import start_survey

from .deps import Session, TheQueue, TheSettings, the, the_library

router = APIRouter(tags=["libraries"])


@router.get("/libraries", summary="List libraries")
def libraries(person: Looking, session: Session) -> list[contract.Library]:
    rows = session.scalars(select(tables.Library).order_by(tables.Library.name))
    return [library_view(session, row) for row in rows]


@router.post("/libraries", status_code=201, summary="Connect a library")
def connect(
    body: contract.LibraryRequest, person: Administering, session: Session, service: TheSettings
) -> contract.Library:
    """Connects a folder tree. Nothing in it is touched; survey it next."""
    root = _checked_root(session, body.root, service)
    slug = body.slug or _slug(body.name)
    if session.scalar(select(tables.Library.id).where(tables.Library.slug == slug)):
        raise ApiError("slug-taken", f"another library is called {slug}; give another short name")
    settings = contract.RecipeSettings(level=body.level, webp=body.webp, avif=body.avif)
    patterns = _checked_patterns(body.patterns)
    library = new_library(session, slug, body.name.strip(), str(root), patterns, settings, person.name)
    return library_view(session, library)


@router.get("/libraries/{slug}", summary="One library with its totals")
def library(slug: str, person: Looking, session: Session) -> contract.Library:
    return library_view(session, the_library(session, slug))


@router.patch("/libraries/{slug}", summary="Change a library's settings")
def change(
    slug: str, body: contract.LibraryChange, person: Administering, session: Session
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
def disconnect(slug: str, person: Administering, session: Session) -> None:
    """Forgets the records. Refused while the library holds anything we made: restore all first."""
    row = the_library(session, slug)
    treated = session.scalar(
        select(tables.File.id)
        .where(tables.File.library_id == row.id, tables.File.before_sha256.is_not(None))
        .limit(1)
    ) or session.scalar(select(tables.Copy.id).where(tables.Copy.library_id == row.id).limit(1))
    if treated:
        raise ApiError(
            "library-treated", "restore all its pictures first, so that every original is back in its place"
        )
    runs = select(tables.Run.id).where(tables.Run.library_id == row.id)
    session.execute(delete(tables.Item).where(tables.Item.run_id.in_(runs)))
    session.delete(row)


@router.post("/libraries/{slug}/surveys", status_code=202, summary="Start a survey")
def survey(slug: str, person: Treating, session: Session, queue: TheQueue) -> contract.Survey:
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
def surveys(slug: str, person: Looking, session: Session) -> list[contract.Survey]:
    row = the_library(session, slug)
    rows = session.scalars(
        select(tables.Survey)
        .where(tables.Survey.library_id == row.id)
        .order_by(tables.Survey.id.desc())
        .limit(10)
    )
    return [survey_view(one, slug) for one in rows]


@router.get("/surveys/{survey_id}", summary="One survey")
def one_survey(survey_id: int, person: Looking, session: Session) -> contract.Survey:
    row = the(session, tables.Survey, survey_id, "survey")
    return survey_view(row, session.get_one(tables.Library, row.library_id).slug)


@router.get("/libraries/{slug}/savings", summary="What was saved")
def the_savings(slug: str, person: Looking, session: Session) -> contract.Savings:
    return savings(session, the_library(session, slug))


def _check_schedules(upkeep: contract.Upkeep) -> None:
    for schedule in (upkeep.survey_schedule, upkeep.run_schedule):
        if schedule is not None and not (len(schedule.split()) == 5 and croniter.is_valid(schedule)):
            raise ApiError(
                "invalid-request",
                f"{schedule!r} is no schedule: give minute, hour, day, month and weekday, such as 30 2 * * *",
            )


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
    root = Path(os.path.realpath(path))
    if not root.is_dir():
        raise ApiError("folder-missing", f"there is no folder {given} on the service's machine")
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

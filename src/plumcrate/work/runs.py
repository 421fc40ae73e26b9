"""Runs: which files, in what order, how many at a time; pause, go on, stop, try again.

A run is rows. The feeder keeps a bounded number of its pictures in the queue, so that pausing or
stopping half a million files is one update, and a large run cannot bury a small one.
"""

from __future__ import annotations

import json
from typing import Any

from sqlalchemy import func, select, text, update
from sqlalchemy.orm import Session

from plumcrate.contract import ItemState, RunKind, RunRequest, RunState
from plumcrate.imaging import Level, Limits, Recipe
from plumcrate.records.database import notify
from plumcrate.records.tables import Item, Library, Run, Survey

from .queue import BULK, RUN_SURVEY, SINGLE_REQUEST, SURVEY, TREAT_PICTURE, Queue

#: A run of at most so many pictures is a single request and goes before bulk.
_FEW = 20
#: A file on which workers died this often is given up.
MOST_ATTEMPTS = 10


class RunError(Exception):
    """A run cannot be made or changed so. ``code`` is stable, the message says what to do."""

    def __init__(self, code: str, message: str) -> None:
        super().__init__(message)
        self.code = code


def recipe_of(run: Run, max_megapixels: float) -> Recipe:
    """The settings a treating run works with."""
    assert run.level is not None
    return Recipe(
        level=Level(run.level), webp=run.webp, avif=run.avif, limits=Limits(round(max_megapixels * 1e6))
    )


def create_run(session: Session, library: Library, request: RunRequest, max_megapixels: float) -> Run:
    """Makes a run and its items. Raises :class:`RunError`."""
    treating = request.kind is RunKind.TREAT
    run = Run(
        library_id=library.id,
        kind=request.kind,
        level=str(request.level or library.level) if treating else None,
        webp=treating and (library.webp if request.webp is None else request.webp),
        avif=treating and (library.avif if request.avif is None else request.avif),
        scope=request.scope.model_dump(exclude_none=True),
        force=request.force,
    )
    where, values = _scope(library, request)
    # Runs of one library are made one at a time, so that none takes another's files.
    session.execute(text("SELECT pg_advisory_xact_lock(727002, :id)"), {"id": library.id & 0x7FFFFFFF})
    _refuse_overlap(session, where, values)
    session.add(run)
    session.flush()
    if treating:
        recipe = json.dumps(recipe_of(run, max_megapixels).as_dict())
        wanted = "true" if request.force else "(f.recipe IS NULL OR f.recipe <> CAST(:recipe AS jsonb))"
    else:
        recipe = ""
        wanted = (
            "(f.before_sha256 IS NOT NULL OR f.treated_at IS NOT NULL "
            "OR EXISTS (SELECT 1 FROM copies c WHERE c.file_id = f.id))"
        )
    values |= {"run": run.id, "recipe": recipe, "most": max_megapixels * 1e6}
    session.execute(
        text(
            "INSERT INTO run_items (run_id, picture_id, file_id, path, megapixels, state, attempts, outputs) "
            "SELECT :run, f.picture_id, f.id, f.path, CASE WHEN f.width * f.height > :most THEN 0 "
            "ELSE f.width * f.height / 1e6 END, 'waiting', 0, '[]' "
            f"FROM files f JOIN pictures p ON p.id = f.picture_id WHERE {where} AND {wanted} "
            "ORDER BY p.path, f.role, f.path"
        ),
        values,
    )
    in_scope = session.execute(
        text(f"SELECT count(*) FROM files f JOIN pictures p ON p.id = f.picture_id WHERE {where}"), values
    ).scalar_one()
    files, megapixels, pictures = session.execute(
        select(
            func.count(),
            func.coalesce(func.sum(Item.megapixels), 0.0),
            func.count(Item.picture_id.distinct()),
        ).where(Item.run_id == run.id)
    ).one()
    run.files, run.megapixels = files, float(megapixels)
    run.already = in_scope - files if treating else 0
    run.priority = SINGLE_REQUEST if pictures <= _FEW else BULK
    if files == 0:
        run.state, run.finished_at = RunState.FINISHED, func.now()
    notify(session, run=run.id)
    session.flush()
    session.refresh(run)
    return run


def _scope(library: Library, request: RunRequest) -> tuple[str, dict[str, Any]]:
    where = "f.library_id = :library AND f.state <> 'gone'"
    values: dict[str, Any] = {"library": library.id}
    if request.scope.folder is not None:
        where += " AND (p.folder = :folder OR starts_with(p.folder, :below))"
        folder = request.scope.folder.strip("/")
        values |= {"folder": folder, "below": folder + "/" if folder else ""}
    if request.scope.pictures is not None:
        where += " AND p.id = ANY(:pictures)"
        values |= {"pictures": request.scope.pictures}
    return where, values


def _refuse_overlap(session: Session, where: str, values: dict[str, Any]) -> None:
    other = session.execute(
        text(
            "SELECT r.id FROM runs r JOIN run_items i ON i.run_id = r.id "
            "JOIN files f ON f.id = i.file_id JOIN pictures p ON p.id = f.picture_id "
            f"WHERE r.state IN ('running', 'paused') AND i.finished_at IS NULL AND {where} LIMIT 1"
        ),
        values,
    ).scalar()
    if other is not None:
        raise RunError(
            "run-overlaps",
            f"run {other} still has some of these files to do; wait until it has finished, or stop it",
        )


def change_state(session: Session, run: Run, action: str) -> None:
    """``pause``, ``resume`` or ``stop``. Raises :class:`RunError` when the run has ended."""
    open_states = (RunState.RUNNING, RunState.PAUSED)
    if run.state not in open_states:
        raise RunError("run-ended", f"run {run.id} has already {run.state}; start a new one")
    target = {"pause": RunState.PAUSED, "resume": RunState.RUNNING, "stop": RunState.STOPPED}[action]
    run.state = target
    if target is not RunState.RUNNING:
        session.execute(
            update(Item)
            .where(Item.run_id == run.id, Item.state == ItemState.QUEUED)
            .values(state=ItemState.WAITING, job_id=None)
        )
    if target is RunState.STOPPED:
        run.finished_at = func.now()
    notify(session, run=run.id)


def retry_failed(session: Session, run: Run, item_ids: list[int] | None = None) -> int:
    """Puts failed items back in line, all or some; returns how many."""
    query = text(
        "WITH again AS (UPDATE run_items SET state = 'waiting', attempts = 0, code = NULL, reason = NULL, "
        "finished_at = NULL WHERE run_id = :run AND state = 'failed' "
        "AND (CAST(:ids AS bigint[]) IS NULL OR id = ANY(:ids)) RETURNING *) "
        "UPDATE runs SET failed = failed - a.n, bytes_before = bytes_before - a.before, "
        "bytes_after = bytes_after - a.after, bytes_lightest = bytes_lightest - a.lightest, "
        "megapixels_done = megapixels_done - a.megapixels, "
        "state = CASE WHEN a.n > 0 THEN 'running' ELSE state END, "
        "finished_at = CASE WHEN a.n > 0 THEN NULL ELSE finished_at END "
        "FROM (SELECT count(*) AS n, coalesce(sum(bytes_before), 0) AS before, "
        "coalesce(sum(bytes_after), 0) AS after, coalesce(sum(bytes_lightest), 0) AS lightest, "
        "coalesce(sum(megapixels), 0) AS megapixels FROM again) a WHERE runs.id = :run RETURNING a.n"
    )
    count: int = session.execute(query, {"run": run.id, "ids": item_ids}).scalar_one()
    notify(session, run=run.id)
    return count


def start_survey(session: Session, queue: Queue, survey: Survey) -> None:
    """Puts a survey in the queue."""
    (survey.job_id,) = queue.add(session, RUN_SURVEY, [{"survey_id": survey.id}], SURVEY)


def feed(session: Session, queue: Queue, at_a_time: int) -> None:
    """One round of the feeder; the caller holds the feeder's lock.

    Puts back what a dead worker left, tops up each running run, and ends those that are done.
    """
    session.execute(
        text(
            "UPDATE run_items i SET state = 'waiting', job_id = NULL FROM runs r "
            "WHERE r.id = i.run_id AND r.state IN ('running', 'paused') AND i.state IN ('queued', 'working') "
            "AND NOT EXISTS (SELECT 1 FROM procrastinate_jobs j WHERE j.id = i.job_id "
            "AND j.status IN ('todo', 'doing'))"
        )
    )
    forgotten = session.scalars(
        text(
            "SELECT s.id FROM surveys s WHERE s.state IN ('waiting', 'running') AND NOT EXISTS "
            "(SELECT 1 FROM procrastinate_jobs j WHERE j.id = s.job_id AND j.status IN ('todo', 'doing'))"
        )
    ).all()
    for survey_id in forgotten:
        start_survey(session, queue, session.get_one(Survey, survey_id))
    for run in session.scalars(select(Run).where(Run.state == RunState.RUNNING).order_by(Run.id)):
        _top_up(session, queue, run, at_a_time)


def _top_up(session: Session, queue: Queue, run: Run, at_a_time: int) -> None:
    pictures: dict[str, int] = dict(
        session.execute(
            select(Item.state, func.count(Item.picture_id.distinct()))
            .where(Item.run_id == run.id, Item.finished_at.is_(None))
            .group_by(Item.state)
        ).all()
    )
    if not pictures:
        run.state, run.finished_at = RunState.FINISHED, func.now()
        notify(session, run=run.id)
        return
    in_flight = pictures.get(ItemState.QUEUED, 0) + pictures.get(ItemState.WORKING, 0)
    if in_flight >= at_a_time or not pictures.get(ItemState.WAITING):
        return
    chosen = session.scalars(
        select(Item.picture_id)
        .where(Item.run_id == run.id, Item.state == ItemState.WAITING)
        .group_by(Item.picture_id)
        .order_by(func.min(Item.id))
        .limit(at_a_time - in_flight)
    ).all()
    jobs = queue.add(
        session,
        TREAT_PICTURE,
        [{"run_id": run.id, "picture_id": chosen_id} for chosen_id in chosen],
        run.priority,
    )
    for picture_id, job_id in zip(chosen, jobs, strict=True):
        session.execute(
            update(Item)
            .where(Item.run_id == run.id, Item.picture_id == picture_id, Item.state == ItemState.WAITING)
            .values(state=ItemState.QUEUED, job_id=job_id)
        )

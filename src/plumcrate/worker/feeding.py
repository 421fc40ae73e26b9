"""The feeder: keeps a bounded number of pictures of each running run in the queue.

Pausing or stopping half a million files is therefore one update, a large run cannot bury a small one,
libraries get their fair share, and hours and shares of the machine are kept.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from datetime import UTC, datetime
from typing import Any
from zoneinfo import ZoneInfo

import structlog
from sqlalchemy import ColumnElement, func, or_, select, true, update
from sqlalchemy.orm import Session

from plumcrate.contract.automation import Automation
from plumcrate.contract.jobs import JobKind, ProofRequest
from plumcrate.contract.runs import ItemState, RunKind, RunOrigin, RunRequest, RunState
from plumcrate.jobs.long_work import restart_lost, start_unless_open
from plumcrate.jobs.reporting import start_report
from plumcrate.jobs.schedules import due
from plumcrate.queue.tasks import BULK, COPIES, TREAT_PICTURE, Queue, without_a_place
from plumcrate.records.database import lost_connection, notify
from plumcrate.records.queries.tallies import fold
from plumcrate.records.tables import Item, Journal, Library, Run
from plumcrate.runs.allowance import Meter, give_back
from plumcrate.runs.runs import automation_of, create_run
from plumcrate.weighing.starting import start_weighings

log = structlog.get_logger()

#: So many pictures of a run wait in the queue for each child that works.
_AHEAD = 4


def feed(
    session: Session,
    queue: Queue,
    children: int,
    now: datetime | None = None,
    *,
    thorough: bool = True,
    away: Mapping[int, str] | None = None,
) -> bool:
    """One round; the caller holds the feeder's lock. ``children``: of all workers together. Whether any run
    is running.

    Tops up each running run and ends those done. A ``thorough`` round also puts back what a dead worker
    left, starts what is due and folds the totals. ``away``: libraries whose folder is not there, and why:
    their runs wait.
    """
    away = away or {}
    now = now or datetime.now(UTC)
    if thorough:
        libraries = list(session.scalars(select(Library)))
        _put_back_lost(session)
        restart_lost(session, queue)
        for library in libraries:
            try:
                with session.begin_nested():
                    start_what_is_due(session, queue, library, now)
            except Exception as error:
                if lost_connection(error):
                    raise
                log.exception("nothing was started by schedule", library=library.slug)
        fold(session)
        give_back(session)
    running = session.execute(
        select(Run, Library)
        .join(Library, Library.id == Run.library_id)
        .where(Run.state == RunState.RUNNING)
        .order_by(Run.priority.desc(), Run.id)
    ).all()
    bulk: dict[int, int] = {}  # pictures of bulk runs in flight, by library
    meters: dict[int, Meter] = {}
    for run, library in running:
        automation = automation_of(library)
        if run.kind == RunKind.TREAT and library.id not in meters:
            meters[library.id] = Meter(session, library, automation, now)
        waits_for = away.get(run.library_id)
        if waits_for is None and run.priority <= BULK and not _within_hours(automation, now):
            waits_for = f"the hours {', '.join(automation.hours)} ({automation.time_zone})"
        most, used = _AHEAD * children, 0
        if run.priority <= BULK:
            used = bulk.get(library.id, 0)
            if automation.share < 100:
                most = max(1, children * automation.share // 100)
        meter = meters[library.id] if run.kind == RunKind.TREAT else None
        topped = _top_up(session, queue, run, 0 if waits_for else most, used, meter)
        if run.priority <= BULK:
            bulk[library.id] = used + topped.in_flight
        waits_for = waits_for or topped.waits_for
        if waits_for != run.waits_for:
            run.waits_for = waits_for
            notify(session, run=run.id)
    for meter in meters.values():
        meter.give_notice()
    return bool(running)


def _put_back_lost(session: Session) -> None:
    open_runs = "run_id IN (SELECT id FROM runs WHERE state IN ('running', 'paused'))"
    lost = without_a_place(session, "run_items", "job_id", f"state IN ('queued', 'working') AND {open_runs}")
    if lost:
        session.execute(update(Item).where(Item.id.in_(lost)).values(state=ItemState.WAITING, job_id=None))


def _within_hours(automation: Automation, now: datetime) -> bool:
    """Whether bulk runs may work; hours that pass midnight end on the next day."""
    if not automation.hours:
        return True
    clock = f"{now.astimezone(ZoneInfo(automation.time_zone)):%H:%M}"
    for span in automation.hours:
        begin, _, end = span.partition("-")
        if (begin <= clock < end) if begin < end else (clock >= begin or clock < end):
            return True
    return False


def start_what_is_due(session: Session, queue: Queue, library: Library, now: datetime) -> None:
    """Starts scheduled surveys, runs and weighings, once for each time that has come."""
    automation = automation_of(library)
    library.next_survey_at, come = due(automation.survey_schedule, library.next_survey_at, automation, now)
    if come and start_unless_open(session, queue, library, JobKind.SURVEY):
        log.info("a survey starts by schedule", library=library.slug)
    library.next_run_at, come = due(automation.run_schedule, library.next_run_at, automation, now)
    if come and not library.dormant:
        run = create_run(session, library, RunRequest(library=library.slug), RunOrigin.SCHEDULE, BULK)
        log.info("a run starts by schedule", library=library.slug, run=run.id, files=run.files)
    start_weighings(session, queue, library, automation, now)
    start_report(session, queue, library, automation, now)


@dataclass(frozen=True, slots=True)
class _Topped:
    """How many pictures are in flight, and what a run waits for beside hours and volumes."""

    in_flight: int
    waits_for: str | None = None


def _top_up(session: Session, queue: Queue, run: Run, most: int, used: int, meter: Meter | None) -> _Topped:
    """Adds pictures to the queue up to ``most`` less ``used``, as far as their meter lets them through."""
    pictures: dict[str, int] = dict(
        session.execute(
            select(Item.state, func.count(Item.picture_id.distinct()))
            .where(Item.run_id == run.id, Item.state.in_([ItemState.QUEUED, ItemState.WORKING]))
            .group_by(Item.state)
        ).all()
    )
    in_flight = sum(pictures.values())
    room = most - used - in_flight
    chosen, waits_for = _chosen(session, run, room, meter)
    if not chosen and not in_flight:
        _end_if_done(session, queue, run)
    if chosen:
        _queue_up(session, queue, run, chosen)
    return _Topped(in_flight + len(chosen), waits_for)


def _chosen(session: Session, run: Run, room: int, meter: Meter | None) -> tuple[dict[int, int], str | None]:
    """The pictures of a run that may begin or go on, and why others may not."""
    first = _next_pictures(session, run, room)
    if meter is None or not first:
        return first, None
    through = meter.let_through(run, first)
    if len(through) == len(first):
        return first, None
    chosen = {picture: first[picture] for picture in through}
    chosen |= _next_pictures(session, run, room - len(chosen), Item.admitted.is_(True))
    if run.waits_for != meter.words() and len(chosen) < room:
        # Those that have counted may be anywhere among the others; when none is left, they are not sought
        # again.
        more = meter.let_through(run, meter.free(run, room - len(chosen)))
        chosen |= dict.fromkeys(more, 0)
        if more:
            return chosen, None
    return chosen, meter.words()


def _next_pictures(
    session: Session, run: Run, room: int, which: ColumnElement[bool] | None = None
) -> dict[int, int]:
    """The first pictures that wait, in the run's order, each with its stage; of all, or of ``which``.

    A walk along the index, not a sort of all.
    """
    if room <= 0:
        return {}
    waiting = session.execute(
        select(Item.picture_id, Item.stage)
        .where(
            Item.run_id == run.id,
            Item.state == ItemState.WAITING,
            or_(Item.not_before.is_(None), Item.not_before <= func.now()),
            which if which is not None else true(),
        )
        .order_by(Item.id)
        .limit(room * 16)
    )
    stages: dict[int, int] = {}
    for picture_id, stage in waiting:
        if picture_id not in stages and len(stages) == room:
            continue
        stages[picture_id] = min(stage, stages.get(picture_id, stage))
    return stages


def _end_if_done(session: Session, queue: Queue, run: Run) -> None:
    if session.scalar(select(Item.id).where(Item.run_id == run.id, Item.finished_at.is_(None)).limit(1)):
        return  # some wait for their time
    if run.kind == RunKind.HAND_BACK and not run.proof:
        due_later = Journal.library_id == run.library_id, Journal.due_at > func.now()
        if session.scalar(select(Journal.id).where(*due_later).limit(1)):
            return  # what was put aside is not gone yet
        library = session.get_one(Library, run.library_id)
        start_unless_open(session, queue, library, JobKind.PROOF, ProofRequest(run_id=run.id))
        return
    run.state, run.finished_at = RunState.FINISHED, func.now()
    notify(session, run=run.id)


def _queue_up(session: Session, queue: Queue, run: Run, chosen: dict[int, int]) -> None:
    jobs: dict[int, int] = {}
    for later in (False, True):
        pictures = [picture for picture, stage in chosen.items() if bool(stage) is later]
        arguments: list[dict[str, Any]] = [{"run_id": run.id, "picture_id": one} for one in pictures]
        # What is served already in light form waits for its copies behind single requests.
        priority = min(run.priority, COPIES) if later else run.priority
        jobs |= dict(zip(pictures, queue.add(session, TREAT_PICTURE, arguments, priority), strict=True))
    for picture_id, job_id in jobs.items():
        session.execute(
            update(Item)
            .where(
                Item.run_id == run.id,
                Item.picture_id == picture_id,
                Item.state == ItemState.WAITING,
                or_(Item.not_before.is_(None), Item.not_before <= func.now()),
                Item.admitted if run.kind == RunKind.TREAT else true(),
            )
            .values(state=ItemState.QUEUED, job_id=job_id)
        )

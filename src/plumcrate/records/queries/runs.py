"""Runs and their items as the wire shows them."""

from __future__ import annotations

import contextlib
from collections.abc import Sequence
from datetime import datetime, timedelta
from typing import Any

from sqlalchemy import ColumnElement, func, literal, select, text, true, tuple_
from sqlalchemy.orm import Session

from plumcrate.contract.common import Page
from plumcrate.contract.recipes import RecipeSettings
from plumcrate.contract.runs import Item as ItemView
from plumcrate.contract.runs import ItemSort, ItemState, OutputReport, RunKind, RunOrigin, RunState, Scope
from plumcrate.contract.runs import Run as RunView
from plumcrate.records.tables import Item, Library, Run, WorkerRow

from . import cursors

#: The rate is taken over this much of the latest work, in seconds.
_WINDOW = 60.0
#: A worker that was heard from so lately lives.
_LATELY = timedelta(seconds=10)
#: So many paths in hand are shown of a run.
_SHOWN_IN_HAND = 16


def runs_page(
    session: Session,
    library_id: int | None,
    condition: ColumnElement[bool],
    *,
    kinds: Sequence[RunKind] = (),
    states: Sequence[RunState] = (),
    after: str | None,
    limit: int,
) -> Page[RunView]:
    """The latest first of those of which the condition holds; of one library, or of all. Raises Refusal for a
    cursor of another list."""
    query = select(Run).where(condition)
    if library_id is not None:
        query = query.where(Run.library_id == library_id)
    if kinds:
        query = query.where(Run.kind.in_(kinds))
    if states:
        query = query.where(Run.state.in_(states))
    return cursors.by_number(
        session,
        query,
        Run.id,
        lambda rows: run_views(session, rows),
        of=f"runs of {library_id or 'all'}",
        after=after,
        limit=limit,
    )


def run_view(session: Session, run: Run) -> RunView:
    """A run with its rate, the time left, and the paths in hand."""
    return run_views(session, [run])[0]


def run_views(session: Session, runs: Sequence[Run]) -> list[RunView]:
    """Those runs, in four statements whatever their number."""
    libraries = select(Library.id, Library.slug).where(Library.id.in_({run.library_id for run in runs}))
    slugs = dict(session.execute(libraries).all())
    running = [run.id for run in runs if run.state == RunState.RUNNING]
    in_hand = _in_hand(session, running)
    rates = _rates(session, running)
    bulk_in_hand = any(run.priority <= 0 and in_hand.get(run.id) for run in runs)
    held_back = _held_back(session) if bulk_in_hand else None
    return [
        _view(
            run,
            slugs.get(run.library_id, ""),
            in_hand.get(run.id, []),
            rates.get(run.id),
            held_back if run.priority <= 0 and in_hand.get(run.id) else None,
        )
        for run in runs
    ]


def _in_hand(session: Session, run_ids: Sequence[int]) -> dict[int, list[str]]:
    """The paths that are treated now, a few of each run."""
    found: dict[int, list[str]] = {}
    if run_ids:
        query = select(Item.run_id, Item.path).where(
            Item.run_id.in_(run_ids), Item.state == ItemState.WORKING
        )
        for run_id, path in session.execute(query.order_by(Item.id)):
            paths = found.setdefault(run_id, [])
            if len(paths) < _SHOWN_IN_HAND:
                paths.append(path)
    return found


def _held_back(session: Session) -> str | None:
    """By what bulk work is held back on a worker that lives."""
    query = select(WorkerRow.held_back).where(
        WorkerRow.held_back.is_not(None), WorkerRow.heard_at > func.now() - _LATELY
    )
    return session.scalar(query.limit(1))


def _view(run: Run, slug: str, in_hand: list[str], rate: float | None, held_back: str | None) -> RunView:
    left = run.megapixels - run.megapixels_done
    settings = RecipeSettings.model_validate(run.settings) if run.settings else None
    return RunView(
        id=run.id,
        library=slug,
        kind=RunKind(run.kind),
        state=RunState(run.state),
        origin=RunOrigin(run.origin),
        recipe_version=run.recipe_version,
        level=settings.level if settings else None,
        copies=settings.copies if settings else [],
        waits_for=run.waits_for if run.state == RunState.RUNNING else None,
        held_back=held_back,
        proof=run.proof,
        scope=Scope.model_validate(run.scope),
        files=run.files,
        done=run.done,
        passed=run.passed,
        failed=run.failed,
        left=run.files - run.done - run.passed - run.failed,
        already=run.already,
        left_out=run.left_out,
        elsewhere=run.elsewhere,
        bytes_before=run.bytes_before,
        bytes_after=run.bytes_after,
        bytes_lightest=run.bytes_lightest,
        megapixels=run.megapixels,
        megapixels_done=run.megapixels_done,
        megapixels_per_second=rate,
        seconds_left=max(0.0, left) / rate if rate else None,
        in_hand=in_hand,
        created_at=run.created_at,
        finished_at=run.finished_at,
    )


def _rates(session: Session, run_ids: Sequence[int]) -> dict[int, float]:
    """Megapixels a second over the latest stretch of work; none until there is enough to say."""
    if not run_ids:
        return {}
    rows = session.execute(
        text(
            "SELECT run_id, sum(megapixels), extract(epoch FROM now() - min(started_at)), count(*) "
            "FROM run_items "
            "WHERE run_id = ANY(:runs) AND finished_at > now() - make_interval(secs => :window) "
            "AND code IS DISTINCT FROM 'taken-over' GROUP BY run_id"
        ),
        {"runs": list(run_ids), "window": _WINDOW},
    )
    return {
        run_id: float(megapixels) / float(seconds)
        for run_id, megapixels, seconds, count in rows
        if count >= 3 and seconds and megapixels
    }


def item_view(item: Item) -> ItemView:
    seconds = None
    if item.finished_at and item.started_at:
        seconds = (item.finished_at - item.started_at).total_seconds()
    fields = ItemView.model_fields.keys() - {"seconds", "outputs"}
    outputs = [
        OutputReport(**report | {"worst": (report.get("worst_place") or {}).get("score")})
        for report in item.outputs
    ]
    return ItemView(seconds=seconds, outputs=outputs, **{name: getattr(item, name) for name in fields})


def items_page(
    session: Session, run: Run, states: list[ItemState], *, sort: ItemSort, after: str | None, limit: int
) -> Page[ItemView]:
    """Items of a run: the latest results first, then those in hand, in the queue and waiting, each in their
    order; or all by their numbers. Raises Refusal for a cursor of another list."""
    of = f"items of {run.id} by {sort}"
    part, last = _place(after, of, sort)
    rows: list[tuple[int, Item]] = []
    for number in range(part, len(_PARTS[sort])):
        query = select(Item).where(Item.run_id == run.id, *_PARTS[sort][number])
        if states:
            query = query.where(Item.state.in_([str(state) for state in states]))
        if number == 0 and sort is ItemSort.LATEST:
            query = query.order_by(Item.finished_at.desc(), Item.id.desc())
            beyond = tuple_(Item.finished_at, Item.id) < tuple_(*map(literal, last)) if last else true()
        else:
            query = query.order_by(Item.id)
            beyond = Item.id > last[0] if last else true()
        found = session.scalars(query.where(beyond).limit(limit + 1 - len(rows)))
        rows += [(number, row) for row in found]
        last = []
        if len(rows) > limit:
            break
    total = _ended(run, states) + _not_ended(session, run, states)
    cursor = None
    if len(rows) > limit:
        number, item = rows[limit - 1]
        ends = number == 0 and sort is ItemSort.LATEST and item.finished_at is not None
        place = [item.finished_at.isoformat(), item.id] if ends and item.finished_at else [item.id]
        cursor = cursors.written(of, [number, *place])
    return Page[ItemView](rows=[item_view(row) for _, row in rows[:limit]], total=total, cursor=cursor)


#: Each is listed before the next one begins.
_PARTS: dict[ItemSort, tuple[tuple[ColumnElement[bool], ...], ...]] = {
    ItemSort.LATEST: (
        (Item.finished_at.is_not(None),),
        *(
            (Item.finished_at.is_(None), Item.state == state)
            for state in (ItemState.WORKING, ItemState.QUEUED, ItemState.WAITING)
        ),
    ),
    ItemSort.NUMBER: ((),),
}


def _place(after: str | None, of: str, sort: ItemSort) -> tuple[int, list[Any]]:
    """The part that a cursor leads into, and the last row of it that was seen."""
    if after is None:
        return 0, []
    match cursors.read(after, of):
        case [0, str(moment), int(number)] if sort is ItemSort.LATEST and cursors.is_whole(number):
            with contextlib.suppress(ValueError):
                return 0, [datetime.fromisoformat(moment), number]
        case [int(part), int(number)] if cursors.is_whole(part, number) and int(
            sort is ItemSort.LATEST
        ) <= part < len(_PARTS[sort]):
            return part, [number]
    raise cursors.not_one_of_this_list()


_ENDED = {ItemState.DONE, ItemState.PASSED, ItemState.FAILED}


def _ended(run: Run, states: list[ItemState]) -> int:
    """How many items of these states have ended, by the run's counters; no states: all."""
    counts = {ItemState.DONE: run.done, ItemState.PASSED: run.passed, ItemState.FAILED: run.failed}
    return sum(count for state, count in counts.items() if not states or state in states)


def _not_ended(session: Session, run: Run, states: list[ItemState]) -> int:
    left = run.files - run.done - run.passed - run.failed
    if not states:
        return left
    under_way = dict(
        session.execute(
            select(Item.state, func.count())
            .where(Item.run_id == run.id, Item.state.in_([ItemState.QUEUED, ItemState.WORKING]))
            .group_by(Item.state)
        ).all()
    )
    counts = {ItemState(state): count for state, count in under_way.items()}
    counts[ItemState.WAITING] = left - sum(under_way.values())
    return sum(counts.get(state, 0) for state in set(states) - _ENDED)


def end_item(session: Session, item: Item, state: ItemState, at: datetime) -> None:
    """Ends an item and keeps the run's counters, in the caller's transaction."""
    item.state, item.finished_at = state, at
    session.flush()
    session.execute(
        text(
            "UPDATE runs SET done = done + :done, passed = passed + :passed, failed = failed + :failed, "
            "bytes_before = bytes_before + :before, bytes_after = bytes_after + :after, "
            "bytes_lightest = bytes_lightest + :lightest, megapixels_done = megapixels_done + :megapixels "
            "WHERE id = :run"
        ),
        {
            "run": item.run_id,
            "done": int(state == ItemState.DONE),
            "passed": int(state == ItemState.PASSED),
            "failed": int(state == ItemState.FAILED),
            "before": item.bytes_before or 0,
            "after": item.bytes_after or 0,
            "lightest": item.bytes_lightest or 0,
            "megapixels": item.megapixels,
        },
    )

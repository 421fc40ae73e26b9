"""Runs: which files, in what order; pause, go on, stop, try again.

A run is rows. What comes first is said by its priority: a new upload, then a single request, then bulk.
No file waits in two runs: a request that is small, urgent or of another kind takes the files it wants
over from the runs in which they wait; a bulk run leaves such files to the run that has them.
"""

from __future__ import annotations

from typing import Any

from sqlalchemy import ColumnElement, and_, case, exists, func, insert, literal, or_, select, text, update
from sqlalchemy.dialects.postgresql import JSONB
from sqlalchemy.orm import Session

from plumcrate.contract.automation import Automation
from plumcrate.contract.pictures import FileState
from plumcrate.contract.recipes import RecipeSettings
from plumcrate.contract.runs import ItemState, RunKind, RunOrigin, RunRequest, RunState, Scope
from plumcrate.deciding.decision import Variant, resolved, variant_of, variants
from plumcrate.deciding.planning import DUE, PRESENT, left_alone, settings_of, settled
from plumcrate.deciding.shaping import shapes_of
from plumcrate.deciding.sizing import settle_sizes
from plumcrate.imaging import Recipe
from plumcrate.queue.locks import RUNS_LOCK
from plumcrate.queue.tasks import BULK, NEW_UPLOAD, SINGLE_REQUEST
from plumcrate.records.database import notify
from plumcrate.records.queries.facets import fits
from plumcrate.records.queries.folders import below
from plumcrate.records.queries.libraries import current_recipe
from plumcrate.records.queries.sums import refresh_pictures
from plumcrate.records.tables import Derived, File, Item, Journal, Library, Picture, Result, Run
from plumcrate.refusal import Refusal

#: A run of at most so many pictures is a single request and goes before bulk.
_FEW = 20
#: A file on which workers died this often is given up.
MOST_ATTEMPTS = 10
OPEN = (RunState.RUNNING, RunState.PAUSED)


def recipe_of(session: Session, run: Run, number: int) -> Recipe:
    """The recipe of one of a run's variants, as it was when the run was made."""
    # Runs of before have only their settings.
    held = run.variants or resolved(
        variants(
            RecipeSettings.model_validate(run.settings), session.get_one(Library, run.library_id).surveyed_at
        )
    )
    recipe = held[number]
    assert recipe is not None
    return Recipe.from_dict(recipe)


def create_run(
    session: Session,
    library: Library,
    request: RunRequest,
    origin: RunOrigin = RunOrigin.PERSON,
    priority: int | None = None,
) -> Run:
    """Makes a run and its items. Raises :class:`Refusal`."""
    treating = request.kind is RunKind.TREAT
    by_itself = origin is not RunOrigin.PERSON
    if request.kind is RunKind.HAND_BACK and request.confirm != library.slug:
        raise Refusal(
            "not-confirmed", f"to hand the library back, confirm with its short name, {library.slug}"
        )
    recipe = current_recipe(session, library.id)
    settings = settings_of(recipe)
    if treating:
        settle_sizes(session, library, _pictures_of(library, request.scope))
        changes = {"level": request.level, "copies": request.copies}
        settings = settings.model_copy(
            update={key: value for key, value in changes.items() if value is not None}
        )
    run = Run(
        library_id=library.id,
        kind=request.kind,
        origin=origin,
        settings=settings.model_dump(mode="json") if treating else None,
        recipe_version=recipe.version if treating and settings == settings_of(recipe) else None,
        scope=request.scope.model_dump(exclude_none=True, exclude_defaults=True),
        force=request.force,
        overwrite=request.overwrite,
    )
    # Runs of one library are made one at a time, so that none takes another's files.
    session.execute(select(func.pg_advisory_xact_lock(RUNS_LOCK, library.id & 0x7FFFFFFF)))
    session.add(run)
    session.flush()
    if request.kind is RunKind.HAND_BACK:
        _stop_others(session, run)
    where = _where(library, request.scope)
    if by_itself:
        # What a person put back stays until a person says otherwise.
        where = and_(where, ~File.held)
    else:
        library.dormant = request.kind is RunKind.HAND_BACK or (library.dormant and not treating)
    if priority is None:
        some = session.scalars(_joined(File.picture_id).where(where).distinct().limit(_FEW + 1)).all()
        priority = SINGLE_REQUEST if request.first or len(some) <= _FEW else BULK
    run.priority = priority
    free: ColumnElement[bool] = literal(True)
    if _others_open(session, run):
        if priority > BULK or not treating:
            _take_over(session, run, where)
        else:
            free = ~_open_elsewhere()
            run.elsewhere = session.scalar(_joined(func.count()).where(where, ~free)) or 0
    if treating:
        _add_treatments(session, run, library, settings, and_(where, free))
    else:
        _add_restores(session, run, where)
    run.files, run.megapixels = session.execute(
        select(func.count(), func.coalesce(func.sum(Item.megapixels), 0.0)).where(Item.run_id == run.id)
    ).one()
    if run.files == 0 and request.kind is not RunKind.HAND_BACK:
        run.state, run.finished_at = RunState.FINISHED, func.now()
    notify(session, run=run.id)
    session.flush()
    session.refresh(run)
    return run


def _stop_others(session: Session, run: Run) -> None:
    """What is handed back is not treated meanwhile; files in hand are finished first, and then put back."""
    others = select(Run).where(Run.library_id == run.library_id, Run.state.in_(OPEN), Run.id != run.id)
    for other in session.scalars(others).all():
        change_state(session, other, "stop")


def _joined(*columns: Any) -> Any:
    return select(*columns).select_from(File).join(Picture, Picture.id == File.picture_id)


def _where(library: Library, scope: Scope) -> ColumnElement[bool]:
    conditions = [File.library_id == library.id, DUE]
    if scope.folder is not None:
        conditions.append(below(Picture.folder, scope.folder))
    if scope.pictures is not None:
        conditions.append(Picture.id == func.any(scope.pictures))
    if scope.which is not None:
        conditions += fits(scope.which)
    if scope.untreated:
        conditions.append(File.treated_at.is_(None))
    for number, condition in ((scope.run, literal(True)), (scope.failed_of, Item.state == ItemState.FAILED)):
        if number is not None:
            conditions.append(File.id.in_(select(Item.file_id).where(Item.run_id == number, condition)))
    return and_(*conditions)


def _pictures_of(library: Library, scope: Scope) -> ColumnElement[bool] | None:
    """The pictures of a scope, for their sizes; None for the whole library."""
    conditions = [] if scope.which is None else fits(scope.which)
    if scope.pictures is not None:
        conditions.append(Picture.id == func.any(scope.pictures))
    if scope.folder is not None:
        conditions.append(below(Picture.folder, scope.folder))
    return and_(*conditions) if conditions else None


def _others_open(session: Session, run: Run) -> bool:
    others = select(Run.id).where(Run.library_id == run.library_id, Run.state.in_(OPEN), Run.id != run.id)
    return session.scalar(others.limit(1)) is not None


def _open_elsewhere() -> ColumnElement[bool]:
    return exists(
        select(1)
        .where(
            Item.file_id == File.id, Item.finished_at.is_(None), Run.id == Item.run_id, Run.state.in_(OPEN)
        )
        .correlate(File)
    )


def _take_over(session: Session, run: Run, where: ColumnElement[bool]) -> None:
    """Files that wait in other runs are theirs no more; those in hand are finished there first."""
    taken = (
        update(Item)
        .where(
            Item.file_id.in_(_joined(File.id).where(where)),
            Item.run_id.in_(select(Run.id).where(Run.state.in_(OPEN), Run.id != run.id)),
            Item.state.in_([ItemState.WAITING, ItemState.QUEUED]),
        )
        .values(
            state=ItemState.PASSED,
            code="taken-over",
            reason=f"run {run.id} took it over",
            finished_at=func.now(),
        )
        .returning(Item.run_id, Item.megapixels)
        .cte("taken")
    )
    sums = select(
        taken.c.run_id, func.count().label("n"), func.sum(taken.c.megapixels).label("megapixels")
    ).group_by(taken.c.run_id)
    for run_id, count, megapixels in session.execute(sums).all():
        session.execute(
            update(Run)
            .where(Run.id == run_id)
            .values(passed=Run.passed + count, megapixels_done=Run.megapixels_done + megapixels)
        )
        notify(session, run=run_id)


def _add_treatments(
    session: Session,
    run: Run,
    library: Library,
    settings: RecipeSettings,
    where: ColumnElement[bool],
) -> None:
    ways = variants(settings, library.surveyed_at)
    run.variants = resolved(ways)
    number = variant_of(ways)
    leave = left_alone(ways, number)
    as_it_is = settled(ways, number, shapes_of(session, library.id))
    unwanted = and_(File.unwanted, PRESENT)
    wanted = or_(unwanted, ~leave if run.force else and_(~leave, ~as_it_is))
    leave = and_(leave, ~unwanted)
    counts = session.execute(
        _joined(func.count(), func.count().filter(leave), func.count().filter(wanted)).where(where)
    ).one()
    run.left_out, run.already = counts[1], counts[0] - counts[1] - counts[2]
    _add_items(session, run, and_(where, wanted), number)
    if run.left_out:
        _say_left_out(session, ways, number, and_(where, leave))


def _add_restores(session: Session, run: Run, where: ColumnElement[bool]) -> None:
    copies = exists(select(1).where(Derived.file_id == File.id).correlate(File))
    ours = or_(File.before_sha256.is_not(None), File.treated_at.is_not(None), copies)
    made: ColumnElement[bool] = literal(False)
    if run.kind == RunKind.HAND_BACK:
        # What was made for a size has no original to go back to; when the library is handed back it goes, and
        # what is being made at this moment is there by the time its turn comes.
        made = or_(PRESENT, _in_hand())
        ours = or_(ours, _in_hand())
        where = or_(where, and_(File.library_id == run.library_id, _in_hand()))
    # The same of such a file under another name; a copy that somebody uses by itself stays.
    stray = and_(File.before_sha256.is_(None), _made_as("size", "copy", "conversion"))
    ours = case((File.size_name.is_not(None), made), (stray, and_(made, _made_as("size"))), else_=ours)
    _add_items(session, run, and_(where, ours), literal(0))


def _in_hand() -> ColumnElement[bool]:
    """Whether a file is being treated at this moment, or a change of it that a dead worker left is still to
    be settled: by the time its turn comes, it is."""
    working = select(1).where(Item.file_id == File.id, Item.state == ItemState.WORKING)
    unsettled = select(1).where(Journal.file_id == File.id, Journal.action != "discard")
    return or_(exists(working.correlate(File)), exists(unsettled.correlate(File)))


def _made_as(*purposes: str) -> ColumnElement[bool]:
    """Whether a file's bytes were made by us for something else than its name."""
    ours = Result.library_id == File.library_id, Result.sha256 == File.sha256
    return exists(select(1).where(*ours, Result.purpose.in_(purposes)).correlate(File))


def _add_items(session: Session, run: Run, where: ColumnElement[bool], number: ColumnElement[int]) -> None:
    row = _joined(
        literal(run.id),
        File.picture_id,
        File.id,
        File.path,
        File.width * File.height / 1e6,
        number,
        literal(str(ItemState.WAITING)),
        literal(0),
        literal(0),
        literal(0),
        literal([], JSONB),
    )
    columns = [
        "run_id",
        "picture_id",
        "file_id",
        "path",
        "megapixels",
        "variant",
        "state",
        "attempts",
        "tries",
        "stage",
        "outputs",
    ]
    session.execute(
        insert(Item).from_select(columns, row.where(where).order_by(File.picture_id, File.role, File.id))
    )


def _say_left_out(
    session: Session, ways: list[Variant], number: ColumnElement[int], where: ColumnElement[bool]
) -> None:
    """New files that the recipe leaves alone are no longer called new, and say why."""
    decided = _joined(File.id, number.label("number")).where(where, File.state == FileState.NEW).subquery()
    reason = case(
        {index: variant.because for index, variant in enumerate(ways) if variant.recipe is None},
        value=decided.c.number,
    )
    changed = session.scalars(
        update(File)
        .where(File.id == decided.c.id)
        .values(state=FileState.LEFT_ALONE, reason=reason)
        .returning(File.picture_id)
    ).all()
    refresh_pictures(session, list(set(changed)))


def change_state(session: Session, run: Run, action: str) -> None:
    """``pause``, ``resume`` or ``stop``. Raises :class:`Refusal` when the run has ended."""
    if run.state not in OPEN:
        raise Refusal("run-ended", f"run {run.id} has already {run.state}; start a new one")
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
    """Puts failed items back in line, all or some; returns how many.

    Raises :class:`Refusal` for a run that was stopped. A hand-back has to be proved again.
    """
    if run.state == RunState.STOPPED:
        raise Refusal("run-ended", f"run {run.id} was stopped for good; start a new one")
    run.proof = None
    session.flush()
    query = text(
        "WITH again AS (UPDATE run_items SET state = 'waiting', attempts = 0, tries = 0, code = NULL, "
        "admitted = false, reason = NULL, finished_at = NULL, not_before = NULL "
        "WHERE run_id = :run AND state = 'failed' "
        "AND (CAST(:ids AS bigint[]) IS NULL OR id = ANY(:ids)) RETURNING *) "
        "UPDATE runs SET failed = failed - a.n, bytes_before = bytes_before - a.before, "
        "bytes_after = bytes_after - a.after, bytes_lightest = bytes_lightest - a.lightest, "
        "megapixels_done = megapixels_done - a.megapixels, "
        "state = CASE WHEN a.n > 0 AND state <> 'paused' THEN 'running' ELSE state END, "
        "finished_at = CASE WHEN a.n > 0 THEN NULL ELSE finished_at END "
        "FROM (SELECT count(*) AS n, coalesce(sum(bytes_before), 0) AS before, "
        "coalesce(sum(bytes_after), 0) AS after, coalesce(sum(bytes_lightest), 0) AS lightest, "
        "coalesce(sum(megapixels), 0) AS megapixels FROM again) a WHERE runs.id = :run RETURNING a.n"
    )
    count: int = session.execute(query, {"run": run.id, "ids": item_ids}).scalar_one()
    notify(session, run=run.id)
    return count


def take_in(session: Session, library: Library, picture_ids: list[int], at_once: bool) -> Run:
    """A run over pictures that have just arrived."""
    request = RunRequest(library=library.slug, scope=Scope(pictures=picture_ids))
    few = len(picture_ids) <= _FEW
    priority = (NEW_UPLOAD if few else SINGLE_REQUEST) if at_once else BULK
    return create_run(session, library, request, RunOrigin.ARRIVAL, priority)


def automation_of(library: Library) -> Automation:
    return Automation.model_validate(library.automation)
